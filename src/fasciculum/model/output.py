"""A delivery before it is written: what every kind of model file is made from."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from fasciculum.model.attributes import Attribute
from fasciculum.model.choices import MeshCompression
from fasciculum.model.finding import Finding
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
    #: width or height of its largest texture, whichever is larger, in texels; 0 when it has none
    texels: int = 0
    #: whether it is that of a sheet, and not one that came along
    is_sheet: bool = False


@dataclass(frozen=True, eq=False)
class Drawn:
    """One mesh in the world, for formats without a tree: ``world`` is 4 x 4, columns as in glTF."""

    name: str
    world: NDArray[np.float64]
    mesh: int


@dataclass
class MeshLosses:
    """The most that storing meshes more compactly has changed: what a writer finds, the largest of each.

    Attributes
    ----------
    position_error : float
        Metres in the world.
    uv_error_px : float
        Texels of the largest texture that is read.
    normal_error_deg : float
        Degrees.
    """

    position_error: float = 0.0
    uv_error_px: float = 0.0
    normal_error_deg: float = 0.0

    def words(self) -> str:
        """Return the losses as a sentence."""
        return (
            f"Meshes are off by {1000 * self.position_error:.2g} mm, UVs by {self.uv_error_px:.2g} px and normals by "
            f"{self.normal_error_deg:.2g} degrees at most."
        )

    def note(self, position: float = 0.0, uv: float = 0.0, normal: float = 0.0) -> None:
        """Take further errors into account."""
        self.position_error = max(self.position_error, position)
        self.uv_error_px = max(self.uv_error_px, uv)
        self.normal_error_deg = max(self.normal_error_deg, normal)


@dataclass(frozen=True, eq=False)
class MeshStorage:
    """How meshes are stored in formats that have a choice, and what that costs."""

    compression: MeshCompression = MeshCompression.NONE
    quantize: bool = False
    losses: MeshLosses = field(default_factory=MeshLosses)


@dataclass(frozen=True, eq=False)
class SourceStage:
    """A stage that a delivery can be written upon: its file, the prim of each node of its tree, the delivery's folder.

    ``findings`` are what the writer has to say.
    """

    path: Path
    paths: tuple[str, ...]
    folder: Path
    findings: list[Finding] = field(default_factory=list)


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
    storage: MeshStorage = field(default_factory=MeshStorage)
    #: the stage that it was made of, where it was made of one alone
    upon: SourceStage | None = None

    def scale_of(self, mesh: int) -> float:
        """Return how many times larger a mesh is drawn at most than it is stored."""
        worlds = [one.world[:3, :3] for one in self.drawn if one.mesh == mesh]
        return max((float(np.linalg.norm(world, 2)) for world in worlds), default=1.0)

    def texels_of(self, material: int) -> int:
        """Return the larger side of the largest texture that a material reads, 0 without any."""
        return self.materials[material].texels if material >= 0 else 0
