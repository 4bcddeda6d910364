"""Seams of a sheet: both sides of one show one line of the surface, and are to agree."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fasciculum.baking.light.passes import LightPasses
from fasciculum.kernels.unique_rows import unique_rows
from fasciculum.later import Later
from fasciculum.progress import SILENT, Progress

sparse = Later("scipy.sparse")
solving = Later("scipy.sparse.linalg")

#: cosine between the normals of both sides from which they are one surface
ALIKE = 0.985
#: places on a seam for each texel that it runs through, at most so many on one edge
DENSE, MOST = 2.0, 4096
#: how much texels hold on to what was gathered, beside 1 for each place that is to agree; rounds of the solver
HOLD, STEPS, ENOUGH = 0.05, 60, 1e-4
#: of the diagonal: places closer than this are one
SAME = 1e-6


class Seams:
    """The seams of a sheet that light is gathered on.

    Places along each seam are read on both sides between texels' middles; those texels are changed as little as may be
    so that the readings agree, in the sense of least squares.
    """

    def __init__(self, passes: LightPasses) -> None:
        self.shape = passes.tiles.height, passes.tiles.width
        one, other = seam_places(passes.corners, passes.target.corners, passes.target.surface)
        columns, weights = zip(*(_readings(places, self.shape) for places in (one, other)), strict=True)
        count = len(one)
        rows = np.repeat(np.arange(count), 4)
        flat = np.concatenate([part.ravel() for part in columns])
        self.texels, number = np.unique(flat, return_inverse=True)
        values = np.concatenate([weights[0].ravel(), -weights[1].ravel()])
        shape = count, len(self.texels)
        places = np.concatenate([rows, rows]), number.reshape(-1)
        self._apart = sparse.coo_matrix((values, places), shape=shape).tocsr()

    def close(self, layer: NDArray[np.float32], progress: Progress = SILENT) -> None:
        """Bring both sides of each seam of a layer (H, W, C) together, in place."""
        if not len(self.texels):
            return
        square = self._apart.T @ self._apart + HOLD * sparse.identity(len(self.texels), format="csr")
        flat = layer.reshape(-1, layer.shape[2])
        for channel in range(layer.shape[2]):
            progress.check()
            given = flat[self.texels, channel].astype(np.float64)
            result, _ = solving.cg(square, HOLD * given, x0=given, rtol=ENOUGH, maxiter=STEPS)
            flat[self.texels, channel] = np.maximum(result, 0)

    def differences(self, layer: NDArray[np.float32]) -> NDArray[np.float64]:
        """Return by how much both sides differ at places along the seams of a layer (H, W, C), (P, C)."""
        result: NDArray[np.float64] = self._apart @ layer.reshape(-1, layer.shape[2])[self.texels].astype(np.float64)
        return np.abs(result)


def _readings(places: NDArray[np.float64], shape: tuple[int, int]) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    """Return the four texels, flat, that each place (P, 2) of a sheet is read from, and how much of each, (P, 4)."""
    height, width = shape
    at = places - 0.5
    low = np.floor(at).astype(np.int64)
    part = at - low
    x = np.clip(np.stack([low[:, 0], low[:, 0] + 1, low[:, 0], low[:, 0] + 1], 1), 0, width - 1)
    y = np.clip(np.stack([low[:, 1], low[:, 1], low[:, 1] + 1, low[:, 1] + 1], 1), 0, height - 1)
    u, v = part[:, 0], part[:, 1]
    return y * width + x, np.stack([(1 - u) * (1 - v), u * (1 - v), (1 - u) * v, u * v], 1)


def seam_places(
    corners: NDArray[np.float64], sheet: NDArray[np.float64], surface: NDArray[np.int32]
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Return places along the seams of a sheet, on one side and on the other, (P, 2) each, texels.

    Parameters
    ----------
    corners : ndarray, shape (T, 3, 9)
        Places and normals in the world.
    sheet : ndarray, shape (T, 3, 2)
    surface : ndarray, shape (T,)
        Edges of different surfaces are never one.
    """
    nothing = np.zeros((0, 2))
    count = len(corners)
    if not count:
        return nothing, nothing
    places = corners[..., :3].reshape(-1, 3)
    grain = max(float(np.ptp(places, axis=0).max()), 1e-9) * SAME
    rows = np.concatenate([np.round(places / grain).astype(np.int64), np.repeat(surface, 3)[:, None]], axis=1)
    _, vertex = unique_rows(np.ascontiguousarray(rows))
    vertex = vertex.reshape(count, 3)
    begins = np.arange(count * 3)
    ends = begins // 3 * 3 + (begins + 1) % 3
    a, b = vertex.reshape(-1)[begins], vertex.reshape(-1)[ends]
    turned = a > b
    begins, ends = np.where(turned, ends, begins), np.where(turned, begins, ends)
    low, high = np.minimum(a, b), np.maximum(a, b)
    key = low.astype(np.int64) * (int(vertex.max()) + 1) + high
    order = np.argsort(key, kind="stable")
    same = np.flatnonzero((key[order[1:]] == key[order[:-1]]) & (low[order[1:]] != high[order[1:]]))
    one, other = order[same], order[same + 1]
    flat, normals = sheet.reshape(-1, 2), corners[..., 3:6].reshape(-1, 3)
    ends_of = [(begins[one], begins[other]), (ends[one], ends[other])]
    apart = np.maximum(*(np.abs(flat[p] - flat[q]).max(axis=1) for p, q in ends_of)) > 1e-3
    smooth = np.minimum(*((normals[p] * normals[q]).sum(axis=1) for p, q in ends_of)) > ALIKE
    one, other = one[apart & smooth], other[apart & smooth]
    if not len(one):
        return nothing, nothing
    spans = [flat[ends[side]] - flat[begins[side]] for side in (one, other)]
    length = np.maximum(*(np.linalg.norm(span, axis=1) for span in spans))
    many = np.clip(np.ceil(length * DENSE), 1, MOST).astype(np.int64)
    which = np.repeat(np.arange(len(one)), many)
    step = np.arange(len(which)) - np.repeat(np.cumsum(many) - many, many)
    part = ((step + 0.5) / many[which])[:, None]
    return flat[begins[one]][which] + part * spans[0][which], flat[begins[other]][which] + part * spans[1][which]
