"""Plans: what goes together, which way each material is treated, and how large sheets are; and those none beats."""

from __future__ import annotations

import itertools
import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from fasciculum.model.choices import AlphaMode, Share, Treatment
from fasciculum.model.delivery import DeliverySettings
from fasciculum.model.scene import Scene
from fasciculum.model.terms import Terms
from fasciculum.operations.gather.bundling import groups_by_look
from fasciculum.operations.ledger import Cost, cost_of
from fasciculum.operations.plan.costs import GroupCosts, Options
from fasciculum.operations.plan.figures import Measuring
from fasciculum.operations.plan.front import pareto_front, thinned, worth_trying
from fasciculum.operations.plan.several import Several, SheetPart, several_sheets
from fasciculum.progress import SILENT, Progress
from fasciculum.units import MIB

#: materials up to which every choice of a group is tried
MOST_TRIED = 9
#: steps in which materials are taken off the sheet, at most
MOST_STEPS = 64
#: choices of a group that are kept, and combinations of several groups that are looked at
MOST_KEPT, MOST_COMBINED = 400, 250_000
#: materials whose cutting is done without where that costs nothing
MOST_SOFTENED = 24
#: what a draw call is taken to be worth where materials are taken off the sheet one after the other, bytes
PRICES = (1e3, 3e4, 3e5, 1e6, 4e6, 1.6e7, 1e9)
#: by how much more vertices outweigh fewer draw calls and less memory, in the choice of the balanced plan
VERTEX_WEIGHT, MEMORY_WEIGHT = 0.5, 0.35
#: what a source without any texture is allowed to take, bytes
NOTHING = 0.3 * MIB
NAMES = ("balanced", "fewest", "smallest", "sharpest")


#: draw calls, bytes, and the yield that nine tenths keep
Point = tuple[int, int, float]


@dataclass(frozen=True)
class PlannedBundle:
    """One bundle of a plan.

    Attributes
    ----------
    name, mode, objects
    size : tuple of int, optional
        Of its sheet, texels; none when all is kept apart.
    ways : tuple
        For each material its number and its way.
    sharpness : float
        The yield on the sheet, at most 1.
    parts : tuple
        For each map beside base colour the part of the sheet's edge that it has.
    bytes : int
        Of the sheet's maps.
    """

    name: str
    mode: AlphaMode
    objects: tuple[str, ...]
    size: tuple[int, int] | None
    ways: tuple[tuple[int, Treatment], ...]
    sharpness: float
    parts: tuple[tuple[str, float], ...]
    bytes: int


@dataclass(frozen=True)
class Plan:
    """One way to do it all, with what it costs.

    ``p10`` and ``median`` are of the yield by surface with detail, NaN where nothing reads textures; ``added`` are the
    vertices that cutting adds.
    """

    name: str
    draw_calls: int
    materials: int
    texture_bytes: int
    p10: float
    median: float
    added: int
    bundles: tuple[PlannedBundle, ...]
    on_front: bool = True

    @property
    def point(self) -> Point:
        """What plans are compared by: draw calls, bytes, and the yield that nine tenths keep."""
        return self.draw_calls, self.texture_bytes, 1.0 if math.isnan(self.p10) else self.p10


@dataclass(frozen=True)
class Plans:
    """All plans for a scene that none beats, and those with names among them."""

    now: Cost
    front: tuple[Plan, ...]
    named: dict[str, Plan]
    #: of the source
    vertices: int = 1

    def plan(self, name: str) -> Plan:
        """Return the plan of a name; `KeyError` when there is none."""
        return self.named[name]


def _every_combination(counts: Sequence[int]) -> NDArray[np.int64]:
    """Return every way to choose one of each, a row each, shape (product of the counts, number of counts)."""
    rows = list(itertools.product(*map(range, counts)))
    return np.array(rows, np.int64).reshape(len(rows), len(counts))


class Planner:
    """Finds plans for a scene; what it measures of surfaces is kept for further terms.

    Parameters
    ----------
    scene : Scene
    settings : DeliverySettings
        Whether and by which regions bundles are joined.
    groups : sequence, optional
        Name, alpha mode and objects of the bundles to be; by alpha mode and look without.
    """

    def __init__(
        self,
        scene: Scene,
        settings: DeliverySettings,
        groups: Sequence[tuple[str, AlphaMode, tuple[str, ...]]] | None = None,
    ) -> None:
        self.scene, self.settings = scene, settings
        self.measuring = Measuring(scene)
        self.figures = self.measuring.groups(groups_by_look(scene) if groups is None else groups, settings)
        self.now = cost_of(scene, tuple(item.key for item in scene.objects))

    def plans(self, terms: Terms, progress: Progress = SILENT) -> Plans:
        """Return the plans that no other beats."""
        costs = [GroupCosts(self.scene, figures, terms) for figures in self.figures]
        divisions = [
            self._divisions(cost, progress.part(number / len(costs), (number + 1) / len(costs)))
            for number, cost in enumerate(costs)
        ]
        choices = [self._choices(cost, several) for cost, several in zip(costs, divisions, strict=True)]
        while math.prod(max(len(one), 1) for one in choices) > MOST_COMBINED:
            largest = max(range(len(choices)), key=lambda number: len(choices[number]))
            choices[largest] = thinned(choices[largest], costs[largest])
        rows = _every_combination([len(one) for one in choices])
        calls, size, p10, median = self._points(choices, rows)
        points = np.column_stack([calls, size, -p10])
        chosen = np.flatnonzero(pareto_front(points)) if len(rows) else np.zeros(0, np.int64)
        plans = [
            self._plan(
                costs,
                choices,
                divisions,
                rows[row],
                (int(calls[row]), round(float(size[row]))),
                (p10[row], median[row]),
            )
            for row in chosen.tolist()
        ]
        plans.sort(key=lambda plan: (plan.draw_calls, plan.texture_bytes))
        vertices = max(sum(len(p.positions) for mesh in self.scene.meshes for p in mesh.primitives), 1)
        best = named_among(plans, self.now, terms, vertices)
        known = {cost.figures.objects: cost for cost in costs}
        known |= {part.costs.figures.objects: part.costs for some in divisions for one in some for part in one.parts}
        named = {
            name: _gentle([known[one.objects] for one in plan.bundles], replace(plan, name=name))
            for name, plan in best.items()
        }
        return Plans(self.now, tuple(plans), named, vertices)

    def gentle(self, plan: Plan, terms: Terms) -> Plan:
        """Return a plan with ways that add fewer vertices at the same cost and sharpness."""
        known = {figures.objects: figures for figures in self.figures}
        results = []
        for one in plan.bundles:
            if one.objects not in known:
                (known[one.objects],) = self.measuring.groups([(one.name, one.mode, one.objects)], self.settings)
            results.append(GroupCosts(self.scene, known[one.objects], terms))
        return _gentle(results, plan)

    # -- choices ----------------------------------------------------------------------------------------------

    def _divisions(self, cost: GroupCosts, progress: Progress) -> list[Several]:
        """Return ways to divide a group's objects over several sheets, as the terms ask or where one cannot do."""
        only = self._sheets_of(cost)
        if only == 1:
            return []
        return list(several_sheets(self.measuring, cost, self.settings, only, progress=progress))

    def _sheets_of(self, cost: GroupCosts) -> int:
        """Return over how many sheets a group is to be divided, 0 for as many as pays.

        What is asked for is for each alpha mode: groups of other looks of it have one each, the largest has the rest.
        """
        wanted, figures = cost.terms.sheets, cost.figures
        alike = [one for one in self.figures if one.mode == figures.mode]
        if not wanted or sum(len(one.objects) for one in alike) < wanted:
            return min(wanted, 1)
        if figures is not max(alike, key=lambda one: len(one.objects)):
            return 1
        return max(1, min(wanted - len(alike) + 1, len(figures.objects)))

    def _choices(self, cost: GroupCosts, divisions: Sequence[Several]) -> Options:
        """Return the choices of a group that may be part of a plan on the front."""
        options = cost.options(self._subsets(cost))
        if divisions:
            more = _options_of(cost, divisions)
            options = more if cost.terms.sheets > 1 else options.with_more(more)
        return options.rows(np.flatnonzero(worth_trying(options, cost, self._shared(cost))))

    def _shared(self, cost: GroupCosts) -> NDArray[np.bool_]:
        """Tell which of a group's images other groups read too."""
        others = {key for one in self.figures if one is not cost.figures for key in one.images}
        return np.array([key in others for key in cost.figures.images], np.bool_)

    def _subsets(self, cost: GroupCosts) -> NDArray[np.bool_]:
        """Return choices of materials on the sheet: all of them where there are few, else the promising ones."""
        free = np.flatnonzero(cost.may_part & cost.may_lie & ~cost.flat)
        laid = self._of_detail(cost, free, ~cost.may_part)
        if not cost.flat.any():
            return laid
        # all flat colours on swatches, or none: one by one they gain nothing
        return np.concatenate([laid | cost.flat[None, :], laid & ~cost.flat[None, :]])

    def _of_detail(self, cost: GroupCosts, free: NDArray[np.int64], always: NDArray[np.bool_]) -> NDArray[np.bool_]:
        """Return choices among materials that may lie on the sheet or be kept apart."""
        count = len(cost.figures.materials)
        if len(free) <= MOST_TRIED:
            bits = (np.arange(1 << len(free))[:, None] >> np.arange(len(free))[None, :]) & 1
            laid = np.tile(always, (len(bits), 1))
            laid[:, free] = bits.astype(np.bool_)
            return laid
        texels = cost.measure(cost.ways)[0]
        own = cost.figures.reads.astype(np.float64) @ (
            cost.figures.sizes / np.maximum(cost.figures.reads.sum(axis=0), 1)
        )
        draws = cost.figures.shown.sum(axis=0)
        rows = []
        for price in PRICES:
            worth = texels[free] / np.maximum(own[free] + price * draws[free], 1.0)
            order = free[np.argsort(-worth, kind="stable")]
            for number in np.unique(np.linspace(0, len(order), min(len(order), MOST_STEPS) + 1).astype(int)).tolist():
                laid = always.copy()
                laid[order[number:]] = True
                rows.append(laid)
        return np.unique(np.array(rows).reshape(-1, count), axis=0)

    # -- points -----------------------------------------------------------------------------------------------

    def _points(
        self, choices: Sequence[Options], rows: NDArray[np.int64]
    ) -> tuple[NDArray[np.int64], NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]:
        """Return draw calls, bytes, and yields (10th percentile and median) of combinations."""
        calls = np.zeros(len(rows), np.int64)
        size = np.zeros(len(rows))
        keys = sorted({key for figures in self.figures for key in figures.images})
        place = {key: number for number, key in enumerate(keys)}
        weights = np.zeros(len(keys))
        read = np.zeros((len(rows), len(keys)), np.bool_)
        steps, areas, whole = [], [], 0.0
        for figures, options, chosen in zip(self.figures, choices, rows.T, strict=True):
            calls += options.calls[chosen]
            size += options.sheet_bytes[chosen]
            where = np.array([place[key] for key in figures.images], np.int64)
            weights[where] = figures.sizes
            read[:, where] |= options.images[chosen]
            steps.append(options.sharpness[chosen])
            areas.append(options.area[chosen])
            whole += sum(one.area for one in figures.materials if one.detailed)
        size += read @ weights
        if not steps or whole <= 0:
            return calls, size, np.ones(len(rows)), np.ones(len(rows))
        yields, weighs = np.stack(steps, axis=1), np.stack(areas, axis=1)
        order = np.argsort(yields, axis=1, kind="stable")
        yields, weighs = np.take_along_axis(yields, order, axis=1), np.take_along_axis(weighs, order, axis=1)
        heaped = np.cumsum(weighs, axis=1)

        def part(of: float) -> NDArray[np.float64]:
            """Return the yield below which a part of the surface lies; what is kept apart has 1."""
            reached = heaped >= of * whole * (1 - 1e-9)
            result = np.where(reached.any(axis=1), np.take_along_axis(yields, reached.argmax(1)[:, None], 1)[:, 0], 1.0)
            return np.minimum(result, 1.0)

        return calls, size, part(0.1), part(0.5)

    def _plan(
        self,
        costs: Sequence[GroupCosts],
        choices: Sequence[Options],
        divisions: Sequence[Sequence[Several]],
        row: NDArray[np.int64],
        cost_of_it: tuple[int, int],
        kept: tuple[float, float],
    ) -> Plan:
        """Return a combination as a plan; its draw calls and bytes, and its yields, are known."""
        bundles, added, sheets = [], 0, 0
        apart: set[int] = set()
        for cost, options, several, chosen in zip(costs, choices, divisions, row.tolist(), strict=True):
            number = int(options.several[chosen])
            parts = [
                SheetPart(
                    cost,
                    options.laid[chosen],
                    int(options.size[chosen]),
                    float(options.sharpness[chosen]),
                    float(options.sheet_bytes[chosen]),
                )
            ]
            for part in parts if number < 0 else several[number].parts:
                bundle = _planned(part)
                figures = part.costs.figures
                added += _added(part.costs, bundle.ways)
                leaders = figures.leaders[np.flatnonzero(~part.laid)]
                apart |= {figures.materials[leader].index for leader in leaders.tolist()}
                sheets += bundle.size is not None
                bundles.append(bundle)
        reads = any(one.detailed for figures in self.figures for one in figures.materials)
        p10, median = kept if reads else (math.nan, math.nan)
        calls, size = cost_of_it
        return Plan("", calls, sheets + len(apart), size, float(p10), float(median), added, tuple(bundles))


def _planned(part: SheetPart) -> PlannedBundle:
    """Return a sheet and what lies beside it as a bundle of a plan."""
    cost, figures = part.costs, part.costs.figures
    ways = tuple(
        (one.index, way if on else Treatment.APART)
        for one, way, on in zip(figures.materials, cost.ways, part.laid, strict=True)
    )
    parts = cost.map_parts(part.laid[None, :])[0]
    named = tuple(
        (name, float(share))
        for name, share in zip(("normal", "orm", "emissive"), parts[1:], strict=True)
        if 0 < share < 1
    )
    whole = None if part.size < 0 else cost.sizes[part.size]
    return PlannedBundle(
        figures.name, figures.mode, figures.objects, whole, ways, part.sharpness, named, round(part.bytes)
    )


def _options_of(cost: GroupCosts, divisions: Sequence[Several]) -> Options:
    """Return divisions over several sheets as choices of their group."""
    figures = cost.figures
    laid = np.array([one.laid for one in divisions])
    return Options(
        laid,
        np.full(len(laid), -1, np.int64),
        np.array([one.calls for one in divisions], np.int64),
        np.array([one.bytes for one in divisions]),
        ((~laid).astype(np.float64) @ figures.reads.astype(np.float64)) > 0,
        np.array([one.sharpness for one in divisions]),
        (laid * cost.area[None, :]).sum(axis=1),
        np.arange(len(laid)),
    )


def keeps(plan: Plan, now: Cost, terms: Terms) -> bool:
    """Tell whether a plan keeps the sharpness and the budgets that are asked for."""
    return _within(plan, _memory(now, terms), terms) and plan.point[2] >= terms.sharpness - 1e-9


def _memory(now: Cost, terms: Terms) -> float:
    """Return the bytes that plans may take: those asked for, else what the source takes."""
    return terms.memory or now.texture_bytes or NOTHING


def _within(plan: Plan, memory: float, terms: Terms) -> bool:
    return plan.texture_bytes <= memory and (not terms.calls or plan.draw_calls <= terms.calls)


def misses_of(plan: Plan, now: Cost, terms: Terms) -> list[str]:
    """Return in words which of the limits that were given a plan does not keep."""
    results = []
    if terms.calls and plan.draw_calls > terms.calls:
        results.append(f"{plan.draw_calls} draw calls instead of {terms.calls}")
    if terms.memory and plan.texture_bytes > terms.memory:
        results.append(f"{plan.texture_bytes / MIB:.3g} MiB instead of {terms.memory / MIB:.3g}")
    if plan.point[2] < terms.sharpness - 1e-9:
        results.append(f"sharpness {plan.point[2]:.0%} instead of {terms.sharpness:.0%}")
    return results


def within_limits(plans: Sequence[Plan], terms: Terms) -> list[Plan]:
    """Return the plans that keep the limits that were given: draw calls, memory, and with them the sharpness.

    The sharpness is no limit of its own as long as nothing else is limited: plans without it are what some names are
    for. Where no plan fits, the nearest is all that is returned: the one that exceeds its limits by the least factor.
    """
    if not terms.memory and not terms.calls:
        return list(plans)

    def excess(plan: Plan) -> float:
        over = [terms.sharpness / max(plan.point[2], 1e-9)]
        over += [plan.texture_bytes / terms.memory] if terms.memory else []
        over += [plan.draw_calls / terms.calls] if terms.calls else []
        return math.prod(max(part, 1.0) for part in over)

    fit = [plan for plan in plans if excess(plan) <= 1 + 1e-9]
    return fit or [min(plans, key=excess)]


def named_among(plans: Sequence[Plan], now: Cost, terms: Terms, vertices: int = 1) -> dict[str, Plan]:
    """Return the plans with names among those of a front; limits that were given bind each of them.

    ``vertices`` are those of the source, against which those that cutting adds are weighed.
    """
    if not plans:
        return {}
    plans = within_limits(plans, terms)
    memory = max(_memory(now, terms), min(one.texture_bytes for one in plans))

    def misses(plan: Plan) -> tuple[bool, float]:
        return not _within(plan, memory, terms), -min(plan.point[2], terms.sharpness)

    def worth(plan: Plan) -> tuple[bool, float, float, int, int]:
        share = max(plan.texture_bytes, 1024) / max(now.texture_bytes, 1024)
        score = math.log2(max(plan.draw_calls, 1)) + MEMORY_WEIGHT * math.log2(share)
        score += VERTEX_WEIGHT * math.log2(1 + plan.added / vertices)
        return *misses(plan), score, plan.draw_calls, plan.texture_bytes

    return {
        "balanced": min(plans, key=worth),
        "fewest": min(plans, key=lambda plan: (plan.draw_calls, *misses(plan), plan.texture_bytes)),
        "smallest": min(plans, key=lambda plan: (plan.texture_bytes, plan.draw_calls)),
        "sharpest": min(plans, key=lambda plan: (-plan.point[2], plan.draw_calls, plan.texture_bytes)),
    }


def _added(cost: GroupCosts, ways: Sequence[tuple[int, Treatment]]) -> int:
    """Return about how many vertices cutting at repeats adds."""
    materials = cost.figures.materials
    return sum(one.added for one, (_, way) in zip(materials, ways, strict=True) if way is Treatment.CUT)


def _gentle(costs: Sequence[GroupCosts], plan: Plan) -> Plan:
    """Return a plan with ways that add fewer vertices at the same cost and sharpness."""
    bundles, added = [], 0
    for cost, bundle in zip(costs, plan.bundles, strict=True):
        ways = bundle.ways if bundle.size is None else _gentler(cost, bundle.size, bundle.sharpness, bundle.ways)
        added += _added(cost, ways)
        bundles.append(replace(bundle, ways=ways))
    return replace(plan, bundles=tuple(bundles), added=added)


def _gentler(
    cost: GroupCosts, size: tuple[int, int], sharpness: float, ways: tuple[tuple[int, Treatment], ...]
) -> tuple[tuple[int, Treatment], ...]:
    """Return ways that add fewer vertices on a sheet of that size, at that sharpness; those that add most first."""
    results = [way for _, way in ways]
    rule, most = cost.terms.repeats, cost.terms.most_repeats
    laid = np.array([[way is not Treatment.APART for way in results]])
    materials = cost.figures.materials
    cuts = sorted((at for at, way in enumerate(results) if way is Treatment.CUT), key=lambda at: -materials[at].added)
    for number in cuts[:MOST_SOFTENED]:
        for way in (Treatment.BLOCK, Treatment.BAKE, Treatment.LANE):
            one = materials[number]
            if way is Treatment.BLOCK and (one.block is None or cost.terms.share != Share.AUTO):
                continue
            if way is Treatment.LANE and one.lane is None:
                continue
            # blocks are baked in too
            if rule not in ("auto", str(Treatment.BAKE if way is Treatment.BLOCK else way)):
                continue
            if way is Treatment.BAKE and most is not None and one.span > most:
                continue
            tried = [way if at == number else other for at, other in enumerate(results)]
            if cost.sharpness(laid, tried, [size])[0, 0] >= sharpness - 1e-9:
                results[number] = way
                break
    return tuple((index, way) for (index, _), way in zip(ways, results, strict=True))
