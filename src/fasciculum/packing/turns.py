"""The turns that a setting allows."""

from __future__ import annotations

import math

STEPS = {"none": 1, "half": 2, "quarter": 4, "eighth": 8, "any": 16}


def angles(turns: str) -> tuple[float, ...]:
    """Return the allowed turns in radians, none first."""
    steps = STEPS[turns]
    return tuple(2 * math.pi * step / steps for step in range(steps))
