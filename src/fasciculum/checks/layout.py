"""A sheet's layout: overlaps, padding, margin, and what was projected."""

from __future__ import annotations

import numpy as np

from fasciculum.checks.check import Check, Scope
from fasciculum.model.bundle import Bundle
from fasciculum.model.counting import counted
from fasciculum.model.finding import ERROR, INFO, WARNING, Finding
from fasciculum.units import MIB, density_words, texture_bytes

#: part by which a density has to differ from what is asked to be told
NOTICED = 0.02
#: fill below which a sheet is wasted, and the size of one map, MiB, from which that is worth a word
LEAST_FILL, LEAST_MIB = 0.3, 0.03


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
                f"{name}: the islands do not fit on {layout.width} x {layout.height} with "
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
    cost = texture_bytes(layout.width, layout.height) / MIB
    if layout.fill < LEAST_FILL and cost >= LEAST_MIB and not layout.on_given:
        findings.append(
            Finding(
                "low_fill",
                WARNING,
                f"{name}: only {layout.fill:.0%} of the sheet is used, of {cost:.0f} MiB a map.",
                "Try a smaller or a differently shaped sheet, or less padding.",
                bundle=name,
            )
        )
    findings += uneven_scales(bundle)
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


def uneven_scales(bundle: Bundle) -> list[Finding]:
    """Tell the islands whose density is another than is asked: pinned ones, and small ones that a least size holds."""
    layout = bundle.layout
    if layout is None or layout.scale <= 0 or layout.on_given or not len(layout.placements):
        return []
    rows = layout.placements.reshape(-1, 2, 3)[:, :, :2]
    density = np.sqrt(np.abs(np.linalg.det(rows)))
    shares = np.concatenate([np.full(one.count, bundle.share(one.objects[0])) for one in layout.surfaces])
    asked = layout.scale * shares * layout.shares
    ratio = density / np.maximum(asked, 1e-12)
    name, result = bundle.name, []
    held = layout.pinned & (np.abs(ratio - 1) > NOTICED)
    if held.any():
        worst = int(np.argmax(np.where(held, np.abs(np.log(np.maximum(ratio, 1e-12))), -1)))
        result.append(
            Finding(
                "pinned_scale",
                WARNING,
                f"{name}: {counted(int(held.sum()), 'pinned island keeps its', 'pinned islands keep their')} density, "
                f"such as {density_words(float(density[worst]))} where {density_words(float(asked[worst]))} are asked.",
                "Unpin them and pack again, or leave them as they are.",
                bundle=name,
            )
        )
    grown = ~layout.pinned & (ratio > 1 + NOTICED)
    if bundle.sheet.smallest > 0 and grown.any():
        low, high = float(density[grown].min()), float(density[grown].max())
        few = counted(int(grown.sum()), "small island has", "small islands have")
        result.append(
            Finding(
                "least_size_holds",
                WARNING,
                f"{name}: density is not even. {few} {density_words(low)} to {density_words(high)}, since none may be "
                f"smaller than {bundle.sheet.smallest:g} px; the rest has {density_words(float(layout.scale))}.",
                "Lower the minimum island size, or choose a larger sheet.",
                bundle=name,
            )
        )
    return result


CHECKS = (
    Check(
        "layout",
        Scope.BUNDLE,
        ("does_not_fit", "overlap", "gap", "margin", "low_fill", "pinned_scale", "least_size_holds", "unwrapped"),
        lambda facts: check_layout(facts.bundle),
        rank=10,
    ),
)
