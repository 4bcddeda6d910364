"""Objects whose textures read UVs that are not there."""

from __future__ import annotations

from collections.abc import Mapping

from fasciculum.checks.check import Check, Measure, Scope, words_of_role
from fasciculum.model.finding import INFO, WARNING, Finding
from fasciculum.model.scene import Scene


def lacking_uvs(scene: Scene) -> list[Finding]:
    """Tell objects without UVs, and textures that read a UV set which an object lacks."""
    findings = []
    for item in scene.objects:
        primitives = scene.primitives_of(item)
        if not any(primitive.has_uv(number) for primitive in primitives for number in range(len(primitive.uv_sets))):
            findings.append(
                Finding(
                    "no_uvs",
                    INFO,
                    f"{item.key} has no UVs; it is unwrapped when it is packed.",
                    object=item.key,
                )
            )
        for primitive in primitives:
            material = scene.material_of(primitive)
            for role, slot in material.slots().items():
                if not primitive.has_uv(slot.uv_set) and not scene.images[slot.image].missing:
                    findings.append(
                        Finding(
                            "wrong_uv_set",
                            WARNING,
                            f"{item.key}: the {words_of_role(role)} texture of "
                            f"{material.name} reads UV set {slot.uv_set}, which the object does not have.",
                            "Add that UV set to the object, or let the texture read another one.",
                            object=item.key,
                            material=material.name,
                        )
                    )
    return findings


def wrong_uv_sets(reading: Mapping[str, tuple[int, int]]) -> list[Finding]:
    """Tell objects whose material seems to read the wrong UV set: another suits their surface much better.

    ``reading`` has, by object, the set that is read and the better one.
    """
    return [
        Finding(
            "suspicious_uv_set",
            WARNING,
            f"{key}: its material reads UV set {now}, through which its textures are empty or much "
            f"stretched; UV set {better} suits its surface.",
            f"Let the material read UV set {better} (Gather, UV sets, Read it), or leave it if it is meant so.",
            object=key,
        )
        for key, (now, better) in reading.items()
    ]


CHECKS = (
    Check("lacking_uvs", Scope.SCENE, ("no_uvs", "wrong_uv_set"), lambda facts: lacking_uvs(facts.scene), rank=30),
    Check(
        "wrong_uv_sets",
        Scope.SCENE,
        ("suspicious_uv_set",),
        lambda facts: wrong_uv_sets(facts.measured[Measure.READING]),
        needs=(Measure.READING,),
        rank=60,
    ),
)
