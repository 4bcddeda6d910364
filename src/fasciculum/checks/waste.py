"""Waste: maps that hold nothing finer than a smaller size would."""

from __future__ import annotations

from fasciculum.checks.check import Check, Scope
from fasciculum.model.bundle import Bundle
from fasciculum.model.finding import INFO, Finding
from fasciculum.model.maps import KINDS
from fasciculum.units import MIB, texture_bytes

#: bytes below which nobody need hear of it
WORTH = 0.25 * MIB


def check_waste(bundle: Bundle) -> list[Finding]:
    """Name the maps whose content a smaller mip shows as well, the size that would do, and what it saves."""
    check, made = bundle.check, bundle.texturing
    findings = []
    for name, levels in check.wasted if check is not None and made is not None else ():
        baked = made.map(name) if made is not None else None
        if baked is None or levels <= 0:
            continue
        wide, high = max((baked.width // baked.tiles) >> levels, 1), max(baked.height >> levels, 1)
        whole = texture_bytes(baked.width, baked.height)
        saved = whole - texture_bytes(wide * baked.tiles, high)
        if saved >= WORTH:
            findings.append(
                Finding(
                    "waste",
                    INFO,
                    f"{bundle.name}: {KINDS[name].title.lower()} holds nothing finer than {wide} x {high} px would; "
                    f"that saves {saved / MIB:.1f} MiB.",
                    f"Set its size to 1/{1 << levels} of the sheet.",
                    bundle=bundle.name,
                )
            )
    return findings


CHECKS = (Check("waste", Scope.BUNDLE, ("waste",), lambda facts: check_waste(facts.bundle), rank=60),)
