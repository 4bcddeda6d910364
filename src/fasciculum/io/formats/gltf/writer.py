"""A delivery as glTF: new meshes and materials. The tree that they hang on is written by its neighbour `tree`."""

from __future__ import annotations

import copy
from collections.abc import Callable
from typing import Any

from fasciculum.io.formats.gltf.builder import INDEX_DATA, VERTEX_DATA, Builder
from fasciculum.io.formats.gltf.carried import LIGHTS, survives
from fasciculum.io.formats.gltf.delivery import Delivery, Part
from fasciculum.io.formats.gltf.tree import Tree
from fasciculum.io.formats.images import mime_type
from fasciculum.model.scene import Aside, Attribute, Image, Primitive, Scene


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
        self._textures: dict[tuple[int, int], int | None] = {}
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

    def root(self, delivery: Delivery, *, generator: str) -> dict[str, Any]:
        """Write the tree of a delivery that has been begun, with its parts; return what the file's JSON starts with."""
        root: dict[str, Any] = {"asset": {"version": "2.0", "generator": generator}}
        tree = Tree(self, delivery)
        scenes = tree.write()
        extensions = _root_extensions(self.scene)
        if tree.lights:
            extensions[LIGHTS] = {"lights": tree.lights}
        if extensions:
            root["extensions"] = extensions
        rights = [source.raw.get("asset", {}).get("copyright") for source in self.scene.sources]
        if any(rights):
            root["asset"]["copyright"] = "; ".join(dict.fromkeys(str(words) for words in rights if words))
        root["scene"], root["scenes"] = 0, scenes
        return root

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

    def _texture(self, source: int, index: Any) -> int | None:
        key = (source, index)
        if key not in self._textures:
            self._textures[key] = self._written_texture(source, index)
        return self._textures[key]

    def _written_texture(self, source: int, index: Any) -> int | None:
        """Write a texture of a source; None where it, its image or its sampler is not there."""
        origin = self.scene.sources[source]
        raw = _entry(origin.raw.get("textures"), index)
        if raw is None:
            return None
        further = raw.get("extensions")
        webp = further.get("EXT_texture_webp") if isinstance(further, dict) else None
        number = raw.get("source", webp.get("source") if isinstance(webp, dict) else None)
        image = _entry(origin.images, number)
        if image is None or self.scene.images[image].missing:
            return None
        written = self._image(image)
        texture: dict[str, Any] = {name: raw[name] for name in ("name",) if name in raw}
        if self.builder.json["images"][written].get("mimeType") == "image/webp":
            texture["extensions"] = {"EXT_texture_webp": {"source": written}}
        else:
            texture["source"] = written
        sampler = _entry(origin.raw.get("samplers"), raw.get("sampler"))
        if sampler is not None:
            texture["sampler"] = self.builder.add("samplers", dict(sampler))
        return self.builder.add("textures", texture)

    def _image(self, index: int) -> int:
        if index not in self._images:
            data = self.encoded(self.scene.images[index])
            self._images[index] = self.builder.image(data, mime_type(data), self.scene.images[index].name)
        return self._images[index]

    # -- meshes -----------------------------------------------------------------------------------------------

    def mesh(
        self, name: str, parts: list[Part], aside: tuple[Aside, ...] = (), raw: dict[str, Any] | None = None
    ) -> int:
        """Write a mesh and return its index; -1 when there is nothing in it."""
        primitives = [self._part(part) for part in parts] + [self._aside(part) for part in aside]
        if not primitives:
            return -1
        return self.builder.add("meshes", {"name": name, "primitives": primitives, **(raw or {})})

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


def _entry(values: Any, index: Any) -> Any:
    """Return an entry of a list, None where there is none."""
    whole = isinstance(index, int) and not isinstance(index, bool)
    return values[index] if whole and isinstance(values, (list, tuple)) and 0 <= index < len(values) else None


def _root_extensions(scene: Scene) -> dict[str, Any]:
    """Return the extensions of whole files that still mean the same: those of one file that refer to no part of it."""
    if len(scene.sources) != 1:
        return {}
    found = scene.sources[0].raw.get("extensions", {})
    return {name: copy.deepcopy(value) for name, value in found.items() if name != LIGHTS and survives(value)}


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
