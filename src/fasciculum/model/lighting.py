"""What shines on a scene: lamps, the sky, and whether surfaces that emit do. What models hold stands in their trees."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass, field, replace

from fasciculum.model.choices import Choice
from fasciculum.model.stored import FilePath

Triple = tuple[float, float, float]
WHITE: Triple = (1.0, 1.0, 1.0)


def triple(values: Iterable[float]) -> Triple:
    """Return three numbers as plain floats."""
    x, y, z = (float(value) for value in values)
    return x, y, z


class LampKind(Choice):
    """What a lamp is: light from far away, from a place into all directions, or from a place into a cone."""

    SUN = "sun"
    POINT = "point"
    SPOT = "spot"


class SkyKind(Choice):
    """What surrounds a scene; by itself white where nothing else shines, else nothing."""

    AUTO = "auto"
    NONE = "none"
    PLAIN = "plain"
    GRADIENT = "gradient"
    PICTURE = "picture"


@dataclass(frozen=True)
class Lamp:
    """A lamp.

    Attributes
    ----------
    key : str
        Unique in the project, and what the artist reads.
    kind : LampKind
    color : tuple of float
        Linear.
    strength : float
        Lux of a sun on a plane that it meets squarely, candela of others.
    place : tuple of float
        In the world, metres; of a sun only where its handle stands.
    direction : tuple of float
        The way that its light goes, of length 1.
    reach : float
        Beyond which it gives nothing, metres; 0 is without end.
    inner, outer : float
        Of a spot: from the middle to where its light begins to fade, and to where it ends, radians.
    size : float
        Degrees that a sun is across, metres from the middle to the rim of others; 0 casts hard shadows.
    on : bool
    """

    key: str
    kind: LampKind
    color: Triple = WHITE
    strength: float = 1.0
    place: Triple = (0.0, 0.0, 0.0)
    direction: Triple = (0.0, -1.0, 0.0)
    reach: float = 0.0
    inner: float = 0.0
    outer: float = math.pi / 4
    size: float = 0.0
    on: bool = True

    @property
    def unit(self) -> str:
        """The unit of its strength."""
        return "lx" if self.kind is LampKind.SUN else "cd"

    @property
    def stands(self) -> tuple[float, float]:
        """Where a sun stands: azimuth clockwise from north (-Z) and elevation, degrees."""
        x, y, z = (-part for part in self.direction)
        azimuth = math.degrees(math.atan2(x, -z)) % 360.0 if abs(x) + abs(z) > 1e-9 else 0.0
        return azimuth, math.degrees(math.asin(max(min(y, 1.0), -1.0)))


def sun_direction(azimuth: float, elevation: float) -> Triple:
    """Return the way that light goes of a sun which stands at an azimuth and an elevation, degrees."""
    a, e = math.radians(azimuth), math.radians(elevation)
    return -math.sin(a) * math.cos(e), -math.sin(e), math.cos(a) * math.cos(e)


@dataclass(frozen=True)
class Sky:
    """What surrounds a scene, to all sides; values in nits.

    Attributes
    ----------
    kind : SkyKind
    color : tuple of float
        Linear: all over, or above of a gradient.
    horizon, ground : tuple of float
        Of a gradient: at the horizon, and below.
    strength : float
        What all of it is multiplied with.
    turn : float
        Degrees by which a picture is turned clockwise, seen from above.
    picture, digest : str
        An equirectangular HDR or EXR file, and a digest of its bytes.
    """

    kind: SkyKind = SkyKind.AUTO
    color: Triple = WHITE
    horizon: Triple = WHITE
    ground: Triple = (0.2, 0.2, 0.2)
    strength: float = 1.0
    turn: float = 0.0
    picture: FilePath = ""
    digest: str = field(default="")

    @property
    def content(self) -> Sky:
        """The same sky with its picture known by what it holds, wherever its file lies."""
        return replace(self, picture="") if self.digest else self


@dataclass(frozen=True)
class Lighting:
    """All that is said of what shines.

    Attributes
    ----------
    sky : Sky
    added : tuple of Lamp
        Lamps of the project's own.
    changed : tuple of Lamp
        Lamps of models as they are to be, by their keys.
    glow : bool
        Whether surfaces that emit light other surfaces.
    """

    sky: Sky = Sky()
    added: tuple[Lamp, ...] = ()
    changed: tuple[Lamp, ...] = ()
    glow: bool = True

    def with_lamp(self, lamp: Lamp) -> Lighting:
        """Return the same with a lamp, in place of the one that has its key."""
        if any(one.key == lamp.key for one in self.added):
            return replace(self, added=tuple(lamp if one.key == lamp.key else one for one in self.added))
        others = tuple(one for one in self.changed if one.key != lamp.key)
        return replace(self, changed=(*others, lamp))

    def adding(self, lamp: Lamp) -> Lighting:
        """Return the same with one lamp more."""
        return replace(self, added=(*self.added, lamp))

    def without(self, key: str) -> Lighting:
        """Return the same without an added lamp, or with a model's as it came."""
        return replace(
            self,
            added=tuple(one for one in self.added if one.key != key),
            changed=tuple(one for one in self.changed if one.key != key),
        )


#: nothing said
PLAIN_LIGHTING = Lighting()
