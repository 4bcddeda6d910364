"""Judging what goes through to delivery without being computed with: skins, animations, lights, further extensions."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from fasciculum.io.formats.gltf import schema
from fasciculum.io.formats.gltf.accessors import read_raw
from fasciculum.io.formats.gltf.container import Container
from fasciculum.io.formats.gltf.nodes import INSTANCING
from fasciculum.model.finding import INFO, WARNING, Finding

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
#: extensions that name what is delivered otherwise, though no key of theirs says so
REFERRING = {"MSFT_lod", "KHR_materials_variants"}
#: where extensions may stand that are carried through, and those that never are
CARRYING = ("nodes", "scenes", "skins", "animations", "cameras")
DROPPING = ("meshes", "textures", "images", "samplers", "accessors", "bufferViews")
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


def _parts(raw: dict[str, Any], lists: tuple[str, ...]) -> Iterator[tuple[str, Any]]:
    """Yield name and value of each extension of the entries of some of a file's lists."""
    for part in lists:
        for entry in raw.get(part, []):
            extensions = entry.get("extensions")
            yield from extensions.items() if isinstance(extensions, dict) else ()


def lost_extensions(raw: dict[str, Any]) -> set[str]:
    """Return the names of extensions that are left out, all of each, since of one kept by half the rest would dangle.

    ``raw`` is the file's JSON. Those of materials are judged where materials are read.
    """
    lost = {name for name, _ in _parts(raw, DROPPING)}
    root = raw.get("extensions")
    everywhere = [*_parts(raw, CARRYING), *(root.items() if isinstance(root, dict) else ())]
    lost |= {name for name, value in everywhere if name in REFERRING or not survives(value)}
    return lost - KNOWN


def report_extensions(container: Container, understood: set[str], findings: list[Finding]) -> None:
    """Tell of extensions that are not understood: which are carried through, and which are left out.

    Those of materials are told where the materials are read.
    """
    raw = container.raw
    lost = lost_extensions(raw)
    carried = {name for name, _ in _parts(raw, CARRYING)} | set(raw.get("extensions", {}))
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


def report_rest(container: Container, findings: list[Finding]) -> None:
    """Tell of what a delivery cannot hold: meshes outside of scenes, further colours, morphed UVs, some extras."""
    raw, file = container.raw, container.path.name
    document = container.document
    seen: set[int] = set()
    waiting = [root for scene in document.scenes for root in scene.nodes]
    while waiting:
        number = waiting.pop()
        if number not in seen and 0 <= number < len(document.nodes):
            seen.add(number)
            waiting += document.nodes[number].children
    unseen = [
        raw["nodes"][number].get("name") or f"node {number}"
        for number, node in enumerate(document.nodes)
        if document.scenes and number not in seen and node.mesh is not None
    ]
    if unseen:
        findings.append(
            Finding(
                "outside_scenes",
                WARNING,
                f"{file} has nodes in no scene ({_some(unseen)}); they stay, and the meshes on them are left out.",
                "Put them into a scene if they are to be delivered.",
            )
        )
    colored, morphed, noted = [], [], []
    for number, mesh in enumerate(document.meshes):
        name = mesh.name or f"mesh {number}"
        for primitive, told in zip(mesh.primitives, raw["meshes"][number]["primitives"], strict=True):
            if any(one.startswith("COLOR_") and one != "COLOR_0" for one in primitive.attributes):
                colored.append(name)
            if any(one.startswith(("TEXCOORD_", "COLOR_")) for target in primitive.targets for one in target):
                morphed.append(name)
            if isinstance(told, dict) and told.get("extras") is not None:
                noted.append(name)
    noted += [
        entry.get("name") or f"material {number}"
        for number, entry in enumerate(raw.get("materials", []))
        if isinstance(entry, dict) and entry.get("extras") is not None
    ]
    for code, names, words in (
        (
            "colors_left_out",
            colored,
            "has several sets of vertex colours on {}; where it is baked only the first counts.",
        ),
        ("morphed_uvs", morphed, "has morph targets that move UVs or colours on {}; where it is baked they do not."),
        ("extras_left_out", noted, "has extras on primitives or materials ({}); where these are baked they go."),
    ):
        if names:
            findings.append(Finding(code, INFO, f"{file} {words.format(_some(names))}"))


def _some(names: list[str]) -> str:
    distinct = list(dict.fromkeys(name[:60] for name in names))
    return ", ".join(distinct[:4]) + (", ..." if len(distinct) > 4 else "")
