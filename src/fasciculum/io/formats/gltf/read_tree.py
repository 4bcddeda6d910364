"""A file's nodes and all that refers to them, as types: skins, animations, cameras, lights, scenes."""

from __future__ import annotations

import copy
from collections.abc import Collection
from typing import Any

import msgspec

from fasciculum.io.formats.gltf import schema
from fasciculum.io.formats.gltf.accessors import read_raw
from fasciculum.io.formats.gltf.carried import LIGHTS, lights_of, lost_extensions
from fasciculum.io.formats.gltf.container import Container
from fasciculum.io.formats.gltf.nodes import INSTANCING
from fasciculum.model.attributes import Attribute
from fasciculum.model.tree import (
    Animation,
    Camera,
    Channel,
    Further,
    Light,
    Place,
    Skin,
    Track,
    Tree,
    TreeNode,
    TreeScene,
)


def further_of(raw: Any, lost: Collection[str]) -> Further:
    """Return what of a part of the JSON goes along: its extras, and the extensions that are not among those lost."""
    if not isinstance(raw, dict):
        return Further()
    result = raw.get("extensions")
    kept = {
        name: copy.deepcopy(value)
        for name, value in (result.items() if isinstance(result, dict) else ())
        if name not in (LIGHTS, INSTANCING) and name not in lost
    }
    return Further(copy.deepcopy(raw.get("extras")), kept)


#: the path of an animation's channel that KHR_animation_pointer says more of
POINTER = "pointer"


class _Reader:
    """Keeps the accessors that several parts read, so that each is one array."""

    def __init__(self, container: Container) -> None:
        self.container = container
        self.raw = container.raw
        self._attributes: dict[int, Attribute] = {}
        self._lost = lost_extensions(container.raw)

    def further(self, raw: Any) -> Further:
        """Return what of a part of the JSON goes along."""
        return further_of(raw, self._lost)

    def attribute(self, index: int) -> Attribute:
        if index not in self._attributes:
            self._attributes[index] = read_raw(self.container, index)
        return self._attributes[index]

    def part(self, name: str, index: int) -> dict[str, Any]:
        result: dict[str, Any] = self.raw[name][index]
        return result

    def node(self, index: int, node: schema.Node) -> TreeNode:
        raw = self.part("nodes", index)
        extension = node.extensions.get(INSTANCING)
        attributes = extension.get("attributes", {}) if isinstance(extension, dict) else {}
        copies = {
            name: self.attribute(number)
            for name, number in (attributes.items() if isinstance(attributes, dict) else ())
            if isinstance(number, int) and number >= 0
        }
        light = node.extensions.get(LIGHTS)
        return TreeNode(
            name=raw.get("name"),
            place=Place(
                node.translation if "translation" in raw else None,
                node.rotation if "rotation" in raw else None,
                node.scale if "scale" in raw else None,
                tuple(node.matrix) if node.matrix is not None else None,
            ),
            children=tuple(node.children),
            mesh=-1 if node.mesh is None else node.mesh,
            skin=-1 if node.skin is None else node.skin,
            camera=-1 if node.camera is None else node.camera,
            light=light["light"] if isinstance(light, dict) else -1,
            weights=tuple(node.weights),
            copies=copies,
            further=self.further(raw),
        )

    def skin(self, index: int, skin: schema.Skin) -> Skin:
        raw = self.part("skins", index)
        bound = None if skin.inverse_bind_matrices is None else self.attribute(skin.inverse_bind_matrices)
        skeleton = -1 if skin.skeleton is None else skin.skeleton
        return Skin(tuple(skin.joints), skeleton, bound, raw.get("name"), self.further(raw))

    def camera(self, index: int, camera: schema.Camera) -> Camera:
        raw = self.part("cameras", index)
        figures = camera.perspective if camera.type == "perspective" else camera.orthographic
        plain = {
            name: value
            for name, value in (figures or {}).items()
            if isinstance(value, (int, float)) and not isinstance(value, bool)
        }
        return Camera(camera.type, plain, raw.get("name"), self.further(raw))

    def light(self, index: int, raw: dict[str, Any]) -> Light:
        item = f"extensions.{LIGHTS}.lights[{index}]"
        try:
            light = msgspec.convert(raw, schema.Light)
        except msgspec.ValidationError as error:
            raise self.container.fail(f"the light is not right: {error}.", item) from error
        cone = light.spot or schema.Spot()
        return Light(
            light.type,
            light.color,
            light.intensity,
            light.range,
            cone.inner_cone_angle,
            cone.outer_cone_angle,
            raw.get("name"),
            self.further(raw),
        )

    def animation(self, index: int, animation: schema.Animation) -> Animation:
        raw = self.part("animations", index)
        tracks = tuple(
            Track(
                self.attribute(sampler.input),
                self.attribute(sampler.output),
                told.get("interpolation"),
                self.further(told),
            )
            for sampler, told in zip(animation.samplers, raw["samplers"], strict=True)
        )
        channels = tuple(
            Channel(
                channel.sampler,
                channel.target.path,
                -1 if channel.target.node is None else channel.target.node,
                self.further(told),
                self.further(told["target"]),
            )
            for channel, told in zip(animation.channels, raw["channels"], strict=True)
            # pointers name properties of materials and the like, which have other numbers on delivery
            if channel.target.path != POINTER
        )
        return Animation(tracks, channels, raw.get("name"), self.further(raw))


def read_tree(container: Container) -> Tree:
    """Return a file's tree; its numbers have been judged.

    Raises
    ------
    MalformedFile
        When a light is not what it should be.
    """
    document, reader = container.document, _Reader(container)
    asset = container.raw.get("asset", {})
    rights = asset.get("copyright") if isinstance(asset, dict) else None
    notes = asset.get("extras") if isinstance(asset, dict) else None
    return Tree(
        nodes=tuple(reader.node(index, node) for index, node in enumerate(document.nodes)),
        scenes=tuple(
            TreeScene(
                tuple(scene.nodes),
                reader.part("scenes", index).get("name"),
                reader.further(reader.part("scenes", index)),
            )
            for index, scene in enumerate(document.scenes)
        ),
        shown=document.scene or 0,
        skins=tuple(reader.skin(index, skin) for index, skin in enumerate(document.skins)),
        cameras=tuple(reader.camera(index, camera) for index, camera in enumerate(document.cameras)),
        lights=tuple(reader.light(index, raw) for index, raw in enumerate(lights_of(document))),
        animations=tuple(
            reader.animation(index, animation)
            for index, animation in enumerate(document.animations)
            if any(channel.target.path != POINTER for channel in animation.channels)
        ),
        further=reader.further(container.raw),
        asset_extras=copy.deepcopy(notes),
        copyright=str(rights) if rights else "",
    )
