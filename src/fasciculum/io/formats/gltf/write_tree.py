"""A tree as glTF's JSON: nodes, scenes, skins, animations, cameras and lights."""

from __future__ import annotations

import copy
from collections.abc import Mapping
from typing import Any

from fasciculum.io.formats.gltf.builder import Builder
from fasciculum.io.formats.gltf.carried import LIGHTS
from fasciculum.io.formats.gltf.nodes import INSTANCING
from fasciculum.model.tree import Animation, Camera, Further, Light, Skin, Tree, TreeNode


def _named(name: str | None, further: Further) -> dict[str, Any]:
    """Return what any part may have: its name, extras and extensions."""
    result: dict[str, Any] = {} if name is None else {"name": name}
    if further.extras is not None:
        result["extras"] = copy.deepcopy(further.extras)
    if further.extensions:
        result["extensions"] = copy.deepcopy(further.extensions)
    return result


def write_tree(builder: Builder, tree: Tree, meshes: Mapping[int, int]) -> dict[str, Any]:
    """Write a tree and return what the file's JSON starts with; ``meshes`` are the file's numbers of the tree's."""
    root: dict[str, Any] = {}
    for node in tree.nodes:
        builder.add("nodes", _node(builder, node, meshes))
    for skin in tree.skins:
        builder.add("skins", _skin(builder, skin))
    for animation in tree.animations:
        builder.add("animations", _animation(builder, animation))
    for camera in tree.cameras:
        builder.add("cameras", _camera(camera))
    extensions = copy.deepcopy(tree.further.extensions)
    if tree.lights:
        extensions[LIGHTS] = {"lights": [_light(light) for light in tree.lights]}
    if extensions:
        root["extensions"] = extensions
    if tree.further.extras is not None:
        root["extras"] = copy.deepcopy(tree.further.extras)
    scenes = []
    for scene in tree.scenes:
        scenes.append(_named(scene.name, scene.further) | ({"nodes": list(scene.roots)} if scene.roots else {}))
    root["scene"], root["scenes"] = tree.shown, scenes
    return root


def _node(builder: Builder, node: TreeNode, meshes: Mapping[int, int]) -> dict[str, Any]:
    result = _named(node.name, node.further)
    place = node.place
    for key, values in (
        ("translation", place.translation),
        ("rotation", place.rotation),
        ("scale", place.scale),
        ("matrix", place.matrix),
    ):
        if values is not None:
            result[key] = list(values)
    if node.children:
        result["children"] = list(node.children)
    if node.weights:
        result["weights"] = list(node.weights)
    for key, number in (("mesh", meshes.get(node.mesh, -1)), ("skin", node.skin), ("camera", node.camera)):
        if number >= 0:
            result[key] = number
    extensions = result.get("extensions", {})
    if node.light >= 0:
        extensions[LIGHTS] = {"light": node.light}
    if node.copies:
        attributes = {name: builder.attribute(attribute) for name, attribute in node.copies.items()}
        extensions[INSTANCING] = {"attributes": attributes}
    return result | ({"extensions": extensions} if extensions else {})


def _skin(builder: Builder, skin: Skin) -> dict[str, Any]:
    result = _named(skin.name, skin.further) | {"joints": list(skin.joints)}
    if skin.skeleton >= 0:
        result["skeleton"] = skin.skeleton
    if skin.bound is not None:
        result["inverseBindMatrices"] = builder.attribute(skin.bound)
    return result


def _animation(builder: Builder, animation: Animation) -> dict[str, Any]:
    result = _named(animation.name, animation.further)
    result["samplers"] = [
        _named(None, track.further)
        | {
            "input": builder.attribute(track.times, bounds=True),
            "output": builder.attribute(track.values),
        }
        | ({"interpolation": track.blending} if track.blending is not None else {})
        for track in animation.tracks
    ]
    result["channels"] = [
        _named(None, channel.further)
        | {
            "sampler": channel.track,
            "target": _named(None, channel.target)
            | ({"node": channel.node} if channel.node >= 0 else {})
            | {"path": channel.path},
        }
        for channel in animation.channels
    ]
    return result


def _camera(camera: Camera) -> dict[str, Any]:
    return _named(camera.name, camera.further) | {"type": camera.kind, camera.kind: dict(camera.figures)}


def _light(light: Light) -> dict[str, Any]:
    result = _named(light.name, light.further) | {"type": light.kind}
    if light.color is not None:
        result["color"] = list(light.color)
    for key, value in (("intensity", light.intensity), ("range", light.reach)):
        if value is not None:
            result[key] = value
    spot = {
        key: value
        for key, value in (("innerConeAngle", light.inner), ("outerConeAngle", light.outer))
        if value is not None
    }
    return result | ({"spot": spot} if light.kind == "spot" else {})
