"""The tree of a delivery: the sources' nodes, scenes, skins, animations, cameras and lights, with new numbers."""

from __future__ import annotations

import copy
from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.io.formats.gltf.carried import LIGHTS, survives
from fasciculum.io.formats.gltf.delivery import Delivery
from fasciculum.io.formats.gltf.nodes import INSTANCING
from fasciculum.model.scene import Attribute, Source

if TYPE_CHECKING:
    from fasciculum.io.formats.gltf.writer import Writer

PLAIN = ("name", "translation", "rotation", "scale", "matrix", "extras", "weights")


class Tree:
    """Writes the nodes of a delivery and all that refers to nodes."""

    def __init__(self, writer: Writer, delivery: Delivery) -> None:
        self.writer = writer
        self.builder = writer.builder
        self.scene = writer.scene
        self.delivery = delivery
        self.lights: list[dict[str, Any]] = []
        self._meshes: dict[tuple[str, int], int] = {}

    def write(self) -> list[dict[str, Any]]:
        """Write all nodes and return the scenes: the default scenes of all sources as one, then the others."""
        first: dict[str, Any] = {"nodes": []}
        others = []
        for number, source in enumerate(self.scene.sources):
            places = self._source(number, source)
            scenes = self._scenes(number, source, places)
            if len(self.scene.sources) == 1:
                first = scenes[0]
            else:
                first["nodes"] += scenes[0].get("nodes", [])
            others += scenes[1:]
        for name, parts, place in self.delivery.joined:
            node: dict[str, Any] = {"name": name, "mesh": self.writer.mesh(name, parts)}
            if any(place):
                node["translation"] = list(place)
            first.setdefault("nodes", []).append(self.builder.add("nodes", node))
        if not first.get("nodes"):
            first.pop("nodes", None)
            first.setdefault("name", "empty")
        return [first, *others]

    def _scenes(self, number: int, source: Source, places: dict[int, int]) -> list[dict[str, Any]]:
        raw = source.raw.get("scenes") or []
        if not raw:
            roots = [node.number for node in self.scene.nodes if node.source == number and node.parent < 0]
            return [{"nodes": [places[root] for root in dict.fromkeys(roots) if root in places]}]
        chosen = source.raw.get("scene", 0)
        found = []
        for index in [chosen, *(other for other in range(len(raw)) if other != chosen)]:
            entry = {key: raw[index][key] for key in ("name", "extras") if key in raw[index]}
            nodes = [places[root] for root in raw[index].get("nodes", []) if root in places]
            found.append(entry | ({"nodes": nodes} if nodes else {}) | _kept(raw[index], True))
        return found

    # -- one source -------------------------------------------------------------------------------------------

    def _source(self, number: int, source: Source) -> dict[int, int]:
        """Write a source's nodes and return where each went, by its number in the file."""
        raw = source.raw
        here: dict[int, list[int]] = {}
        for index, node in enumerate(self.scene.nodes):
            if node.source == number:
                here.setdefault(node.number, []).append(index)
        originals = raw.get("nodes", [])
        wanted = self._wanted(source, here)
        start = len(self.builder.json["nodes"])
        places = {index: start + order for order, index in enumerate(wanted)}
        first_light, first_skin = len(self.lights), len(self.builder.json["skins"])
        first_camera = len(self.builder.json["cameras"])
        self.lights += copy.deepcopy(raw.get("extensions", {}).get(LIGHTS, {}).get("lights", []))
        for camera in raw.get("cameras", []):
            plain = {key: value for key, value in camera.items() if key != "extensions"}
            self.builder.add("cameras", copy.deepcopy(plain) | _kept(camera, True))
        same = list(places.items()) == [(index, index) for index in places]
        for index in wanted:
            self.builder.add("nodes", self._node(originals[index], places, same, first_camera, first_skin, first_light))
        for index in wanted:
            self._draw(places[index], originals[index], here.get(index, []), source)
        self._skins(source, places, same)
        self._animations(source, places, same)
        return places

    def _wanted(self, source: Source, here: dict[int, list[int]]) -> list[int]:
        """Return the nodes that are written: all, but for those that were bared and hold up nothing else."""
        originals = source.raw.get("nodes", [])
        if not self.delivery.bare:
            return list(range(len(originals)))
        held = {joint for skin in source.raw.get("skins", []) for joint in [*skin["joints"], skin.get("skeleton")]}
        for animation in source.raw.get("animations", []):
            held |= {channel["target"].get("node") for channel in animation["channels"]}
        parent = {child: index for index, node in enumerate(originals) for child in node.get("children", [])}
        wanted: set[int] = set()
        for index, node in enumerate(originals):
            drawn = any(self.delivery.parts.get(place) or self._aside(place) for place in here.get(index, []))
            bared = any(place in self.delivery.bare for place in here.get(index, []))
            empty = "mesh" not in node and not node.get("children")
            if drawn or index in held or "camera" in node or node.get("extensions") or (empty and not bared):
                at: int | None = index
                while at is not None and at not in wanted:
                    wanted.add(at)
                    at = parent.get(at)
        return sorted(wanted)

    def _aside(self, place: int) -> bool:
        mesh = self.scene.nodes[place].mesh
        return mesh >= 0 and bool(self.scene.meshes[mesh].aside)

    @staticmethod
    def _node(
        original: dict[str, Any], places: dict[int, int], same: bool, camera: int, skin: int, light: int
    ) -> dict[str, Any]:
        node = {key: original[key] for key in PLAIN if key in original}
        children = [places[child] for child in original.get("children", []) if child in places]
        if children:
            node["children"] = children
        if "camera" in original:
            node["camera"] = original["camera"] + camera
        if "skin" in original:
            node["skin"] = original["skin"] + skin
        node |= _kept(original, same)
        if LIGHTS in original.get("extensions", {}):
            number = original["extensions"][LIGHTS]["light"] + light
            node.setdefault("extensions", {})[LIGHTS] = {"light": number}
        return node

    def _draw(self, place: int, original: dict[str, Any], here: list[int], source: Source) -> None:
        """Hang the meshes of a node, or of its copies, where they belong."""
        nodes = self.builder.json["nodes"]
        copies = [index for index in here if self.scene.nodes[index].instance >= 0]
        plain = [index for index in here if self.scene.nodes[index].instance < 0]
        if not copies:
            meshes = [mesh for index in plain if (mesh := self._mesh(index)) >= 0]
            if meshes:
                nodes[place]["mesh"] = meshes[0]
        else:
            meshes = [self._mesh(index) for index in copies]
            if len(set(meshes)) == 1 and meshes[0] >= 0:
                nodes[place]["mesh"] = meshes[0]
                attributes = original["extensions"][INSTANCING]["attributes"]
                written = {
                    name: self.builder.attribute(source.carried[number])
                    for name, number in attributes.items()
                    if number in source.carried
                }
                nodes[place].setdefault("extensions", {})[INSTANCING] = {"attributes": written}
            else:
                self._copies(place, copies, meshes)
        if "mesh" not in nodes[place]:
            nodes[place].pop("skin", None)
            nodes[place].pop("weights", None)

    def _copies(self, place: int, copies: list[int], meshes: list[int]) -> None:
        """Write copies that no longer look alike as nodes of their own."""
        for index, mesh in zip(copies, meshes, strict=True):
            node = self.scene.nodes[index]
            if mesh < 0 or node.local is None:
                continue
            entry = {"name": f"{node.name} {node.instance + 1}", "mesh": mesh, "matrix": _columns(node.local)}
            self.builder.json["nodes"][place].setdefault("children", []).append(self.builder.add("nodes", entry))

    def _mesh(self, index: int) -> int:
        node = self.scene.nodes[index]
        if node.mesh < 0:
            return -1
        mesh = self.scene.meshes[node.mesh]
        parts = self.delivery.parts.get(index)
        key = ("aside", node.mesh) if parts is None else ("parts", id(parts))
        if key not in self._meshes:
            self._meshes[key] = self.writer.mesh(mesh.name, parts or [], mesh.aside, mesh.raw if parts else {})
        return self._meshes[key]

    def _skins(self, source: Source, places: dict[int, int], same: bool) -> None:
        for original in source.raw.get("skins", []):
            skin = {key: original[key] for key in ("name", "extras") if key in original} | _kept(original, same)
            skin["joints"] = [places[joint] for joint in original["joints"]]
            if "skeleton" in original:
                skin["skeleton"] = places[original["skeleton"]]
            if "inverseBindMatrices" in original:
                bound = source.carried[original["inverseBindMatrices"]]
                skin["inverseBindMatrices"] = self.builder.attribute(
                    Attribute(bound.values, bound.type, bound.normalized)
                )
            self.builder.add("skins", skin)

    def _animations(self, source: Source, places: dict[int, int], same: bool) -> None:
        for original in source.raw.get("animations", []):
            animation = {key: original[key] for key in ("name", "extras") if key in original}
            animation |= _kept(original, same)
            animation["samplers"] = [
                sampler
                | {
                    "input": self.builder.attribute(source.carried[sampler["input"]], bounds=True),
                    "output": self.builder.attribute(source.carried[sampler["output"]]),
                }
                for sampler in original["samplers"]
            ]
            animation["channels"] = [
                channel
                | {
                    "target": channel["target"]
                    | ({"node": places[channel["target"]["node"]]} if "node" in channel["target"] else {})
                }
                for channel in original["channels"]
            ]
            self.builder.add("animations", animation)


def _kept(original: dict[str, Any], same: bool) -> dict[str, Any]:
    """Return the extensions of a part that go along as they are.

    Where nodes get other numbers, an extension that holds any whole number may mean a node, and is left out.
    """
    found = original.get("extensions")
    if not isinstance(found, dict):
        return {}
    kept = {
        name: copy.deepcopy(value)
        for name, value in found.items()
        if name not in (LIGHTS, INSTANCING) and survives(value) and (same or not any(_whole_numbers(value)))
    }
    return {"extensions": kept} if kept else {}


def _whole_numbers(value: Any) -> Iterator[bool]:
    if isinstance(value, dict):
        for part in value.values():
            yield from _whole_numbers(part)
    elif isinstance(value, list):
        for part in value:
            yield from _whole_numbers(part)
    else:
        yield isinstance(value, int) and not isinstance(value, bool)


def _columns(matrix: NDArray[np.float64]) -> list[float]:
    return [float(value) for value in matrix.T.reshape(-1)]
