"""Trees put together node by node, from where each stands in the world."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.io.objects import plain_name
from fasciculum.model.tree import Light, Place, Tree, TreeNode, TreeScene


class TreeBuilder:
    """Collects nodes; each is added below one that is there already.

    Attributes
    ----------
    nodes : list of TreeNode
        Without their children.
    worlds : list of ndarray, shape (4, 4)
        Where each stands in the world, columns as in glTF.
    """

    def __init__(self) -> None:
        self.nodes: list[TreeNode] = []
        self.worlds: list[NDArray[np.float64]] = []
        self._children: dict[int, list[int]] = {}

    def add(self, name: str, world: NDArray[np.float64], above: int = -1, **more: Any) -> int:
        """Add a node below another one, -1 for none, and return its number; ``more`` are fields of `TreeNode`."""
        parent = self.worlds[above] if above >= 0 else np.eye(4)
        local = np.linalg.solve(parent, world) if abs(np.linalg.det(parent)) > 1e-30 else np.eye(4)
        plain = np.allclose(local, np.eye(4), atol=1e-12)
        place = Place() if plain else Place(matrix=tuple(float(value) for value in local.T.ravel()))
        self.nodes.append(TreeNode(plain_name(name), place, **more))
        self.worlds.append(world)
        self._children.setdefault(above, []).append(len(self.nodes) - 1)
        return len(self.nodes) - 1

    def change(self, number: int, **more: Any) -> None:
        """Set fields of a node."""
        self.nodes[number] = replace(self.nodes[number], **more)

    def tree(self, lights: list[Light]) -> Tree:
        """Return the tree of all nodes."""
        complete = tuple(
            replace(node, children=tuple(self._children.get(number, ()))) for number, node in enumerate(self.nodes)
        )
        return Tree(complete, (TreeScene(tuple(self._children.get(-1, ()))),), lights=tuple(lights))


def upright(axis: str, metres: float) -> NDArray[np.float64]:
    """Return what takes a space whose up axis is X, Y or Z to metres with y pointing up, 4 x 4."""
    result = np.eye(4)
    turns = {"X": [[0, -1, 0], [1, 0, 0], [0, 0, 1]], "Z": [[1, 0, 0], [0, 0, 1], [0, -1, 0]]}
    result[:3, :3] = np.array(turns.get(axis, np.eye(3))) * metres
    return result
