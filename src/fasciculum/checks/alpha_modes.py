"""Bundles that hold objects of another alpha mode than their own."""

from __future__ import annotations

from fasciculum.checks.check import Check, Facts, Scope
from fasciculum.model.bundle import Bundle
from fasciculum.model.finding import WARNING, Finding
from fasciculum.model.scene import Scene


def mixed_alpha_modes(scene: Scene, bundle: Bundle) -> list[Finding]:
    """Tell when objects of a bundle are drawn in another alpha mode than they came in."""
    others = {scene.object(key).alpha_mode for key in bundle.objects} - {bundle.alpha_mode}
    if not others:
        return []
    return [
        Finding(
            "alpha_modes",
            WARNING,
            f"{bundle.name} is drawn as {bundle.alpha_mode}, but holds objects that came "
            f"as {', '.join(sorted(others))}.",
            "Move them to a bundle of their own.",
            bundle=bundle.name,
        )
    ]


def _run(facts: Facts) -> list[Finding]:
    return mixed_alpha_modes(facts.scene, facts.bundle)


CHECKS = (Check("alpha_modes", Scope.BUNDLE, ("alpha_modes",), _run, rank=50),)
