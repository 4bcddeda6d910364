"""How surfaces are unwrapped, and what the artist has said about single objects."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from fasciculum.model.choices import ObjectPolicy, ProjectionKind
from fasciculum.model.digests import digest_of, digest_text
from fasciculum.model.settings import Stales, setting

LAYOUT = Stales.LAYOUT


@dataclass(frozen=True)
class UnwrapSettings:
    """Settings of the automatic unwrap."""

    sharp: float = setting(
        70.0,
        "Sharp angle",
        "Islands are preferably cut where faces meet at more than this angle, in degrees. Concave edges "
        "count from 0.7 of it, since seams are less visible there.",
        fold="Unwrapping",
        stales=LAYOUT,
        unit="°",
        low=1,
        high=180,
        step=5,
        option="--sharp",
        first=True,
    )
    stretch: float = setting(
        0.03,
        "Maximum stretch",
        "Highest L2 stretch of an island, in % above undistorted. Islands with more are cut.",
        fold="Unwrapping",
        stales=LAYOUT,
        unit="%",
        low=0,
        high=1,
        step=0.5,
        decimals=1,
        option="--stretch",
        first=True,
    )
    smallest: float = setting(
        0.03,
        "Minimum island area",
        "Islands smaller than this share of their connected surface, in %, are joined to a neighbour if possible.",
        fold="Unwrapping",
        stales=LAYOUT,
        unit="%",
        low=0,
        high=1,
        step=0.5,
        decimals=1,
        option="--smallest-chart",
        first=True,
    )
    fewer: float = setting(
        0.5,
        "Fewer islands",
        "Left: less stretch and fuller rectangles. Right: fewer islands, which may bend over sharp edges.",
        fold="Unwrapping",
        stales=LAYOUT,
        low=0,
        high=1,
        decimals=2,
        slide=True,
        option="--fewer",
        first=True,
    )
    keep_seams: bool = setting(
        False,
        "Source seams",
        "Keep the seams of the source UVs, and add seams where needed.",
        fold="Unwrapping",
        stales=LAYOUT,
        words={True: "keep"},
        option="--keep-seams",
        first=True,
    )


BALANCED = UnwrapSettings()
#: settings by name, for what the artist calls hard and soft shapes
PRESETS = {
    "hard": UnwrapSettings(sharp=40.0, stretch=0.01, smallest=0.01, fewer=0.35),
    "soft": UnwrapSettings(sharp=75.0, stretch=0.03, smallest=0.04, fewer=0.6),
    "balanced": BALANCED,
}


def preset_of(settings: UnwrapSettings) -> str:
    """Return the name of the preset that settings are, empty when they are none."""
    plain = replace(settings, keep_seams=False)
    return next((name for name, known in PRESETS.items() if known == plain), "")


@dataclass(frozen=True)
class Projection:
    """A projection that the artist has set: where it stands and what it covers.

    Attributes
    ----------
    kind : ProjectionKind
    origin : tuple of float
        Its middle, metres in the object's own space (`fasciculum.uv.corners.Corners.local`).
    axes : tuple of float
        Three unit vectors one after the other: to the right, up, and towards the viewer; cylinders stand along the
        second.
    size : float
        Half its edge, or its radius, metres.
    caps : bool
        The ends of cylinders and spheres are laid flat on their own.
    triangles : tuple of int
        What it covers of the object; empty is all.
    """

    kind: ProjectionKind
    origin: tuple[float, float, float] = (0.0, 0.0, 0.0)
    axes: tuple[float, ...] = (1.0, 0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 1.0)
    size: float = 1.0
    caps: bool = True
    triangles: tuple[int, ...] = ()


@dataclass(frozen=True)
class HandFlat:
    """An island whose shape was made by hand: its triangles and their flat corners, six numbers for each, metres."""

    triangles: tuple[int, ...]
    corners: tuple[float, ...]


@dataclass(frozen=True)
class Shaping:
    """What the artist has said about how one object is laid flat.

    Attributes
    ----------
    policy : ObjectPolicy
    uv_set : int
        The UV set that islands are kept from; -1 is the one that the material reads.
    seams, joined : tuple of int
        Edges that are seams in any case, or in none: three times the triangle plus the corner where each begins.
    projections : tuple of Projection
        The last one that covers a triangle counts.
    hand : tuple of HandFlat
    count : int
        How many triangles the object had; what was said of single ones holds only while it has.
    """

    policy: ObjectPolicy = ObjectPolicy.BUNDLE
    uv_set: int = -1
    seams: tuple[int, ...] = ()
    joined: tuple[int, ...] = ()
    projections: tuple[Projection, ...] = ()
    hand: tuple[HandFlat, ...] = ()
    count: int = 0

    @cached_property
    def digest(self) -> str:
        """A digest of all that is said."""
        return digest_of(digest_text(self))

    def fitting(self, count: int) -> Shaping:
        """Return what still holds of it for an object of so many triangles."""
        if count == self.count or not (self.seams or self.joined or self.projections or self.hand):
            return self
        whole = tuple(one for one in self.projections if not one.triangles)
        return Shaping(self.policy, self.uv_set, projections=whole, count=count)

    def of_triangles(self, kept: NDArray[np.bool_]) -> Shaping:
        """Return what is said of some of an object's triangles, told by a mask (T,), as of an object of these alone."""
        told = self.fitting(len(kept))
        number = np.cumsum(kept) - 1

        def edges(which: tuple[int, ...]) -> tuple[int, ...]:
            return tuple(int(number[one // 3]) * 3 + one % 3 for one in which if kept[one // 3])

        projections = [
            replace(one, triangles=tuple(int(number[t]) for t in one.triangles if kept[t]))
            for one in told.projections
            if not one.triangles or kept[list(one.triangles)].any()
        ]
        hand = tuple(
            HandFlat(tuple(int(number[t]) for t in one.triangles), one.corners)
            for one in told.hand
            if kept[list(one.triangles)].all()
        )
        return replace(
            told,
            seams=edges(told.seams),
            joined=edges(told.joined),
            projections=tuple(projections),
            hand=hand,
            count=int(kept.sum()),
        )


PLAIN = Shaping()
