"""Parts of a surface that are alike are unwrapped once, so that their charts can lie on one place."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fasciculum.kernels.unwrapping.alike_parts import lay_over
from fasciculum.uv.unwrap.surface import Mesh

#: how far areas of alike parts may differ, and places of their corners, as parts of the whole
SAME_AREA, SAME_PLACE = 1e-5, 2e-5
#: parts that measure the same and yet are not alike, that a part is compared with at most
MOST_COMPARED = 16
#: triangles on which the first one is tried at most
MOST_TRIED = 400


@dataclass(frozen=True, eq=False)
class Alike:
    """Which parts stand for others.

    Attributes
    ----------
    leads : ndarray of bool, shape (T,)
        Triangles of parts that are unwrapped.
    home : ndarray of int64, shape (T,)
        For the others, the triangle that each is alike to; -1 for those that lead.
    shift : ndarray of int64, shape (T,)
        Its corner 0 is corner ``shift`` of that triangle.
    mirrored : ndarray of bool, shape (T,)
        Its corners run the other way round.
    """

    leads: NDArray[np.bool_]
    home: NDArray[np.int64]
    shift: NDArray[np.int64]
    mirrored: NDArray[np.bool_]

    def corner(self, triangles: NDArray[np.int64], k: int) -> NDArray[np.int64]:
        """Return on which corner of their homes corner ``k`` of triangles lies."""
        result: NDArray[np.int64] = (self.shift[triangles] + np.where(self.mirrored[triangles], -k, k)) % 3
        return result


def find_alike(mesh: Mesh, apart: NDArray[np.bool_]) -> Alike:
    """Find parts that are alike, turned or mirrored; parts with triangles in ``apart`` stand for themselves."""
    count = len(mesh)
    home, shift = np.full(count, -1, np.int64), np.zeros(count, np.int64)
    mirrored = np.zeros(count, np.bool_)
    order = np.argsort(mesh.part, kind="stable")
    parts = int(mesh.part.max()) + 1 if count else 0
    starts = np.searchsorted(mesh.part[order], np.arange(parts + 1))
    surface = np.bincount(mesh.part, mesh.areas, parts)
    own = np.bincount(mesh.part, apart, parts) > 0
    kinds: dict[tuple[int, int], list[int]] = {}
    queue = np.empty(count, np.int64)
    for number in range(parts):
        faces = order[starts[number] : starts[number + 1]]
        if own[number] or surface[number] <= 0:
            continue
        borders = int((mesh.across.reshape(-1, 3)[faces] < 0).sum())
        known = kinds.setdefault((len(faces), borders), [])
        for leader in known[:MOST_COMPARED]:
            if abs(surface[leader] / surface[number] - 1) > SAME_AREA:
                continue
            if _over(mesh, faces, order[starts[leader] : starts[leader + 1]], home, shift, mirrored, queue):
                break
        else:
            known.append(number)
    return Alike(home < 0, home, shift, mirrored)


def _over(
    mesh: Mesh,
    faces: NDArray[np.int64],
    others: NDArray[np.int64],
    home: NDArray[np.int64],
    shift: NDArray[np.int64],
    mirrored: NDArray[np.bool_],
    queue: NDArray[np.int64],
) -> bool:
    """Lay a part over another in any way that fits."""
    start = int(faces[mesh.areas[faces].argmax()])
    tolerance = SAME_PLACE * float(np.ptp(mesh.corners[faces].reshape(-1, 3), axis=0).max())
    near = others[np.abs(mesh.areas[others] / mesh.areas[start] - 1) < 10 * SAME_AREA][:MOST_TRIED]
    for end in near.tolist():
        for flip in (False, True):
            for offset in range(3):
                if lay_over(  # type: ignore[call-arg]
                    mesh.corners, mesh.across, start, end, offset, flip, tolerance, home, shift, queue
                ):
                    # a part that lies over itself may fall on another twice
                    if len(np.unique(home[faces])) == len(faces):
                        mirrored[faces] = flip
                        return True
                    home[faces] = -1
    return False
