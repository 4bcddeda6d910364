"""Where a bundle's islands lie on its sheet."""

from __future__ import annotations

import math
from collections.abc import Collection
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.kernels.placed import apply_affine
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
    squeezed : ndarray of float64, shape (I,)
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
    squeezed: NDArray[np.float64] = field(default_factory=lambda: np.zeros(0))
    pages: NDArray[np.int32] = field(default_factory=lambda: np.zeros(0, np.int32))
    gain: float = math.nan
    #: the trim or cell of a given sheet that each island lies on, shape (I,), -1 where it lies on none
    fields: NDArray[np.int32] = field(default_factory=lambda: np.zeros(0, np.int32))
    #: how many of the tiles, the last ones, are slices of a texture array
    slices: int = 0

    def __post_init__(self) -> None:
        count = len(self.placements)
        plain: dict[str, NDArray[Any]] = {
            "places": np.arange(count, dtype=np.int32),
            "pinned": np.zeros(count, np.bool_),
            "moved": np.zeros(count, np.bool_),
            "shares": np.ones(count),
            "squeezed": np.ones(count),
            "pages": np.zeros(count, np.int32),
            "fields": np.full(count, -1, np.int32),
        }
        for name, value in plain.items():
            if len(getattr(self, name)) != count:
                object.__setattr__(self, name, value)
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
        found = [0]
        for surface in self.surfaces:
            found.append(found[-1] + surface.count)
        return tuple(found)

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
        found = np.zeros(len(self.placements), np.bool_)
        for index, surface in enumerate(self.surfaces):
            if surface.count == 1:
                across = self.sheet_corners(index)[..., 0] - self.pages[self.starts[index]] * self.width
                found[self.starts[index]] = across.min() < 1e-6 and across.max() > self.width - 1e-6
        return found

    def without(self, objects: Collection[str]) -> Layout:
        """Return the layout without the surfaces of some objects, for figures about the others."""
        stays = [index for index, surface in enumerate(self.surfaces) if surface.objects[0] not in objects]
        if len(stays) == len(self.surfaces):
            return self
        rows = [np.arange(self.starts[index], self.starts[index + 1]) for index in stays]
        which = np.concatenate(rows) if rows else np.zeros(0, np.int64)
        each = {
            name: getattr(self, name)[which]
            for name in ("placements", "places", "pinned", "moved", "shares", "squeezed", "pages", "fields")
        }
        return replace(self, surfaces=tuple(self.surfaces[index] for index in stays), **each)

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
        found: NDArray[np.int64] = self.surfaces[index].island.astype(np.int64) + self.starts[index]
        return found

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
