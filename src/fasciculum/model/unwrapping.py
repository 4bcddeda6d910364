"""How surfaces are unwrapped, and what the artist has said about single objects."""

from __future__ import annotations

from dataclasses import dataclass, replace

#: what is done with an object's source UVs: what its bundle says, kept where clean, kept whole, or all made anew
POLICIES = ("bundle", "auto", "keep", "unwrap")


@dataclass(frozen=True)
class UnwrapSettings:
    """Settings of the automatic unwrap.

    Attributes
    ----------
    sharp : float
        Degrees between two triangles from which their edge is sharp; charts end there rather than bend.
    stretch : float
        L2 stretch that a chart may have beyond 1.
    smallest : float
        Charts smaller than this part of their connected part are joined to a neighbour if that is possible at all.
    fewer : float
        From 0, many charts with little stretch that fill their rectangles, to 1, few charts.
    keep_seams : bool
        Where the source UVs have seams, so has the unwrap.
    """

    sharp: float = 60.0
    stretch: float = 0.03
    smallest: float = 0.03
    fewer: float = 0.5
    keep_seams: bool = False

    @property
    def bend(self) -> float:
        """How far the normals of a first chart may stand out of a plane, mean square."""
        return float(0.02 * 16.0**self.fewer)

    @property
    def fill(self) -> float:
        """The least part of its smallest rectangle that a joined chart fills."""
        return 0.7 - 0.2 * self.fewer

    @property
    def worse(self) -> float:
        """The part of what two charts fill apart that they have to fill joined."""
        return 1.0 - 0.2 * self.fewer


#: settings by name, for what the artist calls hard and soft shapes
PRESETS = {
    "hard": UnwrapSettings(sharp=40.0, stretch=0.01, smallest=0.01, fewer=0.35),
    "soft": UnwrapSettings(sharp=75.0, stretch=0.03, smallest=0.04, fewer=0.6),
    "balanced": UnwrapSettings(),
}


def preset_of(settings: UnwrapSettings) -> str:
    """Return the name of the preset that settings are, empty when they are none."""
    plain = replace(settings, keep_seams=False)
    return next((name for name, known in PRESETS.items() if known == plain), "")
