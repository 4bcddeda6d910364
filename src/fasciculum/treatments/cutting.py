"""Cut surfaces where their texture repeats, so that all repeats can lie on one place."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from fasciculum.model.attributes import Attribute
from fasciculum.model.scene import Primitive

#: weights of a triangle's corners, and a polygon on it
Weights = tuple[float, float, float]
Polygon = list[Weights]
WHOLE: Polygon = [(1.0, 0.0, 0.0), (0.0, 1.0, 0.0), (0.0, 0.0, 1.0)]
#: how near to a whole repeat a corner may come and still lie on it, in repeats
NEAR = 1e-6
#: pieces that a triangle may be cut into
MOST_PIECES = 4096


def cut_at_repeats(primitive: Primitive, uvs: NDArray[np.float64]) -> tuple[Primitive, NDArray[np.float64]]:
    """Cut triangles at the whole repeats of their texture coordinates.

    Parameters
    ----------
    uvs : ndarray of float64, shape (T, 3, 2)
        In repeats.

    Returns
    -------
    primitive : Primitive
        Every attribute interpolated at the cuts; whole triangles keep their vertices, and cuts along an edge get the
        same positions from both sides.
    uvs : ndarray of float64, shape (P, 3, 2)
        Of its triangles, each moved to the first repeat.
    """
    low, high = uvs.min(axis=1), uvs.max(axis=1)
    whole = (np.floor(low + NEAR) >= np.ceil(high - NEAR) - 1).all(axis=1)
    pieces = _Pieces(primitive)
    shifted = [uvs[whole] - np.floor(low[whole] + NEAR)[:, None, :]]
    triangles = [primitive.triangles[whole].astype(np.int64)]
    for number in np.flatnonzero(~whole).tolist():
        own = uvs[number].tolist()
        for polygon, cell in _cells(own):
            corners = pieces.corners(number, polygon)
            at = [[_at(weights, [uv[axis] for uv in own]) - cell[axis] for axis in (0, 1)] for weights in polygon]
            for second in range(1, len(polygon) - 1):
                triangles.append(np.array([[corners[0], corners[second], corners[second + 1]]]))
                shifted.append(np.array([[at[0], at[second], at[second + 1]]]))
    return pieces.primitive(np.concatenate(triangles)), np.concatenate(shifted)


# a triangle has a handful of pieces of a handful of corners: plain numbers are ten times as quick as arrays of them


def _at(weights: Weights, corners: Sequence[float]) -> float:
    """Return a coordinate at weights of a triangle's corners."""
    return weights[0] * corners[0] + weights[1] * corners[1] + weights[2] * corners[2]


def _cells(uvs: list[list[float]]) -> list[tuple[Polygon, tuple[int, int]]]:
    """Return the parts of a triangle by whole repeat: polygons as weights of its corners, and the repeat."""
    parts = [WHOLE]
    across, down = ([uv[axis] for uv in uvs] for axis in (0, 1))
    for corners in (across, down):
        cut: list[Polygon] = []
        for polygon in parts:
            cut += _strips(polygon, corners)
            if len(cut) > MOST_PIECES:
                return [(WHOLE, (math.floor(min(across) + NEAR), math.floor(min(down) + NEAR)))]
        parts = cut

    def middle(polygon: Polygon, corners: list[float]) -> int:
        return math.floor(sum(_at(weights, corners) for weights in polygon) / len(polygon))

    return [(polygon, (middle(polygon, across), middle(polygon, down))) for polygon in parts]


def _strips(polygon: Polygon, corners: list[float]) -> list[Polygon]:
    """Return a polygon's parts between whole numbers of a coordinate, given at the triangle's corners."""
    at = [_at(weights, corners) for weights in polygon]
    results = []
    for step in range(math.floor(min(at) + NEAR), math.ceil(max(at) - NEAR)):
        part = _clipped(polygon, [value - step for value in at])
        if part:
            part = _clipped(part, [step + 1 - _at(weights, corners) for weights in part])
        if len(part) >= 3:
            results.append(part)
    return results or [polygon]


def _clipped(polygon: Polygon, inside: list[float]) -> Polygon:
    """Return the part of a convex polygon where a value is not negative (Sutherland and Hodgman 1974)."""
    corners = []
    count = len(polygon)
    for index in range(count):
        after = (index + 1) % count
        here, next_inside = inside[index], inside[after]
        if here >= -NEAR:
            corners.append(polygon[index])
        if (here > NEAR and next_inside < -NEAR) or (here < -NEAR and next_inside > NEAR):
            part = here / (here - next_inside)
            (a, b, c), (d, e, f) = polygon[index], polygon[after]
            rest = 1.0 - part
            corners.append((a * rest + d * part, b * rest + e * part, c * rest + f * part))
    return corners


class _Pieces:
    """Vertices of a primitive that is being cut: the old ones, and those that cuts add."""

    def __init__(self, whole: Primitive) -> None:
        self.whole = whole
        self._numbers: dict[tuple[tuple[int, float], ...], int] = {}
        self._weights: list[tuple[tuple[int, float], ...]] = []

    def corners(self, triangle: int, polygon: Polygon) -> list[int]:
        """Return the vertices of a polygon in a triangle, given by weights."""
        results = []
        vertices = self.whole.triangles[triangle].tolist()
        for weights in polygon:
            parts = tuple(sorted((v, round(w, 9)) for v, w in zip(vertices, weights, strict=True) if w > NEAR))
            if len(parts) == 1:
                results.append(parts[0][0])
                continue
            if parts not in self._numbers:
                self._numbers[parts] = len(self.whole.positions) + len(self._weights)
                self._weights.append(parts)
            results.append(self._numbers[parts])
        return results

    def primitive(self, triangles: NDArray[np.int64]) -> Primitive:
        """Return the cut primitive."""
        whole, added = self.whole, len(self._weights)
        vertices = np.zeros((added, 3), np.int64)
        weights = np.zeros((added, 3))
        for row, parts in enumerate(self._weights):
            for column, (vertex, weight) in enumerate(parts):
                vertices[row, column], weights[row, column] = vertex, weight
        weights /= np.maximum(weights.sum(axis=1, keepdims=True), 1e-12)

        def more(values: NDArray) -> NDArray:
            made = (values[vertices].astype(np.float64) * weights[:, :, None]).sum(axis=1)
            if values.dtype.kind in "iu":
                # numbers of joints and the like: those of the nearest corner
                made = values[vertices[np.arange(added), weights.argmax(axis=1)]]
            return np.concatenate([values, made.astype(values.dtype)]) if added else values

        def unit(values: NDArray | None) -> NDArray | None:
            if values is None or not added:
                return values
            result = more(values)
            length = np.linalg.norm(result[len(values) :, :3], axis=1, keepdims=True)
            result[len(values) :, :3] /= np.maximum(length, 1e-12)
            if values.shape[1] == 4:
                result[len(values) :, 3] = np.where(result[len(values) :, 3] < 0, -1, 1)
            return result

        def extra(attributes: dict[str, Attribute]) -> dict[str, Attribute]:
            return {name: replace(one, values=more(one.values)) for name, one in attributes.items()}

        return Primitive(
            more(whole.positions),
            triangles.astype(np.int32),
            unit(whole.normals),
            unit(whole.tangents),
            tuple(more(uvs) if len(uvs) else uvs for uvs in whole.uv_sets),
            None if whole.colors is None else more(whole.colors),
            whole.material,
            extra(whole.extra),
            tuple(extra(target) for target in whole.targets),
        )
