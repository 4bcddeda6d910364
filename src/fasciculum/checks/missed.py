"""Missed: objects whose texels met no high-poly surface."""

from __future__ import annotations

from fasciculum.checks.check import Check, Scope
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import AlphaMode
from fasciculum.model.finding import WARNING, Finding

#: part of an object's texels that may meet nothing without a word
UNTOLD = 0.01


def check_missed(bundle: Bundle) -> list[Finding]:
    """Name the objects of which more than a hundredth met nothing; in a bundle with opacity that is clear and meant."""
    if bundle.alpha_mode is not AlphaMode.OPAQUE:
        return []
    missed = bundle.texturing.missed if bundle.texturing is not None else ()
    return [
        Finding(
            "missed",
            WARNING,
            f"{key}: {share:.1%} of its texels found no high-poly surface within the ray distance; "
            "they were filled from neighbouring texels.",
            "Increase its ray distance under Bake, or check its high-poly models for holes.",
            object=key,
            bundle=bundle.name,
        )
        for key, share in missed
        if share > UNTOLD and key in bundle.objects
    ]


CODES = ("missed",)
CHECKS = (Check("missed", Scope.BUNDLE, CODES, lambda facts: check_missed(facts.bundle), rank=30),)
