"""A delivery as glTF: the source's tree, skins, animations, cameras and lights, with new meshes and materials."""

from __future__ import annotations

import copy
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.io.formats.gltf.builder import INDEX_DATA, VERTEX_DATA, Builder
from fasciculum.io.formats.images import mime_type
from fasciculum.model.scene import Aside, Attribute, Image, Primitive, Scene

LIGHTS = "KHR_lights_punctual"


@dataclass(frozen=True, eq=False)
class Part:
    """A primitive to be written: vertex attributes by their glTF names, triangles, and its material's index."""

    attributes: dict[str, Attribute]
    triangles: NDArray[np.int32]
    material: int
    targets: tuple[dict[str, Attribute], ...] = ()


@dataclass(frozen=True, eq=False)
class OutputImage:
    """An encoded image of a sheet: embedded, or referred to by ``uri`` when that is not empty."""

    name: str
    data: bytes
    uri: str = ""


@dataclass
class Delivery:
    """What is to be written.

    ``parts`` gives the primitives of each node by the node's index in the scene; equal lists (the same object)
    become one mesh. ``materials`` are glTF material objects whose textures are indices into ``images``.
    ``loose`` are the scene's materials that go along as they came.
    """

    parts: dict[int, list[Part]] = field(default_factory=dict)
    materials: list[dict[str, Any]] = field(default_factory=list)
    images: list[OutputImage] = field(default_factory=list)


class Writer:
    """Writes one delivery.

    Parameters
    ----------
    scene : Scene
    encoded : callable
        Returns the encoded bytes of a source image.
    """

    def __init__(self, scene: Scene, encoded: Callable[[Image], bytes]) -> None:
        self.scene = scene
        self.encoded = encoded
        self.builder = Builder()
        self.loose_materials: dict[int, int] = {}
        self._textures: dict[tuple[int, int], int] = {}
        self._images: dict[int, int] = {}

    def begin(self, delivery: Delivery) -> None:
        """Write the sheets' images and materials, so that their indices are those of the delivery's lists.

        Call it before anything that goes along as it came is added.
        """
        builder = self.builder
        sampler = 0
        if delivery.images:
            sampler = builder.add("samplers", {"magFilter": 9729, "minFilter": 9987, "wrapS": 33071, "wrapT": 33071})
        for image in delivery.images:
            if image.uri:
                source = builder.add("images", {"uri": image.uri, "name": image.name})
            else:
                source = builder.image(image.data, "image/png", image.name)
            builder.add("textures", {"sampler": sampler, "source": source, "name": image.name})
        for material in delivery.materials:
            builder.add("materials", material)

    def write(self, delivery: Delivery, *, generator: str) -> bytes:
        """Return a delivery that has been begun, with its parts, as GLB."""
        builder = self.builder
        root: dict[str, Any] = {"asset": {"version": "2.0", "generator": generator}}
        roots, lights = self._nodes(delivery)
        if lights:
            root["extensions"] = {LIGHTS: {"lights": lights}}
        root["scene"] = 0
        root["scenes"] = [{"nodes": roots} if roots else {"name": "empty"}]
        return builder.glb(root)

    # -- materials that go along ------------------------------------------------------------------------------

    def loose_material(self, index: int) -> int:
        """Return the output index of a scene material that is delivered as it came, writing it once."""
        if index < 0:
            return -1
        if index not in self.loose_materials:
            material = self.scene.materials[index]
            raw = copy.deepcopy(material.raw)
            self._renumber(raw, material.source)
            self.loose_materials[index] = self.builder.add("materials", raw)
        return self.loose_materials[index]

    def _renumber(self, value: Any, source: int) -> None:
        if not isinstance(value, dict):
            return
        for key, part in list(value.items()):
            if key.endswith("Texture") and isinstance(part, dict) and "index" in part:
                texture = self._texture(source, part["index"])
                if texture is None:
                    del value[key]
                    continue
                part["index"] = texture
            self._renumber(part, source)

    def _texture(self, source: int, index: int) -> int | None:
        key = (source, index)
        if key not in self._textures:
            origin = self.scene.sources[source]
            raw = copy.deepcopy(origin.raw["textures"][index])
            webp = raw.get("extensions", {}).get("EXT_texture_webp", {}).get("source")
            number = raw.get("source", webp)
            if number is None:
                return None
            image = self.scene.images[origin.first_image + number]
            if image.missing:
                return None
            written = self._image(origin.first_image + number)
            texture: dict[str, Any] = {name: raw[name] for name in ("name",) if name in raw}
            if self.builder.json["images"][written].get("mimeType") == "image/webp":
                texture["extensions"] = {"EXT_texture_webp": {"source": written}}
            else:
                texture["source"] = written
            if "sampler" in raw:
                texture["sampler"] = self.builder.add("samplers", dict(origin.raw["samplers"][raw["sampler"]]))
            self._textures[key] = self.builder.add("textures", texture)
        return self._textures[key]

    def _image(self, index: int) -> int:
        if index not in self._images:
            data = self.encoded(self.scene.images[index])
            self._images[index] = self.builder.image(data, mime_type(data), self.scene.images[index].name)
        return self._images[index]

    # -- the tree ---------------------------------------------------------------------------------------------

    def _nodes(self, delivery: Delivery) -> tuple[list[int], list[dict[str, Any]]]:
        builder, scene = self.builder, self.scene
        lights: list[dict[str, Any]] = []
        meshes: dict[int, int] = {}
        roots: list[int] = []
        for number, source in enumerate(scene.sources):
            raw = source.raw
            base, first_light = len(builder.json["nodes"]), len(lights)
            first_camera, first_skin = len(builder.json["cameras"]), len(builder.json["skins"])
            lights += raw.get("extensions", {}).get(LIGHTS, {}).get("lights", [])
            builder.json["cameras"] += copy.deepcopy(raw.get("cameras", []))
            here = {node.number: index for index, node in enumerate(scene.nodes) if node.source == number}
            for index, original in enumerate(raw.get("nodes", [])):
                node = self._plain_node(original, base, first_camera, first_skin, first_light)
                if index in here:
                    mesh = self._mesh_of(here[index], delivery, meshes)
                    if mesh is not None:
                        node["mesh"] = mesh
                if "mesh" not in node:
                    node.pop("skin", None)
                    node.pop("weights", None)
                builder.add("nodes", node)
            roots += [base + node.number for node in scene.nodes if node.source == number and node.parent < 0]
            self._carry(source.raw, source.carried, base)
        return roots, lights

    @staticmethod
    def _plain_node(
        original: dict[str, Any], base: int, first_camera: int, first_skin: int, first_light: int
    ) -> dict[str, Any]:
        kept = ("name", "translation", "rotation", "scale", "matrix", "extras", "weights")
        node = {key: original[key] for key in kept if key in original}
        if original.get("children"):
            node["children"] = [child + base for child in original["children"]]
        if "camera" in original:
            node["camera"] = original["camera"] + first_camera
        if "skin" in original:
            node["skin"] = original["skin"] + first_skin
        light = original.get("extensions", {}).get(LIGHTS, {}).get("light")
        if light is not None:
            node["extensions"] = {LIGHTS: {"light": light + first_light}}
        return node

    def _carry(self, raw: dict[str, Any], carried: dict[int, Attribute], base: int) -> None:
        builder = self.builder
        for original in raw.get("skins", []):
            skin = {key: original[key] for key in ("name", "extras") if key in original}
            skin["joints"] = [joint + base for joint in original["joints"]]
            if "skeleton" in original:
                skin["skeleton"] = original["skeleton"] + base
            if "inverseBindMatrices" in original:
                skin["inverseBindMatrices"] = builder.attribute(carried[original["inverseBindMatrices"]])
            builder.add("skins", skin)
        for original in raw.get("animations", []):
            animation = {key: original[key] for key in ("name", "extras") if key in original}
            animation["samplers"] = [
                sampler
                | {
                    "input": builder.attribute(carried[sampler["input"]], bounds=True),
                    "output": builder.attribute(carried[sampler["output"]]),
                }
                for sampler in original["samplers"]
            ]
            animation["channels"] = [
                channel
                | {
                    "target": channel["target"]
                    | ({"node": channel["target"]["node"] + base} if "node" in channel["target"] else {})
                }
                for channel in original["channels"]
            ]
            builder.add("animations", animation)

    def _mesh_of(self, index: int, delivery: Delivery, meshes: dict[int, int]) -> int | None:
        node = self.scene.nodes[index]
        if node.mesh < 0:
            return None
        mesh = self.scene.meshes[node.mesh]
        parts = delivery.parts.get(index, [])
        key = id(parts)
        if key not in meshes:
            primitives = [self._part(part) for part in parts] + [self._aside(part) for part in mesh.aside]
            if not primitives:
                return None
            meshes[key] = self.builder.add("meshes", {"name": mesh.name, "primitives": primitives, **mesh.raw})
        return meshes[key]

    def _part(self, part: Part) -> dict[str, Any]:
        written: dict[str, Any] = {
            "attributes": {
                name: self.builder.attribute(attribute, target=VERTEX_DATA, bounds=name == "POSITION")
                for name, attribute in part.attributes.items()
            },
            "indices": self.builder.indices(part.triangles),
        }
        if part.material >= 0:
            written["material"] = part.material
        if part.targets:
            written["targets"] = [
                {
                    name: self.builder.attribute(attribute, target=VERTEX_DATA, bounds=name == "POSITION")
                    for name, attribute in target.items()
                }
                for target in part.targets
            ]
        return written

    def _aside(self, part: Aside) -> dict[str, Any]:
        written: dict[str, Any] = {
            "mode": part.mode,
            "attributes": {
                name: self.builder.attribute(attribute, target=VERTEX_DATA, bounds=name == "POSITION")
                for name, attribute in part.attributes.items()
            },
        }
        if part.indices is not None:
            written["indices"] = self.builder.attribute(part.indices, target=INDEX_DATA)
        material = self.loose_material(part.material)
        if material >= 0:
            written["material"] = material
        return written


def plain_part(primitive: Primitive, material: int) -> Part:
    """Return a primitive as it came, for an object that is in no bundle."""
    attributes = {"POSITION": Attribute(primitive.positions, "VEC3", False)}
    if primitive.normals is not None:
        attributes["NORMAL"] = Attribute(primitive.normals, "VEC3", False)
    if primitive.tangents is not None:
        attributes["TANGENT"] = Attribute(primitive.tangents, "VEC4", False)
    for number, uvs in enumerate(primitive.uv_sets):
        if len(uvs):
            attributes[f"TEXCOORD_{number}"] = Attribute(uvs, "VEC2", False)
    if primitive.colors is not None:
        attributes["COLOR_0"] = Attribute(primitive.colors, "VEC4", False)
    return Part(attributes | primitive.extra, primitive.triangles, material, primitive.targets)
