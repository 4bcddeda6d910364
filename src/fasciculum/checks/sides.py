"""Bundles that mix materials drawn from one side with such drawn from both."""

from __future__ import annotations

from fasciculum.checks.check import Check, Facts, Scope
from fasciculum.model.bundle import Bundle
from fasciculum.model.finding import INFO, Finding
from fasciculum.model.scene import Scene


def mixed_sides(scene: Scene, bundle: Bundle) -> list[Finding]:
    """Tell when a bundle's one material has to draw both sides of what came single-sided."""
    sides = {material.double_sided for material in scene.materials_among(bundle.objects)}
    if len(sides) < 2:
        return []
    return [
        Finding(
            "sides_mixed",
            INFO,
            f"{bundle.name} mixes single- and double-sided materials; the shared material draws both sides.",
            "Put them into separate bundles if drawing back faces costs too much.",
            bundle=bundle.name,
        )
    ]


def _run(facts: Facts) -> list[Finding]:
    return mixed_sides(facts.scene, facts.bundle)


CHECKS = (Check("sides", Scope.BUNDLE, ("sides_mixed",), _run, rank=30),)
