"""Bundles that mix materials whose extensions' constants differ."""

from __future__ import annotations

from fasciculum.checks.check import Check, Facts, Scope
from fasciculum.model.bundle import Bundle
from fasciculum.model.finding import WARNING, Finding
from fasciculum.model.scene import Scene, look_names


def mixed_looks(scene: Scene, bundle: Bundle) -> list[Finding]:
    """Tell when materials of a bundle differ in what one material can carry only once."""
    looks = {material.look for material in scene.materials_among(bundle.objects)}
    if len(looks) < 2:
        return []
    names = sorted({name for look in looks for name in look_names(look)})
    return [
        Finding(
            "looks",
            WARNING,
            f"{bundle.name} mixes materials that differ in {', '.join(names)}; one material cannot "
            "carry these, so they are lost.",
            "Put them into separate bundles, or keep objects that need it loose.",
            bundle=bundle.name,
        )
    ]


def _run(facts: Facts) -> list[Finding]:
    return mixed_looks(facts.scene, facts.bundle)


CHECKS = (Check("looks", Scope.BUNDLE, ("looks",), _run, rank=40),)
