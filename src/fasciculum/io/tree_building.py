"""Trees put together node by node, from where each stands in the world."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

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


def turn_matrix(x: float, y: float, z: float, w: float) -> NDArray[np.float64]:
    """Return the rotation of a quaternion of any length but 0, which stands for none; shape (3, 3)."""
    length = math.sqrt(x * x + y * y + z * z + w * w)
    if not 0 < length < math.inf:
        return np.eye(3) if length == 0 else np.full((3, 3), np.nan)
    x, y, z, w = x / length, y / length, z / length, w / length
    return np.array(
        [
            [1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
            [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
            [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)],
        ]
    )


def matrix_of(translation: ArrayLike, rotation: ArrayLike, scale: ArrayLike) -> NDArray[np.float64]:
    """Return a move, a turn (a quaternion x, y, z, w of any length) and a scale as one matrix, shape (4, 4)."""
    matrix = np.eye(4)
    x, y, z, w = (float(value) for value in np.asarray(rotation))
    matrix[:3, :3] = turn_matrix(x, y, z, w) * np.asarray(scale)
    matrix[:3, 3] = translation
    return matrix
