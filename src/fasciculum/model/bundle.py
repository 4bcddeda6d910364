"""Bundles, the settings of their sheets, their layouts and their maps."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.model.frozen import freeze_arrays
from fasciculum.model.unwrapping import BALANCED, PLAIN, Shaping, UnwrapSettings

MAPS = ("base_color", "normal", "orm", "emissive")
EDGES = ("source", "hard", "smooth", "angle")


@dataclass(frozen=True)
class SheetSettings:
    """How a bundle's sheet is laid out. Sizes in texels; ``margin`` None means half the padding, rounded up.

    Attributes
    ----------
    twins : bool
        Islands alike in shape and content lie on one place.
    alike : str
        What must be alike besides the shape: ``content``, or ``shape`` for nothing else.
    tiles : int
        How many sheets of this size lie side by side.
    align : int
        Islands' boxes begin on multiples of so many texels; 0 is anywhere.
    smallest : float
        Islands that would come out shorter than so many texels are made that long.
    wanted : float
        Density that is kept, px/m; 0 is the best that fits.
    grows : str
        What follows from a wanted density: ``size`` or ``tiles``.
    unwrap : UnwrapSettings
        How what is not kept of the source UVs is unwrapped.
    """

    width: int = 2048
    height: int = 2048
    padding: int = 8
    margin: int | None = None
    turns: str = "quarter"
    mirror: bool = False
    density: str = "even"
    uv: str = "auto"
    twins: bool = True
    seconds: float = 5.0
    seed: int = 0
    alike: str = "content"
    tiles: int = 1
    align: int = 0
    smallest: float = 0.0
    wanted: float = 0.0
    grows: str = "size"
    unwrap: UnwrapSettings = BALANCED

    @property
    def border(self) -> int:
        """The margin in force, in texels."""
        return (self.padding + 1) // 2 if self.margin is None else self.margin


@dataclass(frozen=True)
class BakeSettings:
    """How a bundle's maps are baked.

    ``maps`` empty means those that the materials need; ``bleed`` None is unlimited. ``edges`` says how the delivered
    mesh is shaded across the sheet's seams, which normal maps have to know: ``source`` leaves normals alone, ``hard``
    breaks them at seams, ``smooth`` averages them over seams, ``angle`` breaks them where triangles meet at more than
    ``edge_angle`` degrees and averages them elsewhere.
    """

    maps: tuple[str, ...] = ()
    samples: int = 1
    bleed: int | None = None
    bits: int = 8
    edges: str = "source"
    edge_angle: float = 40.0


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


@dataclass(frozen=True, eq=False)
class Layout:
    """Where every island of a sheet lies.

    Attributes
    ----------
    surfaces : tuple of Surface
    placements : ndarray of float64, shape (I, 6)
        For each island, surfaces in order: the 2 x 3 affine map, row by row, from flat coordinates (metres) to
        texels.
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
    gain: float = math.nan

    def __post_init__(self) -> None:
        count = len(self.placements)
        plain: dict[str, NDArray[Any]] = {
            "places": np.arange(count, dtype=np.int32),
            "pinned": np.zeros(count, np.bool_),
            "moved": np.zeros(count, np.bool_),
            "shares": np.ones(count),
            "squeezed": np.ones(count),
        }
        for name, value in plain.items():
            if len(getattr(self, name)) != count:
                object.__setattr__(self, name, value)
        freeze_arrays(self)

    @property
    def distinct(self) -> int:
        """Places: islands, twins counted once."""
        return len(np.unique(self.places))

    @property
    def doubles(self) -> int:
        """Islands that lie on another's place, in all objects."""
        counts = np.diff(self.first_islands())
        return int(sum(count * len(s.objects) for count, s in zip(counts, self.surfaces, strict=True))) - self.distinct

    @property
    def across(self) -> int:
        """Texels across all tiles."""
        return self.width * self.tiles

    def first_islands(self) -> list[int]:
        """Return the number of each surface's first island in `placements`, and one past the last."""
        starts = [0]
        for surface in self.surfaces:
            starts.append(starts[-1] + (int(surface.island.max()) + 1 if len(surface.island) else 0))
        return starts

    @cached_property
    def _first_islands(self) -> list[int]:
        return self.first_islands()

    @cached_property
    def surface_numbers(self) -> dict[str, int]:
        """The index of the surface of each object that lies here."""
        return {key: index for index, surface in enumerate(self.surfaces) for key in surface.objects}

    def held_places(self) -> set[int]:
        """Return the places of pinned islands."""
        return set(self.places[self.pinned].tolist())

    def tile_of(self) -> NDArray[np.int64]:
        """Return the tile that each island lies on, from 0."""
        found = np.zeros(len(self.placements), np.int64)
        if self.tiles > 1:
            for index, surface in enumerate(self.surfaces):
                low = np.full(len(found), np.inf)
                np.minimum.at(
                    low, self._first_islands[index] + surface.island, self.sheet_corners(index)[..., 0].min(axis=1)
                )
                there = np.isfinite(low)
                found[there] = np.clip((low[there] + 1e-6) // self.width, 0, self.tiles - 1)
        return found

    def surface_of(self, key: str) -> int:
        """Return the index of the surface that holds the object; `KeyError` when there is none."""
        return self.surface_numbers[key]

    def sheet_corners(self, index: int) -> NDArray[np.float64]:
        """Return a surface's corners on the sheet, shape (T, 3, 2), in texels."""
        surface = self.surfaces[index]
        row = self.placements[self._first_islands[index] + surface.island].T[..., None]
        x, y = surface.corners[..., 0], surface.corners[..., 1]
        return np.stack([row[0] * x + row[1] * y + row[2], row[3] * x + row[4] * y + row[5]], axis=2)


@dataclass(frozen=True)
class BakedMap:
    """One finished map of a sheet: a key in the pixel store, and what it is."""

    name: str
    pixels: str
    width: int
    height: int
    bits: int
    color_space: str
    channels: int
    #: what the stored values are to be multiplied with (emission brighter than 1)
    strength: float = 1.0
    #: sheets side by side in the pixels
    tiles: int = 1


@dataclass(frozen=True)
class Texturing:
    """What a bundle's one material needs besides its maps: constants for the maps that were not needed."""

    maps: tuple[BakedMap, ...] = ()
    metallic: float = 1.0
    roughness: float = 1.0
    alpha_cutoff: float = 0.5
    double_sided: bool = False
    unlit: bool = False
    made_from: str = ""
    #: constants of extensions that change the look, as glTF has them
    extensions: dict[str, Any] = field(default_factory=dict)

    def map(self, name: str) -> BakedMap | None:
        """Return the map of that name, or None."""
        return next((candidate for candidate in self.maps if candidate.name == name), None)


@dataclass(frozen=True)
class Fidelity:
    """How well one object's sheet gives back its source, on the surface.

    Peak signal-to-noise ratios in dB, `normal_p95` in degrees; NaN where a map is not there.
    """

    object: str
    yield_: float
    base_color: float
    orm: float
    emissive: float
    normal_p95: float


@dataclass(frozen=True, eq=False)
class CheckResult:
    """What checking a bundle found."""

    fidelity: tuple[Fidelity, ...]
    clean_down_to: int
    stretch_l2: float
    stretch_share: float
    made_from: str


@dataclass(frozen=True, eq=False)
class Version:
    """A layout that was kept under a name."""

    name: str
    layout: Layout


@dataclass(frozen=True, eq=False)
class Bundle:
    """A group of objects that will share one texture set and, in the end, one material.

    ``shares`` and ``twin_rules`` hold what is said of single objects: the factor on their density, and whether their
    islands may lie on others' places: ``apart``, or ``unmirrored`` for not on mirrored ones.
    """

    name: str
    objects: tuple[str, ...]
    alpha_mode: str
    sheet: SheetSettings = field(default_factory=SheetSettings)
    bake: BakeSettings = field(default_factory=BakeSettings)
    shares: tuple[tuple[str, float], ...] = ()
    layout: Layout | None = None
    texturing: Texturing | None = None
    check: CheckResult | None = None
    twin_rules: tuple[tuple[str, str], ...] = ()
    versions: tuple[Version, ...] = ()
    #: how single objects are laid flat
    shapings: tuple[tuple[str, Shaping], ...] = ()

    def shaping(self, key: str) -> Shaping:
        """Return what was said about how an object is laid flat."""
        return self._shapings.get(key, PLAIN)

    @cached_property
    def _shapings(self) -> dict[str, Shaping]:
        return dict(self.shapings)

    def policy(self, key: str) -> str:
        """Return what is done with an object's source UVs: keep, auto or unwrap."""
        own = self.shaping(key).policy
        return self.sheet.uv if own == "bundle" else own

    def twin_rule(self, key: str) -> str:
        """Return how an object's twins are treated: together, apart, or unmirrored."""
        return dict(self.twin_rules).get(key, "together")

    def share(self, key: str) -> float:
        """Return the share of an object: the factor on its density."""
        return self._shares.get(key, 1.0)

    @cached_property
    def _shares(self) -> dict[str, float]:
        return dict(self.shares)
