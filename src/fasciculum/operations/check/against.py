"""Two deliveries beside each other: what an object looks like in both, and what was added, removed or changed."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.baking.compare import psnr
from fasciculum.baking.reaching import RayTargets, world_corners
from fasciculum.io.pixels import PixelStore
from fasciculum.model.scene import CLAMP, MIRROR, Object, Scene, TextureSlot
from fasciculum.operations.gather.gather import gather
from fasciculum.operations.ledger import Cost, cost_of
from fasciculum.progress import SILENT, Progress
from fasciculum.units import linear_to_srgb, srgb_to_linear
from fasciculum.uv.corners import surface_areas

#: points that an object is compared at; the part of its diagonal by which surfaces may lie apart and still be the same
POINTS, APART = 4000, 1e-4
#: the part of its diagonal by which points are lifted off the surface, so that of two sides the right one is met
LIFTED = 2e-6
#: part of an object's points that may lie off the other surface before its shape counts as changed
OFF = 0.002
#: dB below which an object that has the same shape counts as changed: less than half a step of 8 bits is none
CHANGED = 54.0
#: dB above which the difference is one of rounding alone
SAME = 120.0


@dataclass(frozen=True)
class Compared:
    """Two deliveries beside each other.

    Attributes
    ----------
    before, after : Cost
        Of the older one, and of the newer one.
    matches : dict of float
        For each object that both have how well its base colour matches, dB; infinite where it is the same.
    added, removed, changed : tuple of str
        Names of objects.
    """

    before: Cost
    after: Cost
    matches: dict[str, float]
    added: tuple[str, ...]
    removed: tuple[str, ...]
    changed: tuple[str, ...]

    @property
    def worst(self) -> str:
        """The object that matches worst, empty when both have none in common."""
        return min(self.matches, key=lambda key: self.matches[key], default="")

    @property
    def entry(self) -> dict[str, Any]:
        """The comparison as reports have it; dB are None where nothing differs."""

        def shown(value: float) -> float | None:
            return round(value, 1) if math.isfinite(value) else None

        values = sorted(self.matches.values())
        return {
            "draw_calls": [self.before.draw_calls, self.after.draw_calls],
            "texture_bytes": [self.before.texture_bytes, self.after.texture_bytes],
            "match_db": {
                "median": shown(values[len(values) // 2]) if values else None,
                "worst": shown(values[0]) if values else None,
                "object": self.worst or None,
            },
            "objects": {"added": list(self.added), "removed": list(self.removed), "changed": list(self.changed)},
        }


def compare_files(new: str, old: str, store: PixelStore, *, progress: Progress = SILENT) -> Compared:
    """Compare two delivered models.

    Raises
    ------
    InputError
        When one of them cannot be read.
    """
    now, _ = gather([new], store, progress=progress.part(0.0, 0.2))
    before, _ = gather([old], store, progress=progress.part(0.2, 0.4))
    return compare_deliveries(now, before, store, progress=progress.part(0.4, 1.0))


def compare_deliveries(new: Scene, old: Scene, store: PixelStore, *, progress: Progress = SILENT) -> Compared:
    """Compare two delivered scenes, objects by their names.

    Base colours are compared as a screen shows them, at random points of the newer surface and the nearest ones of the
    older, without filtering beyond bilinear reading.
    """
    ours, theirs = ({item.key: item for item in scene.objects} for scene in (new, old))
    shared = [key for key in ours if key in theirs]
    matches: dict[str, float] = {}
    changed = []
    readers = _Colors(new, store), _Colors(old, store)
    for number, key in enumerate(shared):
        progress.update(number / max(len(shared), 1), f"Comparing {key}")
        match, moved = _compared(readers, ours[key], theirs[key])
        if not math.isnan(match):
            matches[key] = match
        if moved or match < CHANGED:
            changed.append(key)
    before, after = (cost_of(scene, tuple(item.key for item in scene.objects)) for scene in (old, new))
    return Compared(
        before,
        after,
        matches,
        tuple(key for key in ours if key not in theirs),
        tuple(key for key in theirs if key not in ours),
        tuple(changed),
    )


class _Colors:
    """Base colours at points of a scene's surfaces, linear, with opacity as a fourth value."""

    def __init__(self, scene: Scene, store: PixelStore) -> None:
        self.scene, self._store = scene, store
        self._light: dict[int, NDArray[np.float32]] = {}

    def at(self, item: Object, triangles: NDArray[np.int64], weights: NDArray[np.float64]) -> NDArray[np.float64]:
        """Return the colours at places of an object's triangles, (N, 4); weights (N, 3) are of their corners."""
        result, first = np.ones((len(triangles), 4)), 0
        for primitive in self.scene.primitives_of(item):
            last = first + len(primitive.triangles)
            own = np.flatnonzero((triangles >= first) & (triangles < last))
            first = last
            if not len(own):
                continue
            material = self.scene.material_of(primitive)
            corners = primitive.triangles[triangles[own] - (last - len(primitive.triangles))]
            color = np.tile(np.array(material.base_color_factor, np.float64), (len(own), 1))
            if primitive.colors is not None:
                tint = np.einsum("nc,nck->nk", weights[own], primitive.colors.astype(np.float64)[corners])
                color[:, : tint.shape[1]] *= tint
            slot = material.base_color
            if slot is not None and not self.scene.images[slot.image].missing and primitive.has_uv(slot.uv_set):
                uvs = np.einsum("nc,nck->nk", weights[own], primitive.uv_sets[slot.uv_set].astype(np.float64)[corners])
                color *= self._read(slot, uvs @ slot.matrix()[:, :2].T + slot.matrix()[:, 2])
            result[own] = color
        return result

    def _read(self, slot: TextureSlot, uvs: NDArray[np.float64]) -> NDArray[np.float64]:
        """Read a texture at coordinates (N, 2), blending four texels in linear light."""
        light = self._light.get(slot.image)
        if light is None:
            pixels = self._store.get(self.scene.images[slot.image].pixels)
            light = self._light[slot.image] = _linear(pixels)
        high, wide = light.shape[:2]
        places = uvs * [wide, high] - 0.5
        base = np.floor(places).astype(np.int64)
        part = places - base
        total = np.zeros((len(uvs), 4))
        for dx in range(2):
            for dy in range(2):
                x, y = _wrapped(base[:, 0] + dx, wide, slot.wrap_u), _wrapped(base[:, 1] + dy, high, slot.wrap_v)
                weight = (part[:, 0] if dx else 1 - part[:, 0]) * (part[:, 1] if dy else 1 - part[:, 1])
                total += light[y, x] * weight[:, None]
        return total


def _linear(pixels: NDArray[Any]) -> NDArray[np.float32]:
    """Return stored colours as linear light with opacity, (H, W, 4)."""
    top = np.iinfo(pixels.dtype).max if pixels.dtype.kind != "f" else 1.0
    result = np.ones((*pixels.shape[:2], 4), np.float32)
    if pixels.shape[2] < 3:
        result[..., :3] = srgb_to_linear(np.asarray(pixels[..., :1], np.float32) / top)
    else:
        result[..., :3] = srgb_to_linear(np.asarray(pixels[..., :3], np.float32) / top)
    if pixels.shape[2] in (2, 4):
        result[..., 3] = np.asarray(pixels[..., -1], np.float32) / top
    return result


def _wrapped(index: NDArray[np.int64], size: int, mode: int) -> NDArray[np.int64]:
    if mode == CLAMP:
        return np.clip(index, 0, size - 1)
    if mode == MIRROR:
        turned = index % (2 * size)
        return np.where(turned < size, turned, 2 * size - 1 - turned)
    return index % size


def _compared(readers: tuple[_Colors, _Colors], ours: Object, theirs: Object) -> tuple[float, bool]:
    """Return how well an object's base colours match, dB, and whether its shape is another one."""
    new, old = readers
    corners = world_corners(new.scene, ours)
    areas = surface_areas(corners)
    if not areas.sum() > 0:
        return math.nan, len(corners) != len(world_corners(old.scene, theirs))
    rng = np.random.default_rng(0)
    triangles = rng.choice(len(areas), POINTS, p=areas / areas.sum())
    root, along = np.sqrt(rng.random(POINTS)), rng.random(POINTS)
    weights = np.stack([1 - root, root * (1 - along), root * along], axis=1)
    points = np.einsum("nc,nck->nk", weights, corners[triangles])
    diagonal = float(np.linalg.norm(np.ptp(corners.reshape(-1, 3), axis=0)))
    faces = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])[triangles]
    faces /= np.maximum(np.linalg.norm(faces, axis=1, keepdims=True), 1e-300)
    if np.linalg.det(new.scene.nodes[ours.node].world[:3, :3]) < 0:
        faces = -faces
    found, where = RayTargets(old.scene, [theirs.key]).nearest(points + faces * LIFTED * diagonal, APART * diagonal)
    met = found >= 0
    theirs_corners = world_corners(old.scene, theirs)
    same_size = math.isclose(float(surface_areas(theirs_corners).sum()), float(areas.sum()), rel_tol=1e-3)
    moved = (~met).mean() > OFF or not same_size
    if not met.any():
        return math.nan, True
    # trees have the corners of mirrored nodes the other way round
    there = np.column_stack([1 - where[met, 0] - where[met, 1], where[met, :2]])
    if np.linalg.det(old.scene.nodes[theirs.node].world[:3, :3]) < 0:
        there = there[:, [0, 2, 1]]
    colors = [
        np.clip(reader.at(item, which, part), 0, 1)
        for reader, item, which, part in (
            (new, ours, triangles[met], weights[met]),
            (old, theirs, found[met], there),
        )
    ]
    one, two = (np.column_stack([linear_to_srgb(color[:, :3]), color[:, 3:]]) for color in colors)
    opaque = new.scene.object(ours.key).alpha_mode == "OPAQUE"
    match = psnr(one[:, :3], two[:, :3]) if opaque else psnr(one, two)
    return math.inf if match > SAME else match, bool(moved)
