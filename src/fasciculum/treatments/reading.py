"""How surfaces read textures: through one UV set with one transform, in connected pieces, how far along each axis."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fasciculum.model.scene import REPEAT, Material, Object, Primitive, Scene
from fasciculum.uv.islands import find_islands

#: how far beyond a whole repeat a piece may reach and still count as lying within it
SLACK = 1e-3


@dataclass(frozen=True, eq=False)
class Read:
    """A primitive's corners in the coordinates of its material's textures.

    Attributes
    ----------
    uvs : ndarray of float64, shape (T, 3, 2)
        After the textures' transform, in repeats.
    piece : ndarray of int32, shape (T,)
        The connected piece of each triangle.
    low, high : ndarray of float64, shape (P, 2)
        What each piece reaches.
    repeats : bool
        Whether textures go on beyond a whole repeat.
    """

    uvs: NDArray[np.float64]
    piece: NDArray[np.int32]
    low: NDArray[np.float64]
    high: NDArray[np.float64]
    repeats: bool = True

    @property
    def inside(self) -> bool:
        """Whether all lies within the first repeat."""
        return bool((self.low >= -SLACK).all() and (self.high <= 1 + SLACK).all())

    @property
    def shifts(self) -> NDArray[np.float64]:
        """The whole repeats by which each piece lies off the first one, shape (P, 2)."""
        result: NDArray[np.float64] = np.floor(self.low + SLACK)
        return result

    @property
    def span(self) -> tuple[float, float]:
        """How far the largest pieces reach along u and v, in repeats."""
        reach = (self.high - self.low).max(axis=0, initial=0.0)
        return float(reach[0]), float(reach[1])

    def laid(self) -> NDArray[np.float64]:
        """Return the corners with each piece moved to the first repeat."""
        moved: NDArray[np.float64] = self.uvs - self.shifts[self.piece][:, None, :]
        return moved


def one_reading(scene: Scene, material: Material, primitive: Primitive) -> bool:
    """Tell whether all textures are read alike: through one UV set and one transform."""
    slots = [slot for slot in material.slots().values() if not scene.images[slot.image].missing]
    if not slots or not primitive.has_uv(slots[0].uv_set):
        return False
    first = slots[0]
    like = (first.uv_set, first.offset, first.rotation, first.scale)
    turned = abs(float(np.linalg.det(first.matrix()[:, :2])))
    return turned > 1e-9 and all((slot.uv_set, slot.offset, slot.rotation, slot.scale) == like for slot in slots)


def read_of(scene: Scene, primitive: Primitive, *, leading: bool = False) -> Read | None:
    """Return how a primitive reads its textures, None when not all are read alike.

    With ``leading`` the first texture that has UVs speaks for all.
    """
    material = scene.material_of(primitive)
    slots = [slot for slot in material.slots().values() if not scene.images[slot.image].missing]
    if leading:
        slots = [slot for slot in slots if primitive.has_uv(slot.uv_set)][:1]
    elif not one_reading(scene, material, primitive):
        return None
    if not slots or not len(primitive.triangles):
        return None
    slot = slots[0]
    uvs = primitive.read_through(slot)
    if not np.isfinite(uvs).all():
        return None
    piece = find_islands(primitive.positions.astype(np.float64)[primitive.triangles], uvs)
    count = int(piece.max()) + 1
    low, high = np.full((count, 2), np.inf), np.full((count, 2), -np.inf)
    np.minimum.at(low, piece, uvs.min(axis=1))
    np.maximum.at(high, piece, uvs.max(axis=1))
    return Read(uvs, piece, low, high, all(one.wrap_u == one.wrap_v == REPEAT for one in slots))


def strip_of(reads: Sequence[Read]) -> tuple[int, float, float] | None:
    """Return the axis along which surfaces may go on on a lane, and what they use across it, in repeats.

    None where they repeat along both axes.
    """
    spans = np.array([read.span for read in reads]).max(axis=0)
    along = int(spans[0] < spans[1])
    across = 1 - along
    if spans[across] > 1 + SLACK:
        return None
    low = min(float((read.low - read.shifts)[:, across].min()) for read in reads)
    high = max(float((read.high - read.shifts)[:, across].max()) for read in reads)
    return along, low, high


def texels_of(scene: Scene, material: Material) -> tuple[int, int]:
    """Return the width and height of the largest texture of a material, texels; (1, 1) without one."""
    images = [scene.images[slot.image] for slot in material.slots().values()]
    sizes = [(image.width, image.height) for image in images if not image.missing]
    return max(sizes, key=lambda size: size[0] * size[1], default=(1, 1))


def held_meshes(scene: Scene, objects: tuple[str, ...]) -> frozenset[int]:
    """Return the meshes of objects that high-poly ones are read into, or layers lie on: no way touches them."""
    if not scene.partners and not scene.layers:
        return frozenset()
    return frozenset(
        scene.nodes[scene.object(key).node].mesh for key in objects if key in scene.partners or scene.stack(key)
    )


def users(scene: Scene, objects: tuple[str, ...]) -> dict[int, list[tuple[Object, int, Primitive]]]:
    """Return for each material the primitives of objects that show it: object, number in the mesh, primitive."""
    results: dict[int, list[tuple[Object, int, Primitive]]] = {}
    for key in objects:
        item = scene.object(key)
        for number, primitive in zip(item.primitives, scene.primitives_of(item), strict=True):
            results.setdefault(primitive.material, []).append((item, number, primitive))
    return results
