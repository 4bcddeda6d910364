"""A glTF file into a scene: the node tree, and what each node draws."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from fasciculum.errors import UnsupportedInput
from fasciculum.io.formats.gltf import schema
from fasciculum.io.formats.gltf.accessors import read_raw
from fasciculum.io.formats.gltf.container import Container, open_container
from fasciculum.io.formats.gltf.materials import read_images, read_materials
from fasciculum.io.formats.gltf.primitives import read_mesh
from fasciculum.io.pixels import PixelStore, digest_of
from fasciculum.model.finding import INFO, WARNING, Finding
from fasciculum.model.scene import ALPHA_MODES, Attribute, Node, Object, Scene, Source
from fasciculum.progress import SILENT, Progress

#: required extensions that are honoured, or that change nothing about reading
UNDERSTOOD = {
    "KHR_texture_transform",
    "KHR_materials_emissive_strength",
    "KHR_materials_unlit",
    "KHR_mesh_quantization",
    "KHR_lights_punctual",
    "EXT_texture_webp",
    "KHR_materials_pbrSpecularGlossiness",
}


def read_gltf(
    path: Path, store: PixelStore, *, named: str = "", progress: Progress = SILENT
) -> tuple[Scene, tuple[Finding, ...]]:
    """Read a .gltf or .glb file.

    Parameters
    ----------
    path : Path
    store : PixelStore
        Where the decoded images go.
    named : str
        How the file was named by whoever asked.

    Returns
    -------
    scene : Scene
    findings : tuple of Finding
        What was not understood, missing or unusual.

    Raises
    ------
    MissingFile, MalformedFile, UnsupportedInput
    """
    container = open_container(path)
    document = container.document
    unknown = sorted(set(document.extensions_required) - UNDERSTOOD)
    if unknown:
        raise UnsupportedInput(
            f"the file requires {', '.join(unknown)}, which is not understood.",
            file=path.name,
            item="extensionsRequired",
            hint="Export it without that extension.",
        )
    findings: list[Finding] = []
    images = read_images(container, store, progress.part(0.0, 0.8), findings)
    materials = read_materials(container, findings)
    meshes = []
    for index, mesh in enumerate(document.meshes):
        progress.update(0.8 + 0.2 * index / len(document.meshes), f"Reading {mesh.name or 'mesh'}")
        meshes.append(read_mesh(container, index, findings))
    nodes = _read_nodes(container, findings)
    _report_extensions(container, findings)
    source = Source(
        named=named or str(path),
        path=str(path.resolve()),
        digest=digest_of(container.data),
        raw={key: value for key, value in container.raw.items() if key not in ("buffers", "bufferViews")},
        carried=_carried(container),
    )
    scene = Scene((source,), tuple(nodes), tuple(meshes), materials, images)
    scene = replace(scene, objects=_objects(scene, findings))
    if not scene.objects:
        findings.append(
            Finding(
                "no_objects",
                WARNING,
                f"{path.name} holds no object with triangles.",
                "Check that meshes were exported.",
            )
        )
    return scene, tuple(findings)


def _local_matrix(container: Container, index: int, node: schema.Node) -> NDArray[np.float64]:
    if node.matrix is not None:
        if len(node.matrix) != 16:
            raise container.fail("the matrix has not 16 numbers.", f"nodes[{index}].matrix")
        matrix = np.array(node.matrix, np.float64).reshape(4, 4).T
    else:
        x, y, z, w = node.rotation
        rotation = np.array(
            [
                [1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
                [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
                [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)],
            ]
        )
        matrix = np.eye(4)
        matrix[:3, :3] = rotation * np.array(node.scale)
        matrix[:3, 3] = node.translation
    if not np.isfinite(matrix).all():
        raise container.fail("the transform is not finite.", f"nodes[{index}]")
    return matrix


def _read_nodes(container: Container, findings: list[Finding]) -> list[Node]:
    document = container.document
    count = len(document.nodes)
    if document.scenes:
        chosen = document.scene or 0
        if chosen >= len(document.scenes):
            raise container.fail(f"there is no scene {chosen}.", "scene")
        roots = list(document.scenes[chosen].nodes)
        if len(document.scenes) > 1:
            findings.append(
                Finding(
                    "more_scenes",
                    WARNING,
                    f"{container.path.name} has {len(document.scenes)} scenes; scene {chosen} was gathered.",
                    "Export the scene that you need as its own file.",
                )
            )
    else:
        children = {child for node in document.nodes for child in node.children}
        roots = [index for index in range(count) if index not in children]
    nodes: list[Node] = []
    seen: set[int] = set()
    waiting = [(index, -1) for index in reversed(roots)]
    while waiting:
        index, parent = waiting.pop()
        if index >= count:
            raise container.fail(f"there is no node {index}.", "nodes")
        if index in seen:
            raise container.fail("the node is reached twice: it has two parents or is its own.", f"nodes[{index}]")
        seen.add(index)
        node = document.nodes[index]
        local = _local_matrix(container, index, node)
        world = local if parent < 0 else nodes[parent].world @ local
        mesh = -1 if node.mesh is None else node.mesh
        if mesh >= len(document.meshes):
            raise container.fail(f"there is no mesh {mesh}.", f"nodes[{index}].mesh")
        if "EXT_mesh_gpu_instancing" in node.extensions:
            findings.append(
                Finding(
                    "instancing",
                    WARNING,
                    f"{node.name or 'A node'} is instanced by an extension; one copy of it takes part.",
                    "Export the instances as nodes.",
                    object=node.name,
                )
            )
        nodes.append(Node(node.name or f"node {index}", parent, world, mesh, 0, index))
        waiting += [(child, len(nodes) - 1) for child in reversed(node.children)]
    return nodes


def _objects(scene: Scene, findings: list[Finding]) -> tuple[Object, ...]:
    """Return what is drawn, split where a mesh mixes alpha modes, each under a key of its own."""
    taken: set[str] = set()
    objects = []
    for number, node in enumerate(scene.nodes):
        if node.mesh < 0:
            continue
        by_mode: dict[str, list[int]] = {}
        for index, primitive in enumerate(scene.meshes[node.mesh].primitives):
            if len(primitive.triangles):
                by_mode.setdefault(scene.material_of(primitive).alpha_mode, []).append(index)
        if len(by_mode) > 1:
            findings.append(
                Finding(
                    "mixed_alpha",
                    INFO,
                    f"{node.name} mixes alpha modes; it was split into one object for each.",
                    object=node.name,
                )
            )
        for mode in sorted(by_mode, key=ALPHA_MODES.index):
            name = node.name if len(by_mode) == 1 else f"{node.name} ({mode.lower()})"
            key = unique_name(name, taken)
            taken.add(key)
            objects.append(Object(key, number, tuple(by_mode[mode]), mode))
    return tuple(objects)


def unique_name(name: str, taken: set[str]) -> str:
    """Return the name, with a number behind it when it is taken already."""
    candidate, number = name, 2
    while candidate in taken:
        candidate = f"{name} {number}"
        number += 1
    return candidate


def _carried(container: Container) -> dict[int, Attribute]:
    """Return the accessors that skins and animations read."""
    raw = container.raw
    wanted = {skin["inverseBindMatrices"] for skin in raw.get("skins", []) if "inverseBindMatrices" in skin}
    for animation in raw.get("animations", []):
        for sampler in animation.get("samplers", []):
            wanted |= {sampler.get("input"), sampler.get("output")}
    for index in wanted:
        if not isinstance(index, int) or index < 0:
            raise container.fail(f"{index!r} is no accessor.", "skins or animations")
    return {index: read_raw(container, index) for index in sorted(wanted)}


def _report_extensions(container: Container, findings: list[Finding]) -> None:
    handled = UNDERSTOOD | {"EXT_mesh_gpu_instancing"}
    for name in sorted(set(container.document.extensions_used) - handled):
        findings.append(
            Finding(
                "extension",
                WARNING,
                f"{container.path.name} uses {name}, which is not carried into a sheet.",
                "Compare the result with the source where it is used.",
            )
        )
