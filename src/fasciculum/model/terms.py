"""What plans are asked for: the sharpness to keep, the largest sheet, and budgets."""

from __future__ import annotations

from dataclasses import dataclass

from fasciculum.model.choices import Share

#: sheets over which one alpha mode's objects are divided, at most
MOST_SHEETS = 64
#: texels between islands with which a quarter of the sheet is clean: three texels of the second mip beyond each island,
#: across corners too
PLAN_PADDING = 14


@dataclass(frozen=True)
class Terms:
    """What a plan has to keep.

    Attributes
    ----------
    sharpness : float
        The yield that nine tenths of the surface are to keep.
    largest : int
        Edge of the largest sheet, texels.
    memory : float
        Texture memory at most, bytes; 0 for as much as the source takes.
    calls : int
        Draw calls at most; 0 for any number.
    padding : int
        Texels.
    repeats : str
        What is done with textures that repeat: auto, bake, lane, apart, cut or slice.
    most_repeats : float, optional
        What repeats more often is not baked.
    swatches : bool
        Whether flat surfaces shrink onto swatches.
    size : tuple of int, optional
        The size of every sheet, where it is given.
    """

    sharpness: float = 0.9
    largest: int = 4096
    memory: float = 0.0
    calls: int = 0
    padding: int = PLAN_PADDING
    repeats: str = "auto"
    most_repeats: float | None = None
    swatches: bool = True
    size: tuple[int, int] | None = None
    #: whether materials without textures may be kept apart too
    may_part_plain: bool = True
    #: whether islands that read overlapping parts of a texture share one place
    share: Share = Share.AUTO
    #: over how many sheets each alpha mode's objects are divided; 0 for as many as pays
    sheets: int = 0
