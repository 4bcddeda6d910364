"""The turns that a setting allows: how many steps make a whole turn; ``any`` is tried in steps, then refined."""

from __future__ import annotations

STEPS = {"none": 1, "half": 2, "quarter": 4, "eighth": 8, "any": 16}
