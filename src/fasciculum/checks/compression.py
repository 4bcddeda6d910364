"""What compressing a bundle's textures costs: quality that is short, and blocks that two islands share."""

from __future__ import annotations

from fasciculum.checks.check import Check, Scope
from fasciculum.model.bundle import Bundle
from fasciculum.model.finding import INFO, WARNING, Finding
from fasciculum.model.maps import KINDS


def check_compression(bundle: Bundle) -> list[Finding]:
    """Judge how the textures came through compression."""
    compressed = bundle.check.compressed if bundle.check is not None else ()
    findings = []
    for one in compressed:
        title = KINDS[one.name].title if one.name in KINDS else one.name
        if not one.enough:
            figure = f"{one.db[0]:.1f} dB" if one.db else ""
            turned = f", {one.angle:.2f}° on average and {one.worst:.1f}° at the 99th percentile" if one.worst else ""
            findings.append(
                Finding(
                    "quality_missed",
                    WARNING,
                    f"{bundle.name}: {title} keeps {figure}{turned} in {one.block.upper()}, less than asked.",
                    "Ask for less, take a larger sheet, or store this map uncompressed (block=none).",
                    bundle=bundle.name,
                )
            )
        if one.below:
            findings.append(
                Finding(
                    "normals_below",
                    INFO,
                    f"{bundle.name}: some normals point below their surface, which two channels cannot store, so "
                    f"{one.block.upper()} is used.",
                    "They come from the source's normal maps, or from islands whose shading normals differ strongly.",
                    bundle=bundle.name,
                )
            )
    width = bundle.layout.width if bundle.layout is not None else 0
    # a map that is smaller than its sheet has less padding, and a figure of its own in the report
    if any(one.width == width and one.blocks_down_to > max(one.width, one.height) for one in compressed):
        findings.append(
            Finding(
                "shared_blocks",
                WARNING,
                f"{bundle.name}: islands share compression blocks at full size; their colours bleed.",
                "Keep compression blocks apart, or use padding of 6 px or more.",
                bundle=bundle.name,
            )
        )
    return findings


CHECKS = (
    Check(
        "compression",
        Scope.BUNDLE,
        ("quality_missed", "normals_below", "shared_blocks"),
        lambda facts: check_compression(facts.bundle),
        rank=25,
    ),
)
