"""Budgets: what a result comes to beside each limit, and findings for limits that are not kept."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import numpy as np

from fasciculum.model.budget import AT_LEAST, Budget
from fasciculum.model.document import Document
from fasciculum.model.finding import ERROR, Finding
from fasciculum.model.maps import BASE_COLOR
from fasciculum.model.scene import Scene
from fasciculum.operations.ledger import ledger_of
from fasciculum.operations.plan.sizing import low_yield, surface_yields
from fasciculum.units import MIB

CODE = "over_budget"
#: what each figure is called, how it is written, and what to do about it
WORDS = {
    "draw_calls": ("draw calls", "{:,.0f}", "Take a plan with fewer draw calls, or merge meshes under Deliver."),
    "texture_mib": ("texture memory", "{:,.1f} MiB", "Take a plan with less memory, or smaller sheets."),
    "sharpness": ("sharpness", "{:.0%}", "Use larger sheets, or more of them."),
    "match_db": ("match with the source", "{:.1f} dB", "Compare the worst objects with the wipe under Check."),
    "triangles": ("triangles", "{:,.0f}", "Remove objects, or deliver simpler ones."),
}


@dataclass(frozen=True)
class Judged:
    """A limit, and what the result comes to; the value is None where it is not known yet."""

    name: str
    limit: float
    value: float | None
    ok: bool

    @property
    def entry(self) -> dict[str, Any]:
        """The limit as reports have it."""
        value = None if self.value is None or not math.isfinite(self.value) else round(self.value, 4)
        return {"name": self.name, "limit": self.limit, "value": value, "ok": self.ok}

    @property
    def share(self) -> float:
        """The part of the limit that is used, 0 where nothing is known; over 1 is too much."""
        if self.value is None or not math.isfinite(self.value):
            return 0.0
        return self.limit / max(self.value, 1e-12) if self.name in AT_LEAST else self.value / self.limit

    def words(self, which: float | None) -> str:
        """Return a value of this figure with its unit."""
        return "unknown" if which is None else WORDS[self.name][1].format(which)


def judged(budget: Budget, values: dict[str, float | None]) -> list[Judged]:
    """Return each limit with the value that it is compared with.

    What is not known is not kept: a budget that cannot be judged must not pass unseen.
    """
    results = []
    for name, limit in budget.limits():
        value = values.get(name)
        ok = value is not None and (value >= limit if name in AT_LEAST else value <= limit)
        results.append(Judged(name, limit, value, ok))
    return results


def triangles_of(scene: Scene) -> int:
    """Return the number of triangles that are drawn of a scene, copies counted."""
    return sum(len(primitive.triangles) for item in scene.objects for primitive in scene.primitives_of(item))


@lru_cache(maxsize=2)
def document_values(document: Document) -> dict[str, float | None]:
    """Return what a document's result comes to, by the names of budgets; None where it is not known yet."""
    after, scene = ledger_of(document).after, document.scene
    parts = [
        surface_yields(scene, bundle, bundle.layout)
        for bundle in document.bundles
        if bundle.objects and bundle.layout is not None and bundle.layout.scale > 0 and bundle.given is None
    ]
    yields, areas = (np.concatenate([np.zeros(0), *(part[side] for part in parts)]) for side in (0, 1))
    laid = all(bundle.layout is not None for bundle in document.bundles if bundle.objects)
    checked = all(bundle.check is not None for bundle in document.bundles if bundle.objects)
    figures = [
        one.figure(BASE_COLOR.name)
        for bundle in document.bundles
        if bundle.check is not None
        for one in bundle.check.fidelity
    ]
    match = min((figure for figure in figures if not math.isnan(figure)), default=math.inf)
    return {
        "draw_calls": float(after.draw_calls),
        "texture_mib": after.texture_bytes / MIB,
        "sharpness": (low_yield(yields, areas) if len(yields) else math.inf) if laid else None,
        "match_db": match if checked else None,
        "triangles": float(triangles_of(scene)),
    }


def judged_document(document: Document) -> list[Judged]:
    """Return each limit of a document with what its result comes to."""
    return judged(document.budget, document_values(document)) if any(document.budget.limits()) else []


def budget_findings(results: list[Judged], *, told_unknown: bool = True) -> list[Finding]:
    """Return a finding for each limit that is not kept, and for what is not known unless that is still to come."""
    return [
        Finding(
            CODE,
            ERROR,
            f"The result has {one.words(one.value)} {WORDS[one.name][0]}, the budget is {one.words(one.limit)}."
            if one.name in ("draw_calls", "triangles")
            else f"The result's {WORDS[one.name][0]} is {one.words(one.value)}, the budget is {one.words(one.limit)}.",
            WORDS[one.name][2],
        )
        for one in results
        if not one.ok and (one.value is not None or told_unknown)
    ]
