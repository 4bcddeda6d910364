"""A delivery before it is written: what every kind of model file is made from."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from fasciculum.model.attributes import Attribute
from fasciculum.model.scene import Aside, Material
from fasciculum.model.tree import NOTHING, Further, Tree


@dataclass(frozen=True, eq=False)
class Part:
    """Triangles of one material: vertex attributes by their glTF names, and the material's number, -1 for none."""

    attributes: dict[str, Attribute]
    triangles: NDArray[np.int32]
    material: int
    targets: tuple[dict[str, Attribute], ...] = ()


@dataclass(frozen=True, eq=False)
class OutputMesh:
    """What a node draws; ``aside`` are points and lines, as they came."""

    name: str
    parts: tuple[Part, ...]
    aside: tuple[Aside, ...] = ()
    weights: tuple[float, ...] = ()
    further: Further = NOTHING


@dataclass(frozen=True, eq=False)
class OutputImage:
    """An encoded image: held by the model, or referred to as ``uri`` when that is not empty.

    ``dds`` is the same as DDS, held or referred to alike, for formats that can have it beside; ``data`` and ``uri`` are
    both empty where nothing else is wished.
    """

    name: str
    data: bytes
    uri: str = ""
    dds: bytes = b""
    dds_uri: str = ""


@dataclass(frozen=True, eq=False)
class OutputMaterial:
    """A material whose textures are numbers of output images.

    ``files`` are the texture files of the convention by what they show (a map, or one channel of it), for formats that
    refer to files by what they show.
    """

    material: Material
    files: dict[str, str] = field(default_factory=dict)


@dataclass(frozen=True, eq=False)
class Drawn:
    """One mesh in the world, for formats without a tree: ``world`` is 4 x 4, columns as in glTF."""

    name: str
    world: NDArray[np.float64]
    mesh: int


@dataclass(frozen=True, eq=False)
class OutputScene:
    """All that is delivered as a model. ``tree`` has it as nodes, ``drawn`` the same in world space."""

    name: str
    generator: str
    tree: Tree
    meshes: tuple[OutputMesh, ...]
    materials: tuple[OutputMaterial, ...]
    images: tuple[OutputImage, ...]
    drawn: tuple[Drawn, ...]
