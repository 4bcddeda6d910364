"""Bundles whose emissive map holds a dim light beside one so bright that 8 bits cannot tell the dim one apart."""

from __future__ import annotations

from fasciculum.checks.check import Check, Facts, Scope
from fasciculum.model.bundle import Bundle
from fasciculum.model.finding import WARNING, Finding
from fasciculum.model.maps import EMISSIVE
from fasciculum.model.scene import Scene

#: the brightest emission is at most so many times another one before that has few steps left
MOST_TIMES = 32


def wide_emission(scene: Scene, bundle: Bundle) -> list[Finding]:
    """Tell when materials emit so unlike amounts that one 8-bit map keeps the dimmer one badly."""
    if bundle.bake.wish(EMISSIVE.name).bits > 8:
        return []
    amounts = {
        material.name: max(material.emissive_factor) * material.emissive_strength
        for material in scene.materials_among(bundle.objects)
    }
    shining = {name: amount for name, amount in amounts.items() if amount > 0}
    if not shining:
        return []
    dim, bright = min(shining, key=lambda name: shining[name]), max(shining, key=lambda name: shining[name])
    if shining[bright] <= MOST_TIMES * shining[dim]:
        return []
    steps = 255 * (shining[dim] / shining[bright]) ** (1 / 2.2)
    return [
        Finding(
            "emission_range",
            WARNING,
            f"{bundle.name}: {bright} emits {shining[bright] / shining[dim]:.0f} times as much as {dim}; one map of 8 "
            f"bits keeps {steps:.0f} steps of that.",
            "Bake the emissive map in 16 bits, or put them into separate bundles.",
            bundle=bundle.name,
            material=dim,
        )
    ]


def _run(facts: Facts) -> list[Finding]:
    return wide_emission(facts.scene, facts.bundle)


CHECKS = (Check("emission", Scope.BUNDLE, ("emission_range",), _run, rank=31),)
