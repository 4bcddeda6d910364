"""How surfaces are unwrapped, and what the artist has said about single objects."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

from fasciculum.model.digests import digest_of

#: what is done with an object's source UVs: what its bundle says, kept where clean, kept whole, or all made anew
POLICIES = ("bundle", "auto", "keep", "unwrap")


@dataclass(frozen=True)
class UnwrapSettings:
    """Settings of the automatic unwrap.

    Attributes
    ----------
    sharp : float
        Degrees between two triangles from which their edge is sharp: charts end there rather than bend, unless few
        charts are wanted and bending leaves fewer and better ones.
    stretch : float
        L2 stretch that a chart may have beyond 1.
    smallest : float
        Charts smaller than this part of their connected part are joined to a neighbour if that is possible at all.
    fewer : float
        From 0, many charts with little stretch that fill their rectangles, to 1, few charts; from 0.4 on they may bend
        over sharp edges.
    keep_seams : bool
        Where the source UVs have seams, so has the unwrap.
    """

    sharp: float = 70.0
    stretch: float = 0.03
    smallest: float = 0.03
    fewer: float = 0.5
    keep_seams: bool = False

    @property
    def bend(self) -> float:
        """How far the normals of a first chart may stand out of a plane, mean square."""
        return float(0.01 * 16.0**self.fewer)

    @property
    def fill(self) -> float:
        """The least part of its smallest rectangle that a joined chart fills."""
        return 0.75 - 0.2 * self.fewer

    @property
    def worse(self) -> float:
        """The part of what two charts fill apart that they have to fill joined."""
        return 1.0 - 0.2 * self.fewer


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
    kind : str
        ``plane``, ``box``, ``cylinder`` or ``sphere``.
    origin : tuple of float
        Its middle, metres in the object's own space (`fasciculum.uv.corners.Corners.own`).
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

    kind: str
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
    policy : str
        Of `POLICIES`.
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

    policy: str = "bundle"
    uv_set: int = -1
    seams: tuple[int, ...] = ()
    joined: tuple[int, ...] = ()
    projections: tuple[Projection, ...] = ()
    hand: tuple[HandFlat, ...] = ()
    count: int = 0

    @cached_property
    def digest(self) -> str:
        """A digest of all that is said."""
        return digest_of(repr(self))

    def fitting(self, count: int) -> Shaping:
        """Return what still holds of it for an object of so many triangles."""
        if count == self.count or not (self.seams or self.joined or self.projections or self.hand):
            return self
        whole = tuple(one for one in self.projections if not one.triangles)
        return Shaping(self.policy, self.uv_set, projections=whole, count=count)


PLAIN = Shaping()
