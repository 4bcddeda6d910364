"""What a glTF file is to hold, before it is written."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.model.scene import Attribute


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
    ``joined`` are meshes with the place of the root node that each gets of its own; ``bare`` are nodes that gave all
    that they drew to them, and that are left out where nothing else hangs on them.
    """

    parts: dict[int, list[Part]] = field(default_factory=dict)
    materials: list[dict[str, Any]] = field(default_factory=list)
    images: list[OutputImage] = field(default_factory=list)
    joined: list[tuple[str, list[Part], tuple[float, ...]]] = field(default_factory=list)
    bare: set[int] = field(default_factory=set)
