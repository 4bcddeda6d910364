"""Meshes of polygons, whose corners have UVs, normals and colours of their own, into primitives of triangles."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fasciculum.errors import MalformedFile
from fasciculum.kernels.unique_rows import unique_rows
from fasciculum.kernels.unwrapping.polygons import triangulate
from fasciculum.model.scene import Primitive

#: UVs beyond this are broken, and are taken for it
LARGEST = 1e6
#: metres; what lies farther away has lost all its digits
FARTHEST = 1e9


@dataclass(eq=False)
class Polygons:
    """Polygons of one mesh; C corners, F faces.

    Attributes
    ----------
    positions : ndarray of float64, shape (V, 3)
    corners : ndarray of int64, shape (C,)
        The position of each corner.
    starts : ndarray of int64, shape (F + 1,)
        Where each face's corners begin.
    materials : ndarray of int64, shape (F,)
        -1 for none.
    uv_sets : sequence of ndarray of float64, shape (C, 2), or None
        v pointing down.
    normals : ndarray of float64, shape (C, 3), or None
    colors : ndarray of float64, shape (C, 4), or None
        Linear.
    """

    positions: NDArray[np.float64]
    corners: NDArray[np.int64]
    starts: NDArray[np.int64]
    materials: NDArray[np.int64]
    uv_sets: Sequence[NDArray[np.float64] | None] = ()
    normals: NDArray[np.float64] | None = None
    colors: NDArray[np.float64] | None = None

    def triangles(self) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        """Return triangles as numbers of corners, (T, 3), and the face of each; those that draw nothing left out."""
        sizes = np.diff(self.starts)
        result = np.zeros((int(np.maximum(sizes - 2, 0).sum()), 3), np.int64)
        if len(result):
            triangulate(np.ascontiguousarray(self.positions[self.corners]), self.starts, result)
        face = np.repeat(np.arange(len(sizes)), np.maximum(sizes - 2, 0))
        a, b, c = self.corners[result].T
        drawn = (a != b) & (b != c) & (a != c)
        return result[drawn], face[drawn]

    def primitives(self) -> tuple[Primitive, ...]:
        """Return the triangles of each material as a primitive, with a vertex for each corner that is like no other."""
        triangles, face = self.triangles()
        material = self.materials[face]
        return tuple(self._primitive(triangles[material == one], int(one)) for one in np.unique(material))

    def _primitive(self, triangles: NDArray[np.int64], material: int) -> Primitive:
        corners = triangles.reshape(-1)
        told = [np.clip(one[corners], -LARGEST, LARGEST) for one in self.uv_sets if one is not None]
        told += [one[corners] for one in (self.normals, self.colors) if one is not None]
        bits = [np.ascontiguousarray(one, np.float32).view(np.int32) for one in told]
        first, inverse = unique_rows(np.column_stack([self.corners[corners], *bits]).astype(np.int64))
        chosen = corners[first]

        def values(one: NDArray[np.float64] | None, width: int) -> NDArray[np.float32]:
            if one is None:
                return np.zeros((0, width), np.float32)
            return np.clip(one[chosen], -LARGEST, LARGEST).astype(np.float32)

        return Primitive(
            self.positions[self.corners[chosen]].astype(np.float32),
            inverse.reshape(-1, 3).astype(np.int32),
            None if self.normals is None else _unit(self.normals[chosen]),
            None,
            tuple(values(one, 2) for one in self.uv_sets),
            None if self.colors is None else self.colors[chosen].astype(np.float32),
            material,
        )

    def smooth(self) -> NDArray[np.float64]:
        """Return normals that are smooth over all edges, shape (C, 3): of the faces at a position, by their angles."""
        triangles, _ = self.triangles()
        sums = np.zeros((len(self.positions), 3))
        np.add.at(sums, self.corners[triangles], weighted_normals(self.positions[self.corners[triangles]]))
        return _unit(sums)[self.corners].astype(np.float64)


def _unit(vectors: NDArray[np.float64]) -> NDArray[np.float32]:
    length = np.linalg.norm(vectors, axis=1, keepdims=True)
    return np.where(length > 0, vectors / np.maximum(length, 1e-300), [0.0, 0.0, 1.0]).astype(np.float32)


def weighted_normals(corners: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return each triangle's unit normal times the angle at each corner, shape (T, 3, 3).

    So weighted, it makes no difference how a flat polygon was cut into triangles.
    """
    cross = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    normal = cross / np.maximum(np.linalg.norm(cross, axis=1, keepdims=True), 1e-300)
    weighted = np.zeros_like(corners)
    for k in range(3):
        one, two = corners[:, (k + 1) % 3] - corners[:, k], corners[:, (k + 2) % 3] - corners[:, k]
        angle = np.arctan2(np.linalg.norm(np.cross(one, two), axis=1), (one * two).sum(axis=1))
        weighted[:, k] = normal * angle[:, None]
    return weighted


def demand_sound(polygons: Polygons, file: str, item: str) -> None:
    """Refuse polygons that name positions that are not there, and positions that are no places.

    Raises
    ------
    MalformedFile
    """
    hint = "Export the model again."
    if len(polygons.corners) and not 0 <= int(polygons.corners.min()) <= int(polygons.corners.max()) < len(
        polygons.positions
    ):
        raise MalformedFile("faces name positions that are not there.", file=file, item=item, hint=hint)
    if not bool((np.abs(polygons.positions) <= FARTHEST).all()):
        raise MalformedFile(f"a position is no place within {FARTHEST:g} m.", file=file, item=item, hint=hint)
    for values in (*polygons.uv_sets, polygons.normals, polygons.colors):
        if values is not None and not bool(np.isfinite(values).all()):
            raise MalformedFile("a UV, normal or colour is not a number.", file=file, item=item, hint=hint)
