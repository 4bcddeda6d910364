"""Ways: materials that cannot be treated as was said, and flat ones that need texels after all."""

from __future__ import annotations

from fasciculum.checks.check import Check, Facts, Scope
from fasciculum.model.choices import Treatment
from fasciculum.model.finding import INFO, WARNING, Finding
from fasciculum.model.maps import KINDS
from fasciculum.treatments.resolving import resolve_bundle

WORDS = {
    Treatment.LANE: "on a lane",
    Treatment.CUT: "cut at its repeats",
    Treatment.SLICE: "in a slice",
    Treatment.SWATCH: "on a swatch",
    Treatment.BLOCK: "in shared blocks",
}


def check_ways(facts: Facts) -> list[Finding]:
    """Name the materials of a bundle whose way does not suit them, and say why they are baked instead."""
    scene, bundle = facts.scene, facts.bundle
    if not bundle.ways:
        return []
    work = resolve_bundle(scene, bundle)
    computed = [KINDS[name].title.lower() for name in bundle.bake.computed]
    used = {index for key in bundle.objects for index in scene.materials_of(scene.object(key))}
    findings, flats = [], []
    for index in sorted(used):
        name = scene.material_name(index)
        way = bundle.way(name)
        if way in (Treatment.BAKE, Treatment.APART) or work.way_of(index) is way:
            continue
        if computed and way is Treatment.SWATCH:
            flats.append(name)
            continue
        findings.append(
            Finding(
                "way_not_kept",
                WARNING,
                f"{bundle.name}: {name} cannot lie {WORDS[way]} and is baked in: its UVs, vertex colours or the maps "
                "asked for do not allow it.",
                "Choose another treatment for it under Gather, or leave it.",
                material=name,
                bundle=bundle.name,
            )
        )
    if flats:
        findings.append(
            Finding(
                "flats_need_texels",
                INFO,
                f"{bundle.name}: {', '.join(flats[:5])} have one colour, but get texels on the sheet, "
                f"because {', '.join(computed)} depends on where a surface is.",
                "Leave that map out to put them on swatches.",
                bundle=bundle.name,
            )
        )
    return findings


CHECKS = (Check("ways", Scope.BUNDLE, ("way_not_kept", "flats_need_texels"), check_ways, rank=20),)
