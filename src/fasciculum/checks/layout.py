"""A sheet's layout: overlaps, padding, margin, and what was projected."""

from __future__ import annotations

from fasciculum.checks.check import Check, Scope
from fasciculum.model.bundle import Bundle
from fasciculum.model.finding import ERROR, INFO, WARNING, Finding
from fasciculum.units import MIB, texture_bytes


def check_layout(bundle: Bundle) -> list[Finding]:
    """Judge the measured figures of a bundle's layout; a layout without scale means nothing fitted."""
    layout = bundle.layout
    if layout is None:
        return []
    name, findings = bundle.name, []
    if layout.scale <= 0:
        return [
            Finding(
                "does_not_fit",
                ERROR,
                f"{name}: the islands do not fit {layout.width} x {layout.height} with "
                f"{layout.padding} px padding at any density.",
                "Choose a larger sheet or less padding.",
                bundle=name,
            )
        ]
    if layout.overlap > 0:
        findings.append(
            Finding(
                "overlap",
                ERROR,
                f"{name}: islands overlap on {layout.overlap:.1f} square texels.",
                "Pack the bundle again.",
                bundle=name,
            )
        )
    if 0 <= layout.gap < layout.padding:
        findings.append(
            Finding(
                "gap",
                ERROR,
                f"{name}: two islands are {layout.gap} px apart, less than the padding of {layout.padding} px.",
                "Pack the bundle again.",
                bundle=name,
            )
        )
    if 0 <= layout.border_gap < layout.margin:
        findings.append(
            Finding(
                "margin",
                ERROR,
                f"{name}: an island is {layout.border_gap} px from the border, less than {layout.margin} px.",
                "Pack the bundle again.",
                bundle=name,
            )
        )
    if layout.fill < 0.3 and not layout.on_given:
        cost = texture_bytes(layout.width, layout.height) / MIB
        findings.append(
            Finding(
                "low_fill",
                WARNING,
                f"{name}: only {layout.fill:.0%} of the sheet is used, of {cost:.0f} MiB a map.",
                "Try a smaller or a differently shaped sheet, or less padding.",
                bundle=name,
            )
        )
    for surface in layout.surfaces:
        share = float(surface.projected.mean()) if len(surface.projected) else 0.0
        if share > 0:
            key = surface.objects[0]
            findings.append(
                Finding(
                    "unwrapped",
                    INFO,
                    f"{key}: {share:.0%} of its triangles got UVs of their own in place of source UVs.",
                    object=key,
                    bundle=name,
                )
            )
    return findings


CHECKS = (
    Check(
        "layout",
        Scope.BUNDLE,
        ("does_not_fit", "overlap", "gap", "margin", "low_fill", "unwrapped"),
        lambda facts: check_layout(facts.bundle),
        rank=10,
    ),
)
