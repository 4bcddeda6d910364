"""The node tree of a glTF file: every scene of it, with the world matrix of each node and of each copy."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fasciculum.errors import UnsupportedInput
from fasciculum.io.formats.gltf import schema
from fasciculum.io.formats.gltf.accessors import as_float, read_float, read_raw
from fasciculum.io.formats.gltf.container import Container
from fasciculum.io.formats.gltf.primitives import FARTHEST
from fasciculum.io.tree_building import matrix_of
from fasciculum.model.finding import INFO, Finding
from fasciculum.model.scene import Mesh, Node

INSTANCING = "EXT_mesh_gpu_instancing"
MOST_COPIES = 5_000


def _local_matrix(container: Container, index: int, node: schema.Node) -> NDArray[np.float64]:
    if node.matrix is not None:
        if len(node.matrix) != 16:
            raise container.fail("the matrix has not 16 numbers.", f"nodes[{index}].matrix")
        return np.array(node.matrix, np.float64).reshape(4, 4).T
    with np.errstate(over="ignore", invalid="ignore"):
        return matrix_of(np.array(node.translation), np.array(node.rotation), np.array(node.scale))


def read_nodes(container: Container, meshes: tuple[Mesh, ...], findings: list[Finding]) -> list[Node]:
    """Return the nodes that any scene of the file reaches, parents before their children.

    Raises
    ------
    MalformedFile
        When an index is out of range, a node is reached twice, or a transform is not finite.
    """
    document = container.document
    count = len(document.nodes)
    nodes: list[Node] = []
    place: dict[int, int] = {}
    for root in _roots(container, findings):
        if root in place and nodes[place[root]].parent < 0:
            continue
        waiting = [(root, -1)]
        while waiting:
            index, parent = waiting.pop()
            if index >= count:
                raise container.fail(f"there is no node {index}.", "nodes")
            if index in place:
                raise container.fail("the node is reached twice: it has two parents or is its own.", f"nodes[{index}]")
            place[index] = len(nodes)
            node = document.nodes[index]
            _judge_node(container, index, node)
            local = _local_matrix(container, index, node)
            with np.errstate(over="ignore", invalid="ignore"):
                world = local if parent < 0 else nodes[parent].world @ local
            if not np.isfinite(world).all() or float(np.abs(world).max()) > FARTHEST:
                raise container.fail("the transform is not finite, or leads too far away.", f"nodes[{index}]")
            mesh = -1 if node.mesh is None else node.mesh
            nodes.append(Node(node.name or f"node {index}", parent, world, mesh, 0, index))
            waiting += [(child, place[index]) for child in reversed(node.children)]
    _rest_skins(container, nodes, place, meshes)
    return _with_copies(container, nodes)


def _roots(container: Container, findings: list[Finding]) -> list[int]:
    """Return the roots of all scenes, the default scene's first."""
    document = container.document
    if not document.scenes:
        children = {child for node in document.nodes for child in node.children}
        return [index for index in range(len(document.nodes)) if index not in children]
    chosen = document.scene or 0
    if chosen >= len(document.scenes):
        raise container.fail(f"there is no scene {chosen}.", "scene")
    if len(document.scenes) > 1:
        findings.append(
            Finding(
                "more_scenes",
                INFO,
                f"{container.path.name} has {len(document.scenes)} scenes; the objects of all of them were gathered, "
                "and each scene is delivered with its own.",
                "Keep objects that you do not want loose.",
            )
        )
    order = [chosen, *(number for number in range(len(document.scenes)) if number != chosen)]
    for number in order:
        if len(set(document.scenes[number].nodes)) != len(document.scenes[number].nodes):
            raise container.fail("a node is named twice.", f"scenes[{number}]")
    return [root for number in order for root in document.scenes[number].nodes]


def _judge_node(container: Container, index: int, node: schema.Node) -> None:
    document = container.document
    for name, number, parts in (
        ("mesh", node.mesh, document.meshes),
        ("skin", node.skin, document.skins),
        ("camera", node.camera, document.cameras),
    ):
        if number is not None and number >= len(parts):
            raise container.fail(f"there is no {name} {number}.", f"nodes[{index}].{name}")


def _rest_skins(container: Container, nodes: list[Node], place: dict[int, int], meshes: tuple[Mesh, ...]) -> None:
    """Give skinned nodes the matrix that their skin moves the mesh by at rest; their own place counts for nothing.

    Where the joints agree, as they do in the pose that a mesh was bound in, that is exact; else it is their mean.
    """
    for at, node in enumerate(nodes):
        number = container.document.nodes[node.number].skin
        if number is None or node.mesh < 0:
            continue
        skin = container.document.skins[number]
        _judge_joints(container, node, len(skin.joints), meshes[node.mesh])
        known = [(order, place[joint]) for order, joint in enumerate(skin.joints) if joint in place]
        if not known:
            continue
        bound = np.tile(np.eye(4), (len(skin.joints), 1, 1))
        if skin.inverse_bind_matrices is not None:
            values = as_float(read_raw(container, skin.inverse_bind_matrices))[: len(skin.joints)]
            bound = values.reshape(-1, 4, 4).transpose(0, 2, 1).astype(np.float64)
        with np.errstate(over="ignore", invalid="ignore"):
            rest = np.mean([nodes[where].world @ bound[order] for order, where in known], axis=0)
        if np.isfinite(rest).all() and float(np.abs(rest).max()) < FARTHEST:
            nodes[at] = Node(node.name, node.parent, rest, node.mesh, node.source, node.number, skinned=True)


def _judge_joints(container: Container, node: Node, joints: int, mesh: Mesh) -> None:
    for primitive in mesh.primitives:
        for name, attribute in primitive.extra.items():
            if not name.startswith("JOINTS_") or not len(attribute.values):
                continue
            weights = primitive.extra.get(name.replace("JOINTS", "WEIGHTS"))
            used = attribute.values if weights is None else np.where(weights.values != 0, attribute.values, 0)
            if int(used.max()) >= joints:
                raise container.fail(
                    f"{name} names joint {int(used.max())} where the skin has {joints}.", f"nodes[{node.number}]"
                )


def _with_copies(container: Container, nodes: list[Node]) -> list[Node]:
    """Put the copies that an extension draws of a node in the node's place; the node itself stays for its children."""
    copies: list[Node] = []
    for at, node in enumerate(nodes):
        extension = container.document.nodes[node.number].extensions.get(INSTANCING)
        if extension is None or node.mesh < 0:
            continue
        item = f"nodes[{node.number}].extensions.{INSTANCING}"
        places = _places(container, extension, item)
        if len(places) > MOST_COPIES or len(copies) + len(places) > 4 * MOST_COPIES:
            raise UnsupportedInput(
                f"the node is drawn {len(places)} times; {MOST_COPIES} is the most.",
                file=container.path.name,
                item=item,
                hint="Scatter them in the engine.",
            )
        copies += [
            Node(node.name, at, node.world @ local, node.mesh, 0, node.number, number, local)
            for number, local in enumerate(places)
        ]
        nodes[at] = Node(node.name, node.parent, node.world, -1, 0, node.number)
    return nodes + copies


def _places(container: Container, extension: object, item: str) -> list[NDArray[np.float64]]:
    attributes = extension.get("attributes") if isinstance(extension, dict) else None
    if not isinstance(attributes, dict):
        raise container.fail("there are no attributes.", item)
    results = {}
    for name, width in (("TRANSLATION", 3), ("ROTATION", 4), ("SCALE", 3)):
        index = attributes.get(name)
        if index is None:
            continue
        if not isinstance(index, int) or index < 0:
            raise container.fail(f"{name} is not an accessor.", item)
        results[name] = read_float(container, index).astype(np.float64)
        if (
            results[name].shape[1] != width
            or not np.isfinite(results[name]).all()
            or np.abs(results[name]).max(initial=0) > 1e6
        ):
            raise container.fail(f"{name} has not {width} finite numbers for each copy.", item)
    counts = {len(values) for values in results.values()}
    if len(counts) != 1:
        raise container.fail("its attributes are of different lengths, or there are none.", item)
    (count,) = counts
    moved = results.get("TRANSLATION", np.zeros((count, 3)))
    turned = results.get("ROTATION", np.tile([0.0, 0, 0, 1], (count, 1)))
    scaled = results.get("SCALE", np.ones((count, 3)))
    return [matrix_of(*parts) for parts in zip(moved, turned, scaled, strict=True)]
