"""Fidelity on the surface: what the source gives at points of the surface against what the sheet gives there."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from fasciculum.baking.materials import MaterialSource, material_at
from fasciculum.baking.pyramids import PixelsOf
from fasciculum.baking.target import Target
from fasciculum.kernels.sampling.textures import read_sheet
from fasciculum.model.choices import ColorSpace
from fasciculum.model.maps import KINDS, Judged, MapKind, Values
from fasciculum.model.scene import Scene
from fasciculum.progress import SILENT, Progress
from fasciculum.threads import in_pieces
from fasciculum.units import linear_to_srgb, srgb_to_linear

#: points that are read at once by a thread
POINTS = 4096


class Readable(Protocol):
    """What gives values at places of a sheet."""

    @property
    def values(self) -> int:
        """How many there are of each place."""

    def at(self, triangles: NDArray[np.int64], places: NDArray[np.float64], grid: int) -> NDArray[np.float32]:
        """Return the values at places (N, 2) of the sheet, on triangles (N,)."""


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


def _readings(
    pixels: NDArray[Any], places: NDArray[np.float64], srgb: bool, strength: float, wraps: bool
) -> NDArray[np.float64]:
    """Read a map at places; sRGB maps are blended in linear light, as a graphics card does, and encoded again.

    Where it ``wraps``, readings beyond its left and right sides go on at the other one.
    """
    if wraps:
        # a column more on each side, so that what lies across the side is blended
        pixels = np.concatenate([pixels[:, -1:], pixels, pixels[:, :1]], axis=1)
        places = np.column_stack([places[:, 0] % (pixels.shape[1] - 2) + 1, places[:, 1]])
    result = np.empty((len(places), pixels.shape[2]))
    if pixels.dtype.kind == "f":
        # floats hold linear light, brighter than 1 too
        read_sheet(pixels, places, result)
        result = np.clip(result / strength, 0, 1)
        if srgb:
            result[:, :3] = linear_to_srgb(result[:, :3])
        return result
    top = np.iinfo(pixels.dtype).max
    if not srgb:
        read_sheet(pixels, places, result)
        return result / top
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


def _read_slices(
    pixels: NDArray[Any],
    places: NDArray[np.float64],
    srgb: bool,
    strength: float,
    slices: tuple[int, int],
    found: NDArray[np.float64],
) -> None:
    """Read what lies in slices again, each going on at its other sides, into ``found`` (N, C)."""
    tiles, count = slices
    width = pixels.shape[1] // tiles
    page = np.clip(places[:, 0] // width, 0, tiles - 1).astype(np.int64)
    for number in range(tiles - count, tiles):
        own = page == number
        if own.any():
            tile = np.pad(
                np.asarray(pixels[:, number * width : (number + 1) * width]), ((1, 1), (1, 1), (0, 0)), mode="wrap"
            )
            found[own] = _readings(tile, places[own] - [number * width - 1, -1], srgb, strength, False)


def _on_map(places: NDArray[np.float64], pixels: NDArray[Any], size: tuple[int, int] | None) -> NDArray[np.float64]:
    """Return places on a sheet as places on a map of it, texels."""
    if size is None or size == (pixels.shape[1], pixels.shape[0]):
        return places
    scaled: NDArray[np.float64] = places * (np.array([pixels.shape[1], pixels.shape[0]]) / np.array(size))
    return scaled


def _read(
    source: Readable,
    triangles: NDArray[np.int64],
    places: NDArray[np.float64],
    grid: int,
    progress: Progress,
) -> NDArray[np.float64]:
    """Read the materials at places of the sheet; see `fasciculum.baking.materials.MaterialSource.at`."""
    result = np.empty((len(triangles), source.values))

    def work(first: int) -> None:
        part = slice(first, first + POINTS)
        result[part] = source.at(triangles[part], places[part], grid)

    in_pieces(work, range(0, len(triangles), POINTS), words="Comparing with the source", progress=progress)
    return result


def compare(
    scene: Scene,
    target: Target,
    maps: dict[str, NDArray[Any]],
    pixels: PixelsOf,
    *,
    strength: float = 1.0,
    transparent: bool = False,
    as_fine: frozenset[int] = frozenset(),
    size: tuple[int, int] | None = None,
    wraps: bool = False,
    slices: tuple[int, int] | None = None,
    over: Callable[[MaterialSource], Readable] = lambda materials: materials,
    points: int = 200_000,
    seed: int = 0,
    progress: Progress = SILENT,
) -> dict[int, dict[str, float]]:
    """Compare the sheet with its source at random points.

    Parameters
    ----------
    maps : dict of ndarray
        Baked maps by name, stored values.
    strength : float
        What scaled maps are multiplied with.
    transparent : bool
        Count opacity too.
    as_fine : frozenset of int
        Surfaces whose sheet is as fine as their source: compared with the source itself, others with the source
        filtered over a texel of the sheet.
    size : tuple of int, optional
        Width and height of the sheet, all tiles of it, texels; maps may have another one.
    wraps : bool
        Whether readings go on at the sheet's other side, since it has lanes.
    slices : tuple of int, optional
        How many tiles there are, and how many of them, the last ones, are slices, in which readings go on all round.
    over : callable
        Returns materials with what lies over them.

    Returns
    -------
    dict of dict of float
        By number of surface, and by map: the peak signal-to-noise ratio in dB, or for unit vectors the 95th percentile
        of the angle in degrees, where any of them varies.
    """
    triangles, places = sample_surface(target, points, seed)
    if not len(triangles):
        return {}
    materials = MaterialSource(scene, target, pixels, check=progress.check)
    source: Readable = over(materials)
    truth = _read(source, triangles, places, 8, progress.part(0.0, 0.6))
    sharp = np.isin(target.surface[triangles], sorted(as_fine))
    if sharp.any():
        truth[sharp] = _read(source, triangles[sharp], places[sharp], 0, progress.part(0.6, 1.0))
    judged = {
        name: KINDS[name]
        for name in maps
        if KINDS[name].source is Values.MATERIALS and KINDS[name].judged is not Judged.NOT
    }
    readings = {}
    for name, kind in judged.items():
        on_map = _on_map(places, maps[name], size)
        coding = kind.color_space is ColorSpace.SRGB, strength if kind.scaled else 1.0
        readings[name] = _readings(maps[name], on_map, *coding, wraps)
        if slices and size is not None:
            _read_slices(maps[name], on_map, *coding, slices, readings[name])
    wanted = {name: _wanted(truth[:, kind.values], kind, strength) for name, kind in judged.items()}
    bumpy = np.array([material_at(scene, number).normal is not None for number in target.materials], bool)
    matches: dict[int, dict[str, float]] = {}
    for surface in np.unique(target.surface[triangles]):
        at = np.flatnonzero(target.surface[triangles] == surface)
        figures = matches[int(surface)] = {}
        for name, kind in judged.items():
            got, true = readings[name][at], wanted[name][at]
            if kind.judged is Judged.ANGLE:
                if bumpy[target.material[triangles[at]]].any():
                    figures[name] = _angle(got, true)
                continue
            channels = kind.channels if transparent or kind.channels < 4 else 3
            figures[name] = psnr(got[:, :channels], true[:, :channels])
    return matches


def _wanted(truth: NDArray[np.float64], kind: MapKind, strength: float) -> NDArray[np.float64]:
    """Return what a map should hold where the source has these values, encoded as the map is."""
    if kind.vectors:
        return truth
    if kind.color_space is not ColorSpace.SRGB:
        return np.clip(truth, 0, 1)
    light = np.clip(truth[:, :3] / strength, 0, 1) if kind.scaled else truth[:, :3]
    encoded: NDArray[np.float64] = np.column_stack([linear_to_srgb(light), np.clip(truth[:, 3:], 0, 1)])
    return encoded


def _angle(read: NDArray[np.float64], true: NDArray[np.float64]) -> float:
    """Return the 95th percentile of the angle between stored vectors and true ones, degrees."""
    vector = read[:, :3] * 2 - 1
    vector /= np.maximum(np.linalg.norm(vector, axis=1, keepdims=True), 1e-9)
    cosine = (vector * true).sum(axis=1)
    return float(np.degrees(np.percentile(np.arccos(np.clip(cosine, -1, 1)), 95)))
