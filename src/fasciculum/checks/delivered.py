"""Delivered files whose islands lie on each other."""

from __future__ import annotations

from collections.abc import Mapping

from fasciculum.checks.check import Check, Measure, Scope
from fasciculum.model.finding import ERROR, Finding

#: square texels that rounding alone may make two islands share
ROUNDING = 1e-3


def overlapping(overlaps: Mapping[str, float]) -> list[Finding]:
    """Tell the materials of a delivered file whose islands overlap; ``overlaps`` are areas in square texels."""
    return [
        Finding(
            "overlap",
            ERROR,
            f"{name}: islands overlap on {area:.1f} square texels.",
            "Pack these objects on a sheet of their own.",
            material=name,
        )
        for name, area in overlaps.items()
        if area > ROUNDING
    ]


CHECKS = (
    Check(
        "delivered",
        Scope.DELIVERED,
        ("overlap",),
        lambda facts: overlapping(facts.measured[Measure.OVERLAPS]),
        needs=(Measure.OVERLAPS,),
    ),
)
