"""What was baked and what checking it found."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import Any

from fasciculum.model.choices import ColorSpace
from fasciculum.model.digests import digest_of, digest_text
from fasciculum.model.layout import Layout
from fasciculum.model.stored import FilePath


@dataclass(frozen=True)
class BakedMap:
    """One finished map of a sheet: a key in the pixel store, and what it is."""

    name: str
    pixels: str
    width: int
    height: int
    bits: int
    color_space: ColorSpace
    channels: int
    #: what the stored values are to be multiplied with (emission brighter than 1)
    strength: float = 1.0
    #: sheets side by side in the pixels
    tiles: int = 1
    #: digest of all that it was made from
    made_from: str = ""
    #: the suffix of the files that it is meant for
    format: str = "png"
    #: a digest of what it was made from but surfaces, and those of the bundle's objects in order
    frame: str = ""
    surfaces: tuple[str, ...] = ()
    #: the UV set that it is read through: 1 on the light sheet
    tex_coord: int = 0
    #: the file that it is delivered as, byte for byte, and a digest of that; empty for what is baked
    source: FilePath = ""
    source_digest: str = ""


@dataclass(frozen=True)
class MapConstant:
    """A map that is the same all over: linear values of 0 to 1, and what they are to be multiplied with."""

    name: str
    values: tuple[float, ...]
    strength: float = 1.0
    made_from: str = ""


@dataclass(frozen=True)
class LightFigures:
    """How a bundle's light came out.

    Attributes
    ----------
    rays : int
        Paths from each texel.
    noise : float
        Standard deviation of its brightness before noise was removed, over its mean.
    bright : float
        What 99 of 100 texels are below, nits.
    denoiser : str
        What removed noise: ``oidn``, ``own`` or ``none``.
    """

    rays: int = 0
    noise: float = 0.0
    bright: float = 1.0
    denoiser: str = "none"

    def stops(self, exposure: float | None) -> float:
        """Return the stops by which stored light is brighter than in nits."""
        if exposure is not None:
            return exposure
        return -math.log2(self.bright) if self.bright > 0 else 0.0


@dataclass(frozen=True)
class Texturing:
    """What a bundle's one material needs besides its maps: constants for the maps that were not needed."""

    maps: tuple[BakedMap, ...] = ()
    metallic: float = 1.0
    roughness: float = 1.0
    alpha_cutoff: float = 0.5
    double_sided: bool = False
    unlit: bool = False
    #: constants of extensions that change the look, as glTF has them
    extensions: dict[str, Any] = field(default_factory=dict)
    #: maps that hold one value, which the material has instead
    constants: tuple[MapConstant, ...] = ()
    #: maps that only serve files packed of channels, and are not written by themselves
    unwritten: tuple[str, ...] = ()
    #: by map of identifiers, the colour of each name, 0 to 255
    legend: dict[str, dict[str, tuple[int, int, int]]] = field(default_factory=dict)
    #: for each object that is read from high-poly ones the part of its texels that met nothing
    missed: tuple[tuple[str, float], ...] = ()
    #: how light came out, where there is any, and the layout of its own that it has
    light: LightFigures | None = None
    light_layout: Layout | None = None

    def constant(self, name: str) -> MapConstant | None:
        """Return the constant that stands for the map of that name, or None."""
        return next((candidate for candidate in self.constants if candidate.name == name), None)

    @property
    def made(self) -> dict[str, str]:
        """What each map, and each constant in the place of one, was made from, by name."""
        made = {one.name: one.made_from for one in self.maps}
        return made | {one.name: one.made_from for one in self.constants}

    def map(self, name: str) -> BakedMap | None:
        """Return the map of that name, or None."""
        return next((candidate for candidate in self.maps if candidate.name == name), None)

    @property
    def content(self) -> str:
        """A digest of what the maps hold."""
        return digest_of(
            *(f"{baked.name} {baked.pixels} {baked.format}" for baked in self.maps),
            digest_text(self.constants) if self.constants else "",
            *(() if self.light_layout is None else (self.light_layout.made_from, self.light_layout.placements)),
        )


@dataclass(frozen=True)
class Fidelity:
    """How well one object's sheet gives back its source, on the surface.

    ``figures`` holds, by map, the peak signal-to-noise ratio in dB, or for unit vectors the 95th percentile of the
    angle in degrees.
    """

    object: str
    yield_: float
    figures: tuple[tuple[str, float], ...] = ()

    def figure(self, name: str) -> float:
        """Return a map's figure, NaN where the map does not exist."""
        return dict(self.figures).get(name, math.nan)


@dataclass(frozen=True)
class CompressedMap:
    """How one texture came through compression.

    Attributes
    ----------
    name : str
        What the file shows: a map, a channel of one, or a packed file.
    tile : int
    block : str
        The block format, ``none`` where it is not compressed.
    width, height, levels : int
        Texels of the largest level, and how many levels there are.
    bytes, file_bytes : int
        All levels in blocks, and the file that holds them.
    blocks_down_to, clean_down_to : int
        The longer edge of the smallest level without a block over two islands, in texels; and of the one at which no
        reading meets a neighbour either.
    db : tuple of float
        Of the first three levels the signal-to-noise ratio over covered texels.
    angle, worst : float
        Of normals the mean of the angle and its 99th percentile, degrees.
    kept : float
        The part of covered texels on the right side of the cut-off.
    enough : bool
        Whether it is as good as was asked.
    below : bool
        Whether two channels were not taken since normals point below the surface.
    pixels : tuple of str
        The keys of all levels as an engine reads them, shape (H, W, C) of the file.
    """

    name: str
    tile: int
    block: str
    width: int
    height: int
    levels: int
    bytes: int
    file_bytes: int
    blocks_down_to: int
    clean_down_to: int
    db: tuple[float, ...] = ()
    angle: float = 0.0
    worst: float = 0.0
    kept: float = 1.0
    enough: bool = True
    below: bool = False
    pixels: tuple[str, ...] = ()


@dataclass(frozen=True, eq=False)
class CheckResult:
    """What checking a bundle found."""

    fidelity: tuple[Fidelity, ...]
    clean_down_to: int
    stretch_l2: float
    stretch_share: float
    made_from: str
    #: by map, and by object, how many mip levels smaller it could be without anybody telling
    wasted: tuple[tuple[str, int], ...] = ()
    wasted_objects: tuple[tuple[str, float], ...] = ()
    #: copies that share a place though what stands about them differs, and by how much of openness
    unlike: tuple[tuple[str, float], ...] = ()
    #: how its textures came through compression, where they are compressed
    compressed: tuple[CompressedMap, ...] = ()
    #: by map the keys of its levels as an engine reads them, in the shape that it was baked in
    decoded: tuple[tuple[str, tuple[str, ...]], ...] = ()
