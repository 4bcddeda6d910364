"""What is unusual about materials: flat colours, tints, transforms, vertex colours, both sides drawn."""

from __future__ import annotations

from fasciculum.checks.check import Check, Scope
from fasciculum.model.finding import INFO, Finding
from fasciculum.model.scene import Material, Scene, TextureSlot


def plain_materials(scene: Scene) -> list[Finding]:
    """Describe each used material that is more, or less, than a texture."""
    used = {index for item in scene.objects for index in scene.materials_of(item) if index >= 0}
    colored = {
        primitive.material
        for item in scene.objects
        for primitive in scene.primitives_of(item)
        if primitive.colors is not None
    }
    findings = []
    for index in sorted(used):
        words = _words(scene.materials[index])
        if index in colored:
            words.append("is multiplied with vertex colours, which are baked in")
        if words:
            name = scene.materials[index].name
            findings.append(Finding("material", INFO, f"{name} {'; '.join(words)}.", material=name))
    return findings


def _moved(slot: TextureSlot) -> bool:
    return slot.offset != (0.0, 0.0) or slot.scale != (1.0, 1.0) or slot.rotation != 0.0


def _words(material: Material) -> list[str]:
    words = []
    if not material.slots():
        words.append("is a flat colour")
    if material.base_color is not None and material.base_color_factor[:3] != (1.0, 1.0, 1.0):
        words.append("tints its base colour, which is baked in")
    if any(_moved(slot) for slot in material.slots().values()):
        words.append("moves or scales its textures, which is baked in")
    if len({slot.uv_set for slot in material.slots().values()}) > 1:
        words.append("reads more than one UV set")
    return words


CHECKS = (Check("materials", Scope.SCENE, ("material",), lambda facts: plain_materials(facts.scene), rank=50),)
