"""Twins: islands alike in shape and content, found by what turning does not change, then compared exactly."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fasciculum.kernels.packing.twins import distinct, match_islands
from fasciculum.progress import SILENT, Progress

#: how far two islands' measures may differ for them to be compared, as a part
CLOSE = 1e-4
#: islands between two looks at whether to go on
LOOK = 200
#: islands that measure the same and yet are not alike are compared with so many, at most
MOST_COMPARED = 32
#: corners of one island nearer than this part of its radius are one
SAME = 1e-6


@dataclass(frozen=True, eq=False)
class Candidate:
    """One flat island that may be another's twin.

    Attributes
    ----------
    corners : ndarray of float64, shape (T, 3, 2)
        Metres.
    content : ndarray of float64, shape (T, 3, K)
        What is read at each corner: source UVs in the first ``whole`` columns, then vertex colours.
    materials : ndarray of int64, shape (T,)
    rule : str
        ``together``, ``unmirrored``, or ``apart``.
    hand : bool
        Whether the surface it stands for is a mirror image of its mesh.
    """

    corners: NDArray[np.float64]
    content: NDArray[np.float64]
    materials: NDArray[np.int64]
    whole: int
    rule: str = "together"
    hand: bool = False


@dataclass(frozen=True, eq=False)
class Twins:
    """Which island stands for each island, and the 2 x 3 map, rows of 6, from the island's metres to that one's."""

    leader: NDArray[np.int64]
    maps: NDArray[np.float64]

    @property
    def places(self) -> int:
        """How many islands remain once twins lie on one place."""
        return int((self.leader == np.arange(len(self.leader))).sum())


class _Form:
    """An island in the form in which it is compared."""

    def __init__(self, candidate: Candidate) -> None:
        corners = candidate.corners
        flat = corners.reshape(-1, 2)
        one, two = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
        areas = np.abs(one[:, 0] * two[:, 1] - one[:, 1] * two[:, 0])
        total = float(areas.sum())
        weights = areas / total if total > 0 else np.full(len(areas), 1 / max(len(areas), 1))
        self.middle = (corners.mean(axis=1) * weights[:, None]).sum(axis=0)
        about = flat - self.middle
        self.radius = max(float(np.hypot(about[:, 0], about[:, 1]).max()), 1e-150)
        about = np.ascontiguousarray(about / self.radius)
        content = np.ascontiguousarray(candidate.content.reshape(len(flat), -1))
        first, number = np.empty(len(flat), np.int64), np.empty(len(flat), np.int64)
        kinds = distinct(about, content, SAME, first, number)
        first = first[:kinds]
        self.points, self.content = about[first], content[first]
        self.triangles = number.reshape(-1, 3)
        self.materials = np.ascontiguousarray(candidate.materials, np.int64)
        self.area = total / self.radius**2
        whole = candidate.whole
        # what no turn and no whole repeat changes: by it most that are not alike are told apart at once
        around = self.content[:, :whole] * (2 * np.pi)
        self.measures = np.concatenate(
            [
                [float(np.hypot(self.points[:, 0], self.points[:, 1]).mean())],
                np.cos(around).mean(axis=0),
                np.sin(around).mean(axis=0),
                self.content[:, whole:].mean(axis=0),
            ]
        )

    def kind(self, candidate: Candidate) -> tuple[object, ...]:
        """Return what twins have in common to the last bit."""
        return (
            len(self.triangles),
            len(self.points),
            candidate.whole,
            self.content.shape[1],
            tuple(np.unique(candidate.materials).tolist()),
        )


def find_twins(islands: Sequence[Candidate], progress: Progress = SILENT) -> Twins:
    """Find twins among islands; of each kind one leads, and leads itself."""
    count = len(islands)
    leader = np.arange(count)
    maps = np.tile(np.array([1.0, 0, 0, 0, 1, 0]), (count, 1))
    kinds: dict[tuple[object, ...], list[tuple[float, int]]] = {}
    forms = []
    for index, island in enumerate(islands):
        if index % LOOK == 0:
            progress.check()
        form = _Form(island)
        forms.append(form)
        if island.rule != "apart" and form.area > 0:
            kinds.setdefault(form.kind(island), []).append((form.area, index))
    turn = np.empty(4)
    for members in kinds.values():
        if len(members) < 2:
            continue
        members.sort()
        heads, sizes = np.empty(len(members), np.int64), np.empty(len(members))
        measures = np.empty((len(members), len(forms[members[0][1]].measures)))
        held = first = 0
        for number, (area, index) in enumerate(members):
            if number % LOOK == 0:
                progress.check()
            form = forms[index]
            while first < held and sizes[first] < area * (1 - CLOSE):
                first += 1
            near = (np.abs(measures[first:held] - form.measures) <= CLOSE).all(axis=1)
            for head in heads[first:held][near][:MOST_COMPARED].tolist():
                other = forms[head]
                same_hand = "unmirrored" in (islands[index].rule, islands[head].rule)
                if same_hand and islands[index].hand != islands[head].hand:
                    continue
                if not match_islands(
                    form.points,
                    form.content,
                    form.triangles,
                    form.materials,
                    other.points,
                    other.content,
                    other.triangles,
                    other.materials,
                    islands[index].whole,
                    not same_hand,
                    turn,
                ):
                    continue
                matrix = turn.reshape(2, 2) * (other.radius / form.radius)
                shift = other.middle - matrix @ form.middle
                leader[index] = head
                maps[index] = np.column_stack([matrix, shift]).ravel()
                break
            else:
                heads[held], sizes[held], measures[held] = index, area, form.measures
                held += 1
    return Twins(leader, maps)
