"""Fidelity on the surface: what the source gives at points of the surface against what the sheet gives there."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.baking.carried import PixelsOf, material_at, read_source
from fasciculum.baking.target import Target
from fasciculum.kernels.sampling import read_sheet
from fasciculum.model.scene import Scene
from fasciculum.progress import SILENT, Progress
from fasciculum.units import linear_to_srgb, srgb_to_linear


@dataclass(frozen=True)
class Match:
    """How one surface matches: PSNR in dB for each map, and the normal's 95th percentile in degrees."""

    base_color: float
    orm: float
    emissive: float
    normal_p95: float


def psnr(one: NDArray[np.float64], two: NDArray[np.float64]) -> float:
    """Return the peak signal-to-noise ratio of values of 0 to 1, in dB; infinite when they are equal."""
    error = float(np.mean((one - two) ** 2)) if one.size else 0.0
    return -10 * math.log10(error) if error > 0 else math.inf


def sample_surface(target: Target, count: int, seed: int) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    """Return area-weighted random triangles (N,) and places on the sheet (N, 2), at least 200 for each surface."""
    rng = np.random.default_rng(seed)
    triangles = []
    whole = float(target.area.sum())
    for surface in range(int(target.surface.max()) + 1 if len(target.surface) else 0):
        members = np.flatnonzero(target.surface == surface)
        area = target.area[members]
        if area.sum() <= 0:
            continue
        number = max(200, round(count * float(area.sum()) / whole))
        triangles.append(rng.choice(members, number, p=area / area.sum()))
    chosen = np.concatenate(triangles) if triangles else np.zeros(0, np.int64)
    one, two = rng.random(len(chosen)), rng.random(len(chosen))
    root = np.sqrt(one)
    weights = np.stack([1 - root, root * (1 - two), root * two], axis=1)
    return chosen, np.einsum("ni,nij->nj", weights, target.corners[chosen])


def _readings(pixels: NDArray[Any], places: NDArray[np.float64], srgb: bool) -> NDArray[np.float64]:
    """Read a map at places; sRGB maps are blended in linear light, as a graphics card does, and encoded again."""
    found = np.empty((len(places), pixels.shape[2]))
    top = np.iinfo(pixels.dtype).max
    if not srgb:
        read_sheet(pixels, places, found)
        return found / top
    table = srgb_to_linear(np.arange(top + 1) / top)
    # decode only the four texels about each place
    height, width = pixels.shape[:2]
    base = np.floor(places - 0.5).astype(np.int64)
    fraction = places - 0.5 - base
    total = np.zeros((len(places), pixels.shape[2]))
    for dy in range(2):
        for dx in range(2):
            x, y = np.clip(base[:, 0] + dx, 0, width - 1), np.clip(base[:, 1] + dy, 0, height - 1)
            weight = (fraction[:, 0] if dx else 1 - fraction[:, 0]) * (fraction[:, 1] if dy else 1 - fraction[:, 1])
            stored = np.asarray(pixels[y, x])
            light = table[stored]
            if stored.shape[1] == 4:
                light[:, 3] = stored[:, 3] / top
            total += light * weight[:, None]
    total[:, :3] = linear_to_srgb(total[:, :3])
    return total


def compare(
    scene: Scene,
    target: Target,
    maps: dict[str, NDArray[Any]],
    pixels: PixelsOf,
    *,
    strength: float = 1.0,
    transparent: bool = False,
    as_fine: frozenset[int] = frozenset(),
    points: int = 200_000,
    seed: int = 0,
    progress: Progress = SILENT,
) -> dict[int, Match]:
    """Compare the sheet with its source at random points.

    Parameters
    ----------
    maps : dict of ndarray
        Baked maps by name, stored values.
    strength : float
        What the emissive map is multiplied with.
    transparent : bool
        Count opacity too.
    as_fine : frozenset of int
        Surfaces whose sheet is as fine as their source: compared with the source itself, others with the source
        filtered over a texel of the sheet.

    Returns
    -------
    dict of Match
        By number of surface.
    """
    triangles, places = sample_surface(target, points, seed)
    if not len(triangles):
        return {}
    truth = read_source(scene, target, triangles, places, pixels, grid=8, progress=progress.part(0.0, 0.6))
    sharp = np.isin(target.surface[triangles], sorted(as_fine))
    if sharp.any():
        truth[sharp] = read_source(
            scene, target, triangles[sharp], places[sharp], pixels, grid=0, progress=progress.part(0.6, 1.0)
        )
    base = linear_to_srgb(truth[:, :3])
    readings = {name: _readings(found, places, name in ("base_color", "emissive")) for name, found in maps.items()}
    bumpy = np.array([material_at(scene, number).normal is not None for number in target.materials], bool)
    matches = {}
    for surface in np.unique(target.surface[triangles]):
        at = np.flatnonzero(target.surface[triangles] == surface)
        values = {"base_color": math.nan, "orm": math.nan, "emissive": math.nan}
        if "base_color" in readings:
            got, wanted = readings["base_color"][at, :3], base[at]
            if transparent:
                got = np.column_stack([got, readings["base_color"][at, 3]])
                wanted = np.column_stack([wanted, np.clip(truth[at, 3], 0, 1)])
            values["base_color"] = psnr(got, wanted)
        if "orm" in readings:
            values["orm"] = psnr(readings["orm"][at], np.clip(truth[at, 7:10], 0, 1))
        if "emissive" in readings:
            values["emissive"] = psnr(
                readings["emissive"][at], linear_to_srgb(np.clip(truth[at, 10:13] / strength, 0, 1))
            )
        angle = math.nan
        if "normal" in readings and bumpy[target.material[triangles[at]]].any():
            vector = readings["normal"][at] * 2 - 1
            vector /= np.maximum(np.linalg.norm(vector, axis=1, keepdims=True), 1e-9)
            cosine = (vector * truth[at, 4:7]).sum(axis=1)
            angle = float(np.degrees(np.percentile(np.arccos(np.clip(cosine, -1, 1)), 95)))
        matches[int(surface)] = Match(normal_p95=angle, **values)
    return matches
