"""Patches: squares of one material on a sheet, that surfaces read through UVs of their own."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fasciculum.model.choices import Treatment
from fasciculum.model.scene import Material, Primitive

#: metres of a patch that is laid out by texels; small, so that it counts for nothing among surfaces
METRES_PER_TEXEL = 1e-4
#: texels along the painted middle of a swatch and those that it touches, and what its edge is a multiple of: the
#: blocks of compressed formats
MIDDLE, TOUCHED, BLOCK = 1.0, 2, 4


@dataclass(frozen=True, eq=False)
class AtlasRegion:
    """A square of one material on the sheet.

    Attributes
    ----------
    key : str
        Of the object that stands for it among those that are laid out.
    material : int
        Index into the scene's materials.
    way : Way
    flat : tuple of float
        Its width and height, metres.
    uvs : ndarray of float64, shape (2, 3)
        From its place in metres to the material's texture coordinates.
    inverse : ndarray of float64, shape (2, 3)
        From texture coordinates to its place in metres.
    row : tuple of float, optional
        Its map from metres to texels, of one that lies where it must.
    box : tuple of int, optional
        What is its own on the sheet, texels.
    parts : ndarray of float64, shape (N, 4), optional
        What of it is used: left, top, right and bottom of boxes that do not overlap, metres; all of it without.
    upright : bool
        Whether it may be turned by half a turn only, since some of its readers are sheared and read normals.
    """

    key: str
    material: int
    way: Treatment
    flat: tuple[float, float]
    uvs: NDArray[np.float64]
    inverse: NDArray[np.float64]
    #: texels a metre at which it has the texels of its textures
    density: float = 1 / METRES_PER_TEXEL
    row: tuple[float, ...] | None = None
    box: tuple[int, int, int, int] | None = None
    parts: NDArray[np.float64] | None = None
    upright: bool = False

    @property
    def boxes(self) -> NDArray[np.float64]:
        """What of it is used, as ``parts``."""
        return np.array([[0.0, 0.0, *self.flat]]) if self.parts is None else self.parts

    @property
    def held(self) -> bool:
        """Whether it takes room among islands, at a place of its own."""
        return self.row is not None and self.way is not Treatment.SLICE


def swatch_edge(padding: int) -> int:
    """Return the edge of a swatch, texels: its painted middle with half the padding about it, in whole blocks."""
    return -(-(padding + TOUCHED) // BLOCK) * BLOCK


def lane_size(width: int, across: float, texels: tuple[int, int]) -> tuple[int, int]:
    """Return how often a texture repeats along a lane, and how high the lane is, texels.

    Parameters
    ----------
    width : int
        Of the sheet, texels.
    across : float
        How much of the texture the lane is high, in repeats.
    texels : tuple of int
        Of the texture, along the lane and across it.
    """
    repeats = max(1, round(width / texels[0]))
    return repeats, max(1, round(across * texels[1] * width / (repeats * texels[0])))


def corners(patch: AtlasRegion) -> NDArray[np.float64]:
    """Return the triangles of a region, two for each of its boxes, shape (2 N, 3, 2), metres."""
    left, top, right, bottom = patch.boxes.T
    places = np.stack([left, top, left, bottom, right, bottom, right, top], axis=1).reshape(-1, 4, 2)
    triangles: NDArray[np.float64] = places[:, [[0, 1, 2], [0, 2, 3]]].reshape(-1, 3, 2)
    return triangles


def quad(patch: AtlasRegion, material: Material) -> Primitive:
    """Return the surface of a region: upright in its own plane, read as its material reads its textures."""
    places = corners(patch).reshape(-1, 2)
    read = places @ patch.uvs[:, :2].T + patch.uvs[:, 2]
    slots = list(material.slots().values())
    if slots:
        matrix = slots[0].matrix()
        read = np.asarray(np.linalg.solve(matrix[:, :2], (read - matrix[:, 2]).T).T, np.float64)
    sets = tuple(read.astype(np.float32) for _ in range(max((slot.uv_set for slot in slots), default=0) + 1))
    positions = np.column_stack([places[:, 0], -places[:, 1], np.zeros(len(places))])
    normals = np.tile(np.array([0.0, 0.0, 1.0], np.float32), (len(places), 1))
    triangles = np.arange(len(places), dtype=np.int32).reshape(-1, 3)
    return Primitive(positions.astype(np.float32), triangles, normals, None, sets, None, patch.material)


def transform_uvs(uvs: NDArray[np.float64], matrix: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return places through a 2 x 3 map."""
    result: NDArray[np.float64] = uvs @ matrix[:, :2].T + matrix[:, 2]
    return result
