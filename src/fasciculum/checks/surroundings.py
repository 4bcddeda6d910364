"""Surroundings: copies on one place whose computed maps would differ."""

from __future__ import annotations

import numpy as np

from fasciculum.checks.check import Check, Scope
from fasciculum.model.bundle import Bundle
from fasciculum.model.finding import INFO, Finding
from fasciculum.uv.corners import signed_uv_areas


def check_surroundings(bundle: Bundle) -> list[Finding]:
    """Name the copies that share a place though they stand otherwise, and what of the sheet parting them would take."""
    check, layout = bundle.check, bundle.layout
    if check is None or layout is None or not check.unlike:
        return []
    unlike = dict(check.unlike)
    texels = 0.0
    for index, surface in enumerate(layout.surfaces):
        copies = sum(key in unlike for key in surface.objects)
        if copies:
            texels += copies * float(np.abs(signed_uv_areas(layout.sheet_corners(index))).sum())
    part = texels / (layout.width * layout.height)
    names = sorted(unlike, key=lambda key: -unlike[key])
    more = f" and {len(names) - 4} more" if len(names) > 4 else ""
    return [
        Finding(
            "surroundings_differ",
            INFO,
            f"{bundle.name}: {', '.join(names[:4])}{more} share texels with copies in other "
            f"surroundings; their occlusion is wrong by up to {max(unlike.values()):.2f}. Parting "
            f"them takes {part:.0%} of the sheet more.",
            "Give copies their own texels (Bake, Rays, Copies), or set Occluders to the object itself.",
            object=names[0],
            bundle=bundle.name,
        )
    ]


CODES = ("surroundings_differ",)
CHECKS = (Check("surroundings", Scope.BUNDLE, CODES, lambda facts: check_surroundings(facts.bundle), rank=50),)
