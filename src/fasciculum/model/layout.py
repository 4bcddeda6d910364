"""Where a bundle's islands lie on its sheet."""

from __future__ import annotations

import math
from collections.abc import Collection
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.kernels.affine import apply_affine
from fasciculum.model.frozen import freeze_arrays


@dataclass(frozen=True, eq=False)
class Surface:
    """An object's triangles, flat, in metres, before they are placed.

    Several objects stand here when their surfaces are alike and lie on one place (twins).

    Attributes
    ----------
    objects : tuple of str
        Keys of the objects on this place, the first being the one that is baked.
    corners : ndarray of float64, shape (T, 3, 2)
        Flat coordinates of each triangle's corners, in metres.
    island : ndarray of int32, shape (T,)
        Which island of the surface each triangle belongs to, from 0.
    projected : ndarray of bool, shape (T,)
        Triangles whose source UVs were missing or clashed, so that a projection was made.
    area : float
        Surface in world space, square metres.
    """

    objects: tuple[str, ...]
    corners: NDArray[np.float64]
    island: NDArray[np.int32]
    projected: NDArray[np.bool_]
    area: float
    share: float = 1.0

    def __post_init__(self) -> None:
        freeze_arrays(self)

    @cached_property
    def count(self) -> int:
        """How many islands it has."""
        return int(self.island.max()) + 1 if len(self.island) else 0


@dataclass(frozen=True)
class IslandColumn:
    """An array of a layout that has a value for each island.

    Attributes
    ----------
    name : str
        The field of `Layout`.
    dtype : type
    value : int, float, bool or None
        What islands have of which nothing else is known; with None they are counted.
    stored : str
        What the array is called in a project file, where that is not its name.
    """

    name: str
    dtype: type[np.generic]
    value: float | None
    stored: str = ""

    @property
    def entry(self) -> str:
        """What the array is called in a project file."""
        return self.stored or self.name

    def filled(self, count: int, first: int = 0) -> NDArray[Any]:
        """Return the values of ``count`` islands of which nothing is known; what is counted begins at ``first``."""
        if self.value is None:
            return np.arange(first, first + count, dtype=self.dtype)
        return np.full(count, self.value, self.dtype)


#: what a layout knows of each island, beside where it lies; project files go by this table, and so does whatever leaves
#: islands out or adds some
ISLAND_COLUMNS = (
    IslandColumn("places", np.int32, None),
    IslandColumn("pinned", np.bool_, False),
    IslandColumn("moved", np.bool_, False),
    IslandColumn("shares", np.float64, 1.0),
    IslandColumn("density_scale", np.float64, 1.0, "squeezed"),
    IslandColumn("pages", np.int32, 0),
    IslandColumn("fields", np.int32, -1),
)


@dataclass(frozen=True, eq=False)
class Layout:
    """Where every island of a sheet lies.

    Attributes
    ----------
    surfaces : tuple of Surface
    placements : ndarray of float64, shape (I, 6)
        For each island, surfaces in order: the 2 x 3 affine map, row by row, from flat coordinates (metres) to
        texels, pages side by side.
    scale : float
        Texels per metre at a share of 1.
    width, height, padding, margin : int
        Texels.
    gap, border_gap : int
        The smallest gap between islands, and to the border, in touched texels; measured.
    overlap : float
        Area on which islands overlap, in square texels; measured.
    fill : float
        Island area over sheet area.
    made_from : str
        Digest of all that the layout was made from.
    tiles : int
        Sheets of this size, side by side along x.
    rules : str
        The settings that it was made with; another layout stands on it only while they are the same.
    places : ndarray of int32, shape (I,)
        The place that each island lies on, from 0; twins have one place.
    pinned, moved : ndarray of bool, shape (I,)
        Islands that the artist holds where they are; islands that lie elsewhere than in the layout before.
    shares : ndarray of float64, shape (I,)
        Each island's own share, beside that of its object.
    density_scale : ndarray of float64, shape (I,)
        By what an island is smaller than its density asks for, since all else was to stay where it was; 1 is not.
    pages : ndarray of int32, shape (I,)
        The page of the sheet that each island lies on, from 0: its tile.
    gain : float
        How much denser a fresh layout would be, as a part; NaN when it is not known.
    """

    surfaces: tuple[Surface, ...]
    placements: NDArray[np.float64]
    scale: float
    width: int
    height: int
    padding: int
    margin: int
    gap: int
    border_gap: int
    overlap: float
    fill: float
    made_from: str
    tiles: int = 1
    rules: str = ""
    places: NDArray[np.int32] = field(default_factory=lambda: np.zeros(0, np.int32))
    pinned: NDArray[np.bool_] = field(default_factory=lambda: np.zeros(0, np.bool_))
    moved: NDArray[np.bool_] = field(default_factory=lambda: np.zeros(0, np.bool_))
    shares: NDArray[np.float64] = field(default_factory=lambda: np.zeros(0))
    density_scale: NDArray[np.float64] = field(default_factory=lambda: np.zeros(0))
    pages: NDArray[np.int32] = field(default_factory=lambda: np.zeros(0, np.int32))
    gain: float = math.nan
    #: the trim or cell of a given sheet that each island lies on, shape (I,), -1 where it lies on none
    fields: NDArray[np.int32] = field(default_factory=lambda: np.zeros(0, np.int32))
    #: how many of the tiles, the last ones, are slices of a texture array
    slices: int = 0

    def __post_init__(self) -> None:
        count = len(self.placements)
        for column in ISLAND_COLUMNS:
            if len(getattr(self, column.name)) != count:
                object.__setattr__(self, column.name, column.filled(count))
        freeze_arrays(self)

    @property
    def on_given(self) -> bool:
        """Whether islands lie on a given sheet, one over the other on purpose."""
        return self.rules.startswith("given ")

    @property
    def distinct(self) -> int:
        """Places: islands, twins counted once."""
        return len(np.unique(self.places))

    @property
    def doubles(self) -> int:
        """Islands that lie on another's place, in all objects."""
        return sum(surface.count * len(surface.objects) for surface in self.surfaces) - self.distinct

    @property
    def own_tiles(self) -> int:
        """How many tiles hold islands: those that are no slices."""
        return self.tiles - self.slices

    @property
    def across(self) -> int:
        """Texels across all tiles."""
        return self.width * self.tiles

    @cached_property
    def starts(self) -> tuple[int, ...]:
        """The number of each surface's first island in `placements`, and one past the last."""
        results = [0]
        for surface in self.surfaces:
            results.append(results[-1] + surface.count)
        return tuple(results)

    @cached_property
    def surface_numbers(self) -> dict[str, int]:
        """The index of the surface of each object that lies here."""
        return {key: index for index, surface in enumerate(self.surfaces) for key in surface.objects}

    def surface_of(self, key: str) -> int:
        """Return the index of the surface that holds the object; `KeyError` when there is none."""
        return self.surface_numbers[key]

    @cached_property
    def lanes(self) -> NDArray[np.bool_]:
        """Which islands go across the whole of their sheet, so that they go on at its other side, shape (I,)."""
        result = np.zeros(len(self.placements), np.bool_)
        for index, surface in enumerate(self.surfaces):
            if surface.count == 1:
                across = self.sheet_corners(index)[..., 0] - self.pages[self.starts[index]] * self.width
                result[self.starts[index]] = across.min() < 1e-6 and across.max() > self.width - 1e-6
        return result

    def without(self, objects: Collection[str]) -> Layout:
        """Return the layout without the surfaces of some objects, for figures about the others."""
        stays = [index for index, surface in enumerate(self.surfaces) if surface.objects[0] not in objects]
        if len(stays) == len(self.surfaces):
            return self
        rows = [np.arange(self.starts[index], self.starts[index + 1]) for index in stays]
        which = np.concatenate(rows) if rows else np.zeros(0, np.int64)
        return replace(self, surfaces=tuple(self.surfaces[index] for index in stays), **self.islands_at(which))

    def islands_at(self, which: NDArray[np.int64]) -> dict[str, Any]:
        """Return the arrays that have a row for each island, cut to some of the islands, by their names."""
        names = ("placements", *(column.name for column in ISLAND_COLUMNS))
        return {name: getattr(self, name)[which] for name in names}

    def with_more_islands(self, placements: NDArray[np.float64]) -> dict[str, Any]:
        """Return the arrays that have a row for each island, longer by islands on places of their own."""
        first = int(self.places.max(initial=-1)) + 1
        longer: dict[str, NDArray[Any]] = {
            column.name: np.concatenate([getattr(self, column.name), column.filled(len(placements), first)])
            for column in ISLAND_COLUMNS
        }
        return longer | {"placements": np.concatenate([self.placements, placements])}

    def before_slices(self) -> Layout:
        """Return the layout of the tiles that hold islands alone; as it is where there are none but slices."""
        if not self.slices or not self.own_tiles:
            return self
        beyond = self.own_tiles
        left = {one.objects[0] for n, one in enumerate(self.surfaces) if self.pages[self.starts[n]] >= beyond}
        return replace(self.without(left), tiles=beyond, slices=0)

    def held_places(self) -> set[int]:
        """Return the places of pinned islands."""
        return set(self.places[self.pinned].tolist())

    def islands_of(self, index: int) -> NDArray[np.int64]:
        """Return the number, among all islands, of each triangle's island of a surface."""
        result: NDArray[np.int64] = self.surfaces[index].island.astype(np.int64) + self.starts[index]
        return result

    def sheet_corners(self, index: int) -> NDArray[np.float64]:
        """Return a surface's corners on the sheet, shape (T, 3, 2), in texels, pages side by side."""
        return apply_affine(self.placements[self.islands_of(index)], self.surfaces[index].corners)

    def page_corners(self, index: int) -> NDArray[np.float64]:
        """Return the same from the corner of each island's own page."""
        corners = self.sheet_corners(index)
        corners[..., 0] -= (self.pages[self.islands_of(index)] * self.width)[:, None]
        return corners


@dataclass(frozen=True, eq=False)
class Version:
    """A layout that was kept under a name."""

    name: str
    layout: Layout
