"""Choices that divide a group of objects over several sheets."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fasciculum.model.choices import Treatment
from fasciculum.model.delivery import DeliverySettings
from fasciculum.model.terms import MOST_SHEETS
from fasciculum.operations.plan.costs import LEAST_YIELD, GroupCosts, usual_fill
from fasciculum.operations.plan.dividing import Divisible, divide
from fasciculum.operations.plan.figures import Measuring
from fasciculum.progress import SILENT, Progress
from fasciculum.treatments.reading import texels_of
from fasciculum.treatments.regions import swatch_edge

#: how many materials are tried apart: those whose room on a sheet is largest, compared with their own textures
APART = (0, 4, 12)
#: sizes of the last sheet as parts of the others', and how many divisions are tried, from the fewest sheets that may do
LAST = (0.25, 0.5, 1.0)
STEPS = 3
#: where the words of an object's name end
NUMBERS = re.compile(r"[\d_.-]")
#: digits to which a yield counts as reached
CLOSE = 1e-9


@dataclass(frozen=True, eq=False)
class SheetPart:
    """One of several sheets: the costs of its objects, which of their materials lie on it, and its size's number."""

    costs: GroupCosts
    laid: NDArray[np.bool_]
    size: int
    sharpness: float
    bytes: float


@dataclass(frozen=True, eq=False)
class Several:
    """A group's objects over several sheets; ``laid`` tells which of the group's materials lie on any, shape (M,)."""

    parts: tuple[SheetPart, ...]
    laid: NDArray[np.bool_]

    @property
    def calls(self) -> int:
        """The draw calls of all sheets and of what is kept apart beside them."""
        return sum(int(part.costs.calls(part.laid[None, :])[0]) for part in self.parts)

    @property
    def bytes(self) -> float:
        """What all maps take."""
        return sum(part.bytes for part in self.parts)

    @property
    def sharpness(self) -> float:
        """The yield of the sheet that has the least."""
        return min(part.sharpness for part in self.parts)


def several_sheets(
    measuring: Measuring,
    cost: GroupCosts,
    settings: DeliverySettings,
    only: int = 0,
    *,
    progress: Progress = SILENT,
) -> Iterator[Several]:
    """Return ways to divide a group's objects over several sheets.

    Parameters
    ----------
    only : int
        The number of sheets, where it is given; else those that may keep the sharpness that is asked for, if one
        cannot.

    Raises
    ------
    Cancelled
    """
    figures = cost.figures
    tried = set()
    for order, number in enumerate(APART):
        progress.check()
        laid = _laid(cost, number)
        if not laid.any() or laid.tobytes() in tried:
            continue
        tried.add(laid.tobytes())
        needs = {sheets_needed(cost, laid, sharp) for sharp in (cost.terms.sharpness, 1.0)}
        shares = list(dict.fromkeys(some for needed in sorted(needs) for some in _shares(needed, only)))
        divisible = _divisible(measuring, cost, laid) if shares else None
        for step, some in enumerate(shares):
            done = (order + step / len(shares)) / len(APART)
            progress.update(done, f"Dividing {figures.name} over {len(some)} sheets")
            if divisible is not None and len(figures.objects) >= len(some):
                yield from _filled(measuring, cost, settings, laid, divide(divisible, some))


def _shares(needed: float, only: int) -> Iterator[tuple[float, ...]]:
    """Return the divisions to try: for each sheet its part of the largest size, of which ``needed`` would do."""
    if only:
        yield (1.0,) * only
        return
    if needed <= 1:
        return
    steps = [(count, last) for count in range(1, MOST_SHEETS) for last in LAST if count + last >= needed]
    for count, last in steps[:STEPS]:
        yield (*[1.0] * count, last)


def _laid(cost: GroupCosts, apart: int) -> NDArray[np.bool_]:
    """Return the materials that lie on sheets, (M,): all that may, less the ``apart`` that take most room there."""
    laid = cost.may_lie.copy()
    texels = cost.measure(cost.ways)[0]
    sizes = cost.figures.sizes / np.maximum(cost.figures.reads.sum(axis=0), 1)
    own = cost.figures.reads.astype(np.float64) @ sizes
    worth = np.where(laid & cost.may_part & ~cost.flat & (own > 0), texels / np.maximum(own, 1.0), 0.0)
    dearest = np.argsort(-worth, kind="stable")[:apart]
    laid[dearest[worth[dearest] > 0]] = False
    return laid


def sheets_needed(cost: GroupCosts, laid: NDArray[np.bool_], sharp: float) -> float:
    """Return how many of the largest sheets materials need, about, for a yield."""
    measured = cost.measure(cost.ways)
    texels, _, girth, islands = measured @ laid.astype(np.float64)
    around = cost.terms.padding + 1
    wide, high = cost.sizes[-1]
    needed = texels * sharp**2 + girth * around * sharp + islands * around**2
    return float(needed / (usual_fill(cost.ways, measured, laid[None, :])[0] * wide * high))


def _divisible(measuring: Measuring, cost: GroupCosts, laid: NDArray[np.bool_]) -> Divisible:
    """Return a group's objects with what each reads of its materials' texels."""
    scene, figures = measuring.scene, cost.figures
    totals = cost.measure(cost.ways)[0]
    pad = cost.terms.padding
    reads: dict[str, set[int]] = {key: set() for key in figures.objects}
    texels: list[float] = []

    def new(weight: float) -> int:
        texels.append(max(float(weight), 1.0))
        return len(texels) - 1

    uses = measuring.uses(figures.objects)
    for number, (one, way) in enumerate(zip(figures.materials, cost.ways, strict=True)):
        if not laid[number]:
            continue
        own = uses[one.index, one.paired]
        by_place: dict[tuple[int, int], list[str]] = {}
        for item, primitive, _ in own:
            by_place.setdefault((scene.nodes[item.node].mesh, primitive), []).append(item.key)
        if way is Treatment.BLOCK:
            places = sorted(by_place)
            shared = measuring.shared(places, texels_of(scene, scene.materials[one.index]))
            boxes = [region.box for region in shared.regions]
            rooms = [region.texels for region in shared.regions]
            named = [new(room + pad * (b[2] - b[0] + b[3] - b[1])) for room, b in zip(rooms, boxes, strict=True)]
            which = [{named[region] for region in np.unique(part).tolist()} for part in shared.region]
        elif way is Treatment.BAKE:
            places = list(by_place)
            areas = np.array([_area(measuring, place, by_place[place][0]) for place in places])
            weights = totals[number] * areas / max(float(areas.sum()), 1e-300)
            which = [{new(weight)} for weight in weights.tolist()]
        else:
            places = list(by_place)
            once = new(swatch_edge(pad) ** 2 if way is Treatment.SWATCH else totals[number])
            which = [{once}] * len(places)
        for place, some in zip(places, which, strict=True):
            for key in by_place[place]:
                reads[key] |= some
    places_of = np.array([middle_of_bounds(measuring, key) for key in figures.objects])
    return Divisible([tuple(sorted(reads[key])) for key in figures.objects], np.array(texels), places_of)


def _area(measuring: Measuring, place: tuple[int, int], key: str) -> float:
    """Return what a primitive takes by its own, in units that are alike for all of one material."""
    read = measuring.read(*place)
    if read is not None:
        return float(measuring.own_texels(*place))
    item = measuring.scene.object(key)
    return float(measuring.areas(key)[item.primitives.index(place[1])])


def middle_of_bounds(measuring: Measuring, key: str) -> NDArray[np.float64]:
    """Return about where an object stands: the middle of its mesh's bounds through its node, metres."""
    node = measuring.scene.nodes[measuring.scene.object(key).node]
    return np.asarray(node.world[:3, :3] @ measuring.middle(node.mesh) + node.world[:3, 3], np.float64)


def _filled(
    measuring: Measuring,
    cost: GroupCosts,
    settings: DeliverySettings,
    laid: NDArray[np.bool_],
    labels: NDArray[np.int64],
) -> Iterator[Several]:
    """Return a division with sheets of three sizes: for the sharpness asked for, the source's, and the least."""
    figures = cost.figures
    on = {(one.index, one.paired) for one, is_laid in zip(figures.materials, laid, strict=True) if is_laid}
    members = [
        tuple(key for key, at in zip(figures.objects, labels.tolist(), strict=True) if at == sheet)
        for sheet in range(int(labels.max()) + 1)
    ]
    groups = [(name, figures.mode, keys) for name, keys in zip(_names(figures.name, members), members, strict=True)]
    costs = [
        GroupCosts(measuring.scene, one, cost.terms)
        for one in measuring.groups([group for group in groups if group[2]], settings)
    ]
    masks = [np.array([(one.index, one.paired) in on for one in part.figures.materials], np.bool_) for part in costs]
    yields = [part.sharpness(mask[None, :], part.ways)[0] for part, mask in zip(costs, masks, strict=True)]
    seen = set()
    for target in (cost.terms.sharpness, 1.0, LEAST_YIELD):
        parts = []
        for part, mask, reached in zip(costs, masks, yields, strict=True):
            if not mask.any():
                parts.append(SheetPart(part, mask, -1, 1.0, 0.0))
                continue
            enough = np.flatnonzero(reached >= target - CLOSE)
            size = int(enough[0]) if len(enough) else int(reached.argmax())
            parts.append(SheetPart(part, mask, size, float(reached[size]), part.map_bytes(mask, size)))
        sizes = tuple(part.size for part in parts)
        if sizes not in seen and min(part.sharpness for part in parts) >= LEAST_YIELD:
            seen.add(sizes)
            yield Several(tuple(parts), laid)


def _names(group: str, members: Sequence[tuple[str, ...]]) -> list[str]:
    """Return names for the sheets of a group: its own, a number, and the name of what most objects there are called."""
    results = []
    for number, keys in enumerate(members, 1):
        words: dict[str, int] = {}
        for key in keys:
            word = NUMBERS.split(key.split("/")[-1])[0].strip() or key
            words[word] = words.get(word, 0) + 1
        most = max(words, key=lambda word: (words[word], word), default="")
        results.append(f"{group} {number} {most}".strip())
    return results
