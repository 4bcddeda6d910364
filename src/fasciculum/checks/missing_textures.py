"""Objects whose material reads an image that is missing or unreadable."""

from __future__ import annotations

from fasciculum.checks.check import Check, Scope
from fasciculum.model.finding import ALLOW, LOCATE, WARNING, Finding
from fasciculum.model.scene import Scene


def missing_textures(scene: Scene) -> list[Finding]:
    """Name each object and material that a missing image keeps from looking as it should."""
    findings = []
    for item in scene.objects:
        for index in scene.materials_of(item):
            if index < 0:
                continue
            material = scene.materials[index]
            for role, slot in material.slots().items():
                image = scene.images[slot.image]
                words = role.replace("_", " ")
                if image.missing:
                    findings.append(
                        Finding(
                            "missing_texture",
                            WARNING,
                            f"{item.key}: the {words} texture {image.name} of "
                            f"{material.name} is missing; its factor alone is baked.",
                            "Put the file back beside the model and reload it, or locate it.",
                            object=item.key,
                            material=material.name,
                            image=image.name,
                            act=ALLOW if image.outside else LOCATE,
                        )
                    )
    return findings


CHECKS = (
    Check("missing_textures", Scope.SCENE, ("missing_texture",), lambda facts: missing_textures(facts.scene), rank=10),
)
