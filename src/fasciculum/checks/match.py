"""What a bundle's comparison with its source shows: sharpness lost, colours that do not match."""

from __future__ import annotations

import math

from fasciculum.checks.check import Check, Scope
from fasciculum.model.bundle import Bundle
from fasciculum.model.finding import WARNING, Finding
from fasciculum.model.maps import BASE_COLOR

#: below these a difference can be seen, for objects that keep their sharpness and for those that do not
SEEN, SEEN_BLURRED = 34.0, 28.0
LOW_YIELD = 0.5


def check_match(bundle: Bundle) -> list[Finding]:
    """Judge the fidelity that was measured on each object."""
    if bundle.check is None:
        return []
    findings = []
    for entry in bundle.check.fidelity:
        limit = SEEN if entry.yield_ >= 0.9 or math.isnan(entry.yield_) else SEEN_BLURRED
        figure = entry.figure(BASE_COLOR.name)
        if figure < limit:
            findings.append(
                Finding(
                    "differs",
                    WARNING,
                    f"{entry.object}: base colour matches its source at only {figure:.1f} dB.",
                    "Compare it with the wipe, and raise its density multiplier.",
                    object=entry.object,
                    bundle=bundle.name,
                )
            )
        if entry.yield_ < LOW_YIELD:
            findings.append(
                Finding(
                    "blurred",
                    WARNING,
                    f"{entry.object} keeps {entry.yield_:.0%} of its source's sharpness.",
                    "Raise its density multiplier, use a larger sheet, or give it a bundle of its own.",
                    object=entry.object,
                    bundle=bundle.name,
                )
            )
    if bundle.layout is not None and bundle.check.clean_down_to > max(bundle.layout.width, bundle.layout.height) // 2:
        findings.append(
            Finding(
                "mixing",
                WARNING,
                f"{bundle.name}: neighbours mix below {bundle.check.clean_down_to} px.",
                "Use more padding.",
                bundle=bundle.name,
            )
        )
    return findings


CHECKS = (
    Check("match", Scope.BUNDLE, ("differs", "blurred", "mixing"), lambda facts: check_match(facts.bundle), rank=20),
)
