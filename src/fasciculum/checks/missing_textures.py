"""Objects whose material reads an image that is missing, unreadable or suspiciously small."""

from __future__ import annotations

from fasciculum.model.finding import WARNING, Finding
from fasciculum.model.scene import Scene

#: an image of this many pixels along an edge, where others are at least 16 times larger, is a stand-in
TINY = 8


def missing_textures(scene: Scene) -> list[Finding]:
    """Name each object and material that a missing image keeps from looking as it should."""
    findings = []
    largest = max((max(image.width, image.height) for image in scene.images), default=0)
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
                            "Put the file back beside the model and gather it again.",
                            object=item.key,
                            material=material.name,
                        )
                    )
                elif max(image.width, image.height) <= TINY and largest >= 16 * TINY:
                    findings.append(
                        Finding(
                            "tiny_texture",
                            WARNING,
                            f"{item.key}: the {words} texture {image.name} is only "
                            f"{image.width} x {image.height} pixels.",
                            "Check that it is not a stand-in.",
                            object=item.key,
                            material=material.name,
                        )
                    )
    return findings
