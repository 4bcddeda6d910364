"""A bundle as it is laid out: islands, patches and what reads them, and what is kept apart."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from fasciculum.errors import UsageError
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import Treatment
from fasciculum.model.layout import Layout
from fasciculum.model.scene import Primitive, Scene
from fasciculum.treatments.regions import AtlasRegion


@dataclass(frozen=True, eq=False)
class RegionUser:
    """A primitive that reads regions.

    Attributes
    ----------
    primitive : Primitive
    regions : ndarray of int32, shape (T,)
        The region that each of its triangles reads; all the same one but for those of shared blocks.
    flat : ndarray of float64, shape (T, 3, 2)
        Where its corners lie on their region, metres.
    """

    primitive: Primitive
    regions: NDArray[np.int32]
    flat: NDArray[np.float64]

    @property
    def first(self) -> int:
        """The region that its first triangle reads."""
        return int(self.regions[0])

    @property
    def every(self) -> list[int]:
        """The regions that it reads, in order."""
        numbers: list[int] = np.unique(self.regions).tolist()
        return numbers


@dataclass(frozen=True, eq=False)
class ResolvedBundle:
    """A bundle as it is laid out.

    Attributes
    ----------
    scene : Scene
        With the bundle's objects alone, less what is not laid out as islands, and one object for each patch.
    bundle : Bundle
        Of these objects, without ways.
    patches : tuple of Patch
    readers : dict
        For each number of a mesh and of a primitive in it, what reads a patch.
    apart : frozenset
        The numbers of the materials that are kept apart.
    slices : int
        How many materials lie in slices of a texture array; each is a tile of its own behind the others.
    laid : bool
        Whether there are tiles before the slices.
    held : frozenset
        Meshes that lie there as islands whatever their materials are, since high-poly objects are read into them.
    """

    scene: Scene
    bundle: Bundle
    patches: tuple[AtlasRegion, ...] = ()
    readers: dict[tuple[int, int], RegionUser] = field(default_factory=dict)
    apart: frozenset[int] = frozenset()
    slices: int = 0
    laid: bool = True
    held: frozenset[int] = frozenset()

    @property
    def tiles(self) -> int:
        """The tiles of the sheet, slices too."""
        return (self.bundle.sheet.tiles if self.laid else 0) + self.slices

    @property
    def bare(self) -> bool:
        """Whether nothing at all is laid out."""
        return not self.bundle.objects

    @property
    def fits(self) -> bool:
        """Whether the layout is of these islands and patches; one that was made under other ways is not."""
        layout = self.bundle.layout
        return layout is None or all(self.scene.has(surface.objects[0]) for surface in layout.surfaces)

    def demand_fit(self) -> None:
        """Refuse a layout that was made under other ways.

        Raises
        ------
        UsageError
        """
        if not self.fits:
            raise UsageError(
                "the layout was made while materials were treated in other ways.",
                item=self.bundle.name,
                hint="Pack the bundle again.",
            )

    def is_apart(self, mesh: int, material: int) -> bool:
        """Tell whether a mesh's surface of a material is kept apart."""
        return material in self.apart and mesh not in self.held

    def way_of(self, material: int) -> Treatment:
        """Return how a material is in fact treated: one that its way does not suit is baked."""
        if material in self.apart:
            return Treatment.APART
        read = {reader.first for reader in self.readers.values() if reader.primitive.material == material}
        return self.patches[min(read)].way if read else Treatment.BAKE

    def ways_of(self, whole: Scene, key: str) -> tuple[Treatment, ...]:
        """Return how each primitive of an object is treated, in order."""
        item = whole.object(key)
        mesh = whole.nodes[item.node].mesh
        results = []
        for number, primitive in zip(item.primitives, whole.primitives_of(item), strict=True):
            reader = self.readers.get((mesh, number))
            apart = self.is_apart(mesh, primitive.material)
            results.append(
                Treatment.APART if apart else Treatment.BAKE if reader is None else self.patches[reader.first].way
            )
        return tuple(results)

    def slice_of(self, reader: RegionUser) -> int:
        """Return the number of the slice that a primitive reads, -1 for what reads another patch."""
        slices = [number for number, patch in enumerate(self.patches) if patch.way is Treatment.SLICE]
        return slices.index(reader.first) if reader.first in slices else -1

    def readers_of(self, whole: Scene, key: str) -> Iterator[RegionUser]:
        """Return what of an object reads patches; ``whole`` is the scene with all that it has."""
        item = whole.object(key)
        mesh = whole.nodes[item.node].mesh
        for number in item.primitives:
            if (mesh, number) in self.readers:
                yield self.readers[mesh, number]

    def apart_of(self, whole: Scene, key: str) -> Iterator[Primitive]:
        """Return what of an object is kept apart."""
        item = whole.object(key)
        mesh = whole.nodes[item.node].mesh
        return (one for one in whole.primitives_of(item) if self.is_apart(mesh, one.material))

    def sheet_corners(self, layout: Layout, reader: RegionUser) -> NDArray[np.float64]:
        """Return a reader's corners on a layout, shape (T, 3, 2), texels; on lanes they may lie beyond its sides."""
        islands = [layout.starts[layout.surface_of(self.patches[number].key)] for number in reader.every]
        rows = layout.placements[islands].reshape(-1, 2, 3)[np.searchsorted(reader.every, reader.regions)]
        corners: NDArray[np.float64] = np.einsum("tij,tcj->tci", rows[:, :, :2], reader.flat) + rows[:, None, :, 2]
        return corners
