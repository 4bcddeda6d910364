"""What was baked and what checking it found."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import Any

from fasciculum.model.choices import ColorSpace
from fasciculum.model.digests import digest_of


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

    def map(self, name: str) -> BakedMap | None:
        """Return the map of that name, or None."""
        return next((candidate for candidate in self.maps if candidate.name == name), None)

    @property
    def content(self) -> str:
        """A digest of what the maps hold."""
        return digest_of(*(f"{baked.name} {baked.pixels}" for baked in self.maps))


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
        """Return a map's figure, NaN where the map is not there."""
        return dict(self.figures).get(name, math.nan)


@dataclass(frozen=True, eq=False)
class CheckResult:
    """What checking a bundle found."""

    fidelity: tuple[Fidelity, ...]
    clean_down_to: int
    stretch_l2: float
    stretch_share: float
    made_from: str
