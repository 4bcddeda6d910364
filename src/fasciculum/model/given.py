"""Given sheets: textures that exist and are used as they are, with the trims or cells that islands are laid onto."""

from __future__ import annotations

from dataclasses import dataclass

from fasciculum.model.choices import Choice
from fasciculum.model.stored import FilePath

Box = tuple[float, float, float, float]


class TrimRepeats(Choice):
    """Along which axis of its sheet a trim goes on and on."""

    NONE = "none"
    U = "u"
    V = "v"


@dataclass(frozen=True)
class GivenMap:
    """A texture of a given sheet: which map it is, its file and a digest of its bytes.

    One of a palette that was made here has no file: it follows from the cells' looks.
    """

    name: str
    file: FilePath = ""
    digest: str = ""


@dataclass(frozen=True)
class Trim:
    """A region of a trim sheet.

    Attributes
    ----------
    name : str
    box : tuple of float
        Left, top, right and bottom, px from the top left.
    repeats : TrimRepeats
        A ``u`` trim goes across the whole sheet, a ``v`` trim from its top to its bottom.
    gutter : float
        What along its sides nothing may lie on, px.
    """

    name: str
    box: Box
    repeats: TrimRepeats = TrimRepeats.NONE
    gutter: float = 0.0

    @property
    def room(self) -> Box:
        """The box less the gutter, which counts across only where the trim goes on."""
        x0, y0, x1, y1 = self.box
        across = 0.0 if self.repeats is TrimRepeats.U else self.gutter
        down = 0.0 if self.repeats is TrimRepeats.V else self.gutter
        return x0 + across, y0 + down, x1 - across, y1 - down


@dataclass(frozen=True)
class Given:
    """A given sheet.

    Attributes
    ----------
    maps : tuple of GivenMap
    width, height : int
        Of every map, px.
    metres : float
        What the sheet's width stands for.
    trims : tuple of Trim
    cells : tuple of tuple
        Boxes of a palette's colours, px; a sheet has trims or cells.
    colors : tuple of tuple
        What each cell holds: linear colour and opacity.
    looks : tuple of tuple
        Of a palette that was made here: for each cell linear red, green, blue, opacity, roughness, metallic, and
        emission in nits; its maps follow from them.
    file : str
        The description that it was read from, empty for none.
    split : bool
        Whether islands that are longer than a trim that does not go on are parted, along edges that they have.
    chosen : tuple
        Of palettes: by object, the triangles that were given a cell by hand, and which.
    """

    maps: tuple[GivenMap, ...]
    width: int
    height: int
    metres: float = 1.0
    trims: tuple[Trim, ...] = ()
    cells: tuple[Box, ...] = ()
    colors: tuple[tuple[float, ...], ...] = ()
    looks: tuple[tuple[float, ...], ...] = ()
    file: FilePath = ""
    split: bool = False
    chosen: tuple[tuple[str, tuple[int, ...], int], ...] = ()

    @property
    def is_palette(self) -> bool:
        """Whether faces go to cells, not islands onto trims."""
        return bool(self.cells)

    @property
    def px_per_metre(self) -> float:
        """The density at which the sheet is what its metres say."""
        return self.width / self.metres

    @property
    def fields(self) -> tuple[Box, ...]:
        """The boxes of its trims, or its cells."""
        return self.cells or tuple(trim.box for trim in self.trims)
