"""Objects with a mirrored or flattened transform."""

from __future__ import annotations

import numpy as np

from fasciculum.checks.check import Check, Scope
from fasciculum.model.finding import INFO, WARNING, Finding
from fasciculum.model.scene import Scene


def mirrored_scales(scene: Scene) -> list[Finding]:
    """Tell objects with a negative scale, and those that their scale makes flat."""
    findings = []
    for item in scene.objects:
        turn = float(np.linalg.det(scene.nodes[item.node].world[:3, :3]))
        if turn < 0:
            findings.append(
                Finding(
                    "mirrored",
                    INFO,
                    f"{item.key} is mirrored by a negative scale; its normal maps are baked to match.",
                    object=item.key,
                )
            )
        elif turn == 0:
            findings.append(
                Finding(
                    "no_volume",
                    WARNING,
                    f"{item.key} has a scale of 0 along an axis, so nothing of it is seen.",
                    "Correct its scale, or keep it loose.",
                    object=item.key,
                )
            )
    return findings


CHECKS = (Check("scales", Scope.SCENE, ("mirrored", "no_volume"), lambda facts: mirrored_scales(facts.scene), rank=40),)
