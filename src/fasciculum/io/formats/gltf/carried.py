"""Judging what goes through to delivery without being computed with: skins, animations, lights, further extensions."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from fasciculum.io.formats.gltf import schema
from fasciculum.io.formats.gltf.accessors import read_raw
from fasciculum.io.formats.gltf.container import Container
from fasciculum.io.formats.gltf.nodes import INSTANCING
from fasciculum.model.finding import WARNING, Finding

LIGHTS = "KHR_lights_punctual"
#: parts of an extension that name what gets another number on delivery
NUMBERED = (
    "accessor",
    "bufferview",
    "buffer",
    "mesh",
    "material",
    "texture",
    "image",
    "sampler",
    "source",
    "primitive",
)
#: extensions that the writer knows how to renumber
KNOWN = {LIGHTS, INSTANCING}


def judge_carried(container: Container) -> None:
    """Check every number and shape in skins, animations and lights.

    Raises
    ------
    MalformedFile
    """
    document = container.document
    count = len(document.nodes)
    for index, skin in enumerate(document.skins):
        item = f"skins[{index}]"
        for joint in [*skin.joints, *([skin.skeleton] if skin.skeleton is not None else [])]:
            if joint >= count:
                raise container.fail(f"there is no node {joint}.", item)
        if not skin.joints:
            raise container.fail("there are no joints.", item)
        if skin.inverse_bind_matrices is not None:
            bound = read_raw(container, skin.inverse_bind_matrices)
            if bound.type != "MAT4" or len(bound.values) < len(skin.joints):
                raise container.fail("its inverse bind matrices are too few, or of another type.", item)
    for index, animation in enumerate(document.animations):
        item = f"animations[{index}]"
        for sampler in animation.samplers:
            if read_raw(container, sampler.input).type != "SCALAR":
                raise container.fail("a sampler's input is not one number a key.", item)
            read_raw(container, sampler.output)
        for channel in animation.channels:
            if channel.sampler >= len(animation.samplers):
                raise container.fail(f"there is no sampler {channel.sampler}.", item)
            if channel.target.node is not None and channel.target.node >= count:
                raise container.fail(f"there is no node {channel.target.node}.", item)
    _judge_lights(container)


def lights_of(document: schema.Document) -> list[dict[str, Any]]:
    """Return the file's lights as they stand there; empty where they are not what they should be."""
    part = document.extensions.get(LIGHTS, {})
    lights = part.get("lights", []) if isinstance(part, dict) else []
    return lights if isinstance(lights, list) and all(isinstance(light, dict) for light in lights) else []


def _judge_lights(container: Container) -> None:
    part = container.document.extensions.get(LIGHTS, {})
    lights = lights_of(container.document)
    if not isinstance(part, dict) or part.get("lights", []) != lights:
        raise container.fail("the lights are not a list of objects.", f"extensions.{LIGHTS}")
    for index, node in enumerate(container.document.nodes):
        if LIGHTS in node.extensions:
            said = node.extensions[LIGHTS]
            number = said.get("light") if isinstance(said, dict) else None
            if not isinstance(number, int) or isinstance(number, bool) or not 0 <= number < len(lights):
                raise container.fail(f"there is no light {number!r}.", f"nodes[{index}].extensions.{LIGHTS}")


def survives(value: Any) -> bool:
    """Whether an extension that is not understood still means the same in a file with other numbers.

    It does unless some part of it, by its name, refers to a mesh, a texture or the like.
    """
    return not any(any(part in key.lower() for part in NUMBERED) for key in _keys(value))


def _keys(value: Any) -> Iterator[str]:
    if isinstance(value, dict):
        for key, part in value.items():
            yield key
            yield from _keys(part)
    elif isinstance(value, list):
        for part in value:
            yield from _keys(part)


def report_extensions(container: Container, understood: set[str], findings: list[Finding]) -> None:
    """Tell of extensions that are not understood: which are carried through, and which are left out.

    Those of materials are told where the materials are read.
    """
    raw = container.raw
    carried: set[str] = set()
    lost: set[str] = set()
    for part in ("nodes", "scenes", "skins", "animations", "cameras"):
        for entry in raw.get(part, []):
            for name, value in entry.get("extensions", {}).items() if isinstance(entry.get("extensions"), dict) else ():
                (carried if survives(value) else lost).add(name)
    for name, value in raw.get("extensions", {}).items():
        (carried if survives(value) else lost).add(name)
    for part in ("meshes", "textures", "images", "samplers", "accessors", "bufferViews"):
        for entry in raw.get(part, []):
            lost |= set(entry["extensions"]) if isinstance(entry.get("extensions"), dict) else set()
    mentioned = {name for name in container.document.extensions_used if not name.startswith("KHR_materials_")}
    for name in sorted((mentioned | carried | lost) - understood - KNOWN):
        through = name in carried and name not in lost
        findings.append(
            Finding(
                "extension",
                WARNING,
                f"{container.path.name} uses {name[:80]}, which is not understood; "
                + ("it is delivered unchanged." if through else "it is left out of the delivery."),
                "Compare the result with the source.",
            )
        )
