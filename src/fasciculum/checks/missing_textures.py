"""Images that are missing or unreadable: one finding for each, with what it keeps from looking as it should."""

from __future__ import annotations

from fasciculum.checks.check import Check, Scope, words_of_role
from fasciculum.model.counting import counted
from fasciculum.model.finding import ALLOW, LOCATE, WARNING, Finding
from fasciculum.model.scene import Image, Scene


def missing_textures(scene: Scene) -> list[Finding]:
    """Tell each image that objects read and that is missing or unreadable, once."""
    readers: dict[int, list[tuple[str, str, str]]] = {}
    for item in scene.objects:
        for index in scene.materials_of(item):
            for role, slot in scene.materials[index].slots().items() if index >= 0 else ():
                if scene.images[slot.image].missing:
                    told = item.key, scene.materials[index].name, words_of_role(role)
                    readers.setdefault(slot.image, []).append(told)
    return [_finding(scene.images[index], told) for index, told in sorted(readers.items())]


def _finding(image: Image, readers: list[tuple[str, str, str]]) -> Finding:
    objects = list(dict.fromkeys(key for key, _, _ in readers))
    key, material, _ = readers[0]
    roles = " and ".join(dict.fromkeys(role for _, _, role in readers))
    where = key if len(objects) == 1 else counted(len(objects), "object")
    wrong = f"cannot be used: {image.problem.rstrip('.')}" if image.broken or image.outside else "is missing"
    put = "Replace the file by an image that can be read, then reload"
    missing = "Put the file back beside the model and reload"
    return Finding(
        image.fault,
        WARNING,
        f"{where}: the {roles} texture {image.name} of {material} {wrong}; the material's factor is baked instead.",
        f"{put if image.broken else 'Allow its folder' if image.outside else missing}, or locate it.",
        object=key,
        material=material,
        image=image.name,
        act=ALLOW if image.outside else LOCATE,
    )


CODES = ("missing_texture", "unreadable_texture", "outside_folder")
CHECKS = (Check("missing_textures", Scope.SCENE, CODES, lambda facts: missing_textures(facts.scene), rank=10),)
