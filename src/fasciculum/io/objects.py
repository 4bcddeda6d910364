"""What a scene's nodes draw, as objects: split where one material could not stand for a whole node."""

from __future__ import annotations

import unicodedata

from fasciculum.errors import UnsupportedInput
from fasciculum.model.choices import AlphaMode
from fasciculum.model.finding import ERROR, INFO, Finding
from fasciculum.model.scene import ALPHA_MODES, Object, Scene, look_names

#: a file that draws more is refused; each object is measured, listed and handed over
MOST_OBJECTS = 20_000
#: triangles that all objects may draw together, copies counted
MOST_DRAWN = 50_000_000
#: characters of a node's name that an object goes by
LONGEST = 120


def find_objects(scene: Scene, file: str, findings: list[Finding]) -> tuple[Object, ...]:
    """Return what is drawn, split where a mesh mixes alpha modes or looks, each under a key of its own.

    Raises
    ------
    UnsupportedInput
        When there are far too many.
    """
    taken: set[str] = set()
    numbers: dict[str, int] = {}
    objects: list[Object] = []
    drawn = 0
    for number, node in enumerate(scene.nodes):
        if node.mesh < 0:
            continue
        kinds: dict[tuple[AlphaMode, str], list[int]] = {}
        for index, primitive in enumerate(scene.meshes[node.mesh].primitives):
            drawn += len(primitive.triangles)
            if len(primitive.triangles):
                material = scene.material_of(primitive)
                kinds.setdefault((material.alpha_mode, material.look), []).append(index)
        name = plain_name(node.name)
        if len(kinds) > 1:
            findings.append(
                Finding(
                    "mixed_alpha",
                    INFO,
                    f"{name} mixes alpha modes or looks; it was split into one object for each.",
                    object=name,
                )
            )
        for mode, look in sorted(kinds, key=lambda kind: (ALPHA_MODES.index(kind[0]), kind[1])):
            words = ", ".join([mode.lower(), *look_names(look)])
            key = unique_name(name if len(kinds) == 1 else f"{name} ({words})", taken, numbers)
            taken.add(key)
            objects.append(Object(key, number, tuple(kinds[mode, look]), mode))
        if drawn > MOST_DRAWN:
            raise UnsupportedInput(
                f"the file draws more than {MOST_DRAWN} triangles, copies counted.", file=file, hint="Split it."
            )
        if len(objects) > MOST_OBJECTS:
            raise UnsupportedInput(
                f"the file draws more than {MOST_OBJECTS} objects.", file=file, hint="Split it, or merge small parts."
            )
    if not objects:
        findings.append(
            Finding("no_objects", ERROR, f"{file} holds no object with triangles.", "Check that meshes were exported.")
        )
    return tuple(objects)


def plain_name(name: str) -> str:
    """Return a name without control characters and line breaks, cut to a length that can be read."""
    plain = "".join(" " if unicodedata.category(letter) in ("Cc", "Zl", "Zp", "Cs") else letter for letter in name)
    return plain.strip()[:LONGEST].strip() or "unnamed"


def unique_name(name: str, taken: set[str], numbers: dict[str, int] | None = None) -> str:
    """Return the name, with a number behind it when it is taken already.

    ``numbers`` remembers where the counting for each name stands, for callers that name thousands.
    """
    candidate, number = name, (numbers or {}).get(name, 2)
    while candidate in taken:
        candidate = f"{name} {number}"
        number += 1
    if numbers is not None:
        numbers[name] = number
    return candidate
