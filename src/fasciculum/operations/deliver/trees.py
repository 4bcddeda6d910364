"""The trees of all sources as one, with the new meshes on their nodes and new numbers throughout."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from fasciculum.model.lighting import Lamp
from fasciculum.model.scene import Scene, Source
from fasciculum.model.tree import Animation, Camera, Further, Light, Place, Skin, Tree, TreeNode, TreeScene
from fasciculum.operations.deliver.lights import lamp_matrix, light_of, with_lights_as_said


class MeshOf(Protocol):
    """Says which output mesh a node of the scene draws."""

    def __call__(self, node: int) -> int:
        """Return the number of an output mesh, -1 for none."""


@dataclass
class _Lists:
    """What has been put together so far."""

    nodes: list[TreeNode] = field(default_factory=list)
    skins: list[Skin] = field(default_factory=list)
    cameras: list[Camera] = field(default_factory=list)
    lights: list[Light] = field(default_factory=list)
    animations: list[Animation] = field(default_factory=list)


def merged_tree(
    scene: Scene,
    mesh_of: MeshOf,
    *,
    bare: frozenset[int],
    joined: Sequence[TreeNode],
    lights: bool = True,
) -> Tree:
    """Put the trees of all sources together.

    Parameters
    ----------
    scene : Scene
    mesh_of : callable
    bare : frozenset of int
        Nodes of the scene that gave all that they drew to ``joined``; those that hold up nothing else are left out.
    joined : sequence of TreeNode
        Further root nodes: joined meshes, and copies that are drawn as one.
    lights : bool
        Whether lights go along, as the project has them.
    """
    lamps: list[Lamp] = []
    if lights:
        scene, lamps = with_lights_as_said(scene)
    else:
        scene = replace(scene, sources=tuple(replace(source, tree=_unlit(source.tree)) for source in scene.sources))
    lists = _Lists()
    shown = TreeScene(())
    others: list[TreeScene] = []
    for number, source in enumerate(scene.sources):
        scenes = _Source(scene, number, source, mesh_of, bare, lists).write()
        if len(scene.sources) == 1:
            shown = scenes[0]
        else:
            shown = replace(shown, roots=shown.roots + scenes[0].roots)
        others += scenes[1:]
    for node in joined:
        shown = replace(shown, roots=(*shown.roots, len(lists.nodes)))
        lists.nodes.append(node)
    for lamp in lamps:
        shown = replace(shown, roots=(*shown.roots, len(lists.nodes)))
        lists.nodes.append(TreeNode(lamp.key, Place(matrix=lamp_matrix(lamp)), light=len(lists.lights)))
        lists.lights.append(light_of(lamp))
    if not shown.roots and shown.name is None:
        shown = replace(shown, name="empty")
    only = scene.sources[0].tree.further if len(scene.sources) == 1 else Further()
    rights = dict.fromkeys(source.tree.copyright for source in scene.sources if source.tree.copyright)
    return Tree(
        nodes=tuple(lists.nodes),
        scenes=(shown, *others),
        skins=tuple(lists.skins),
        cameras=tuple(lists.cameras),
        lights=tuple(lists.lights),
        animations=tuple(lists.animations),
        further=only,
        copyright="; ".join(rights),
        asset_extras=scene.sources[0].tree.asset_extras if len(scene.sources) == 1 else None,
    )


def extensions_in(tree: Tree) -> set[str]:
    """Return the names of the extensions that a tree carries without understanding them, those of lights aside."""
    every = [tree.further, *(node.further for node in tree.nodes), *(scene.further for scene in tree.scenes)]
    every += [skin.further for skin in tree.skins]
    every += [animation.further for animation in tree.animations]
    every += [camera.further for camera in tree.cameras]
    return {name for further in every for name in further.extensions}


def _unlit(tree: Tree) -> Tree:
    """Return a tree without its lights; the nodes that held them stay."""
    return replace(tree, nodes=tuple(replace(node, light=-1) for node in tree.nodes), lights=())


class _Source:
    """One source's share of the tree."""

    def __init__(
        self, scene: Scene, number: int, source: Source, mesh_of: MeshOf, bare: frozenset[int], lists: _Lists
    ) -> None:
        self.scene, self.number, self.tree = scene, number, source.tree
        self.mesh_of, self.bare, self.lists = mesh_of, bare, lists
        #: nodes of the scene by their number in the file
        self.here: dict[int, list[int]] = {}
        for index, node in enumerate(scene.nodes):
            if node.source == number:
                self.here.setdefault(node.number, []).append(index)
        wanted = self._wanted()
        start = len(lists.nodes)
        #: where each node went
        self.places = {index: start + order for order, index in enumerate(wanted)}
        #: whether all numbers are the file's own, so that extensions may speak of nodes
        self.same = len(scene.sources) == 1 and all(index == place for index, place in self.places.items())

    def _wanted(self) -> list[int]:
        """Return the nodes that are written: all, but for those that were bared and hold up nothing else."""
        nodes = self.tree.nodes
        if not self.bare:
            return list(range(len(nodes)))
        held = {joint for skin in self.tree.skins for joint in (*skin.joints, skin.skeleton)} | self.tree.moved()
        parent = self.tree.parents()
        wanted: set[int] = set()
        for index, node in enumerate(nodes):
            here = self.here.get(index, [])
            drawn = any(self.mesh_of(place) >= 0 for place in here)
            bared = any(place in self.bare for place in here)
            empty = node.mesh < 0 and not node.children
            holds = node.camera >= 0 or node.light >= 0 or bool(node.further.extensions) or bool(node.copies)
            if drawn or index in held or holds or (empty and not bared):
                at: int | None = index
                while at is not None and at not in wanted:
                    wanted.add(at)
                    at = parent.get(at)
        return sorted(wanted)

    def write(self) -> list[TreeScene]:
        """Add all to the lists and return the scenes, the one that is seen first before the others."""
        lists, tree = self.lists, self.tree
        first_skin, first_camera, first_light = len(lists.skins), len(lists.cameras), len(lists.lights)
        lists.lights += tree.lights
        lists.cameras += tree.cameras
        extra: list[TreeNode] = []
        for index in self.places:
            node = tree.nodes[index]
            moved = replace(
                node,
                children=tuple(self.places[child] for child in node.children if child in self.places),
                mesh=-1,
                skin=node.skin + first_skin if node.skin >= 0 else -1,
                camera=node.camera + first_camera if node.camera >= 0 else -1,
                light=node.light + first_light if node.light >= 0 else -1,
                copies={},
                further=self._further(node.further),
            )
            lists.nodes.append(self._drawing(moved, index, extra))
        lists.nodes += extra
        lists.skins += [
            replace(
                skin,
                joints=tuple(self.places[joint] for joint in skin.joints),
                skeleton=self.places[skin.skeleton] if skin.skeleton >= 0 else -1,
                further=self._further(skin.further),
            )
            for skin in tree.skins
        ]
        lists.animations += [
            replace(
                animation,
                channels=tuple(
                    replace(channel, node=self.places[channel.node] if channel.node >= 0 else -1)
                    for channel in animation.channels
                ),
                further=self._further(animation.further),
            )
            for animation in tree.animations
        ]
        return self._scenes()

    def _scenes(self) -> list[TreeScene]:
        tree = self.tree
        if not tree.scenes:
            roots = [node.number for node in self.scene.nodes if node.source == self.number and node.parent < 0]
            return [TreeScene(tuple(self.places[root] for root in dict.fromkeys(roots) if root in self.places))]
        order = [tree.shown, *(other for other in range(len(tree.scenes)) if other != tree.shown)]
        return [
            replace(
                tree.scenes[index],
                roots=tuple(self.places[root] for root in tree.scenes[index].roots if root in self.places),
            )
            for index in order
        ]

    def _drawing(self, node: TreeNode, index: int, extra: list[TreeNode]) -> TreeNode:
        """Return a node with its mesh; copies of it that no longer look alike become nodes of their own."""
        here = self.here.get(index, [])
        copies = [place for place in here if self.scene.nodes[place].instance >= 0]
        if not copies:
            meshes = [mesh for place in here if (mesh := self.mesh_of(place)) >= 0]
            node = replace(node, mesh=meshes[0]) if meshes else node
        else:
            numbers = [self.mesh_of(place) for place in copies]
            if len(set(numbers)) == 1 and numbers[0] >= 0:
                node = replace(node, mesh=numbers[0], copies=self.tree.nodes[index].copies)
            else:
                node = self._apart(node, copies, numbers, extra)
        return node if node.mesh >= 0 else replace(node, skin=-1, weights=())

    def _apart(self, node: TreeNode, copies: list[int], meshes: list[int], extra: list[TreeNode]) -> TreeNode:
        for place, mesh in zip(copies, meshes, strict=True):
            copy = self.scene.nodes[place]
            if mesh >= 0 and copy.local is not None:
                # those that are added stand behind all nodes of this source
                node = replace(node, children=(*node.children, self._after(extra)))
                matrix = Place(matrix=_columns(copy.local))
                extra.append(TreeNode(f"{copy.name} {copy.instance + 1}", matrix, mesh=mesh))
        return node

    def _after(self, extra: list[TreeNode]) -> int:
        start = min(self.places.values(), default=len(self.lists.nodes))
        return start + len(self.places) + len(extra)

    def _further(self, further: Further) -> Further:
        """Return what goes along of a part of the tree.

        Where nodes get other numbers, an extension that holds any whole number may mean a node, and is left out.
        """
        if self.same or not further.extensions:
            return further
        kept = {name: value for name, value in further.extensions.items() if not any(_whole_numbers(value))}
        return replace(further, extensions=kept)


def _whole_numbers(value: Any) -> Iterator[bool]:
    if isinstance(value, dict):
        for part in value.values():
            yield from _whole_numbers(part)
    elif isinstance(value, list):
        for part in value:
            yield from _whole_numbers(part)
    else:
        yield isinstance(value, int) and not isinstance(value, bool)


def _columns(matrix: NDArray[np.float64]) -> tuple[float, ...]:
    return tuple(float(value) for value in matrix.T.reshape(-1))
