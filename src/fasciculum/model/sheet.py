"""The settings of a bundle's sheet, each declared once with all that is said of it."""

from __future__ import annotations

from dataclasses import dataclass

from fasciculum.model.choices import (
    Alike,
    DensityRule,
    Grows,
    PieceRule,
    Turns,
    UvPolicy,
)
from fasciculum.model.settings import Stales, setting
from fasciculum.model.unwrapping import BALANCED, UnwrapSettings

LAYOUT = Stales.LAYOUT
#: texels along an edge of a sheet
LEAST_EDGE, MOST_EDGE = 16, 16384
#: px between two islands from which on they never meet in a block of 4 x 4: more than its diagonal
BLOCK_PADDING = 6


def _sized(sheet: SheetSettings) -> bool:
    return bool(sheet.wanted) and sheet.grows == Grows.SIZE


def _tiled(sheet: SheetSettings) -> bool:
    return bool(sheet.wanted) and sheet.grows == Grows.TILES


EDGES = {edge: str(edge) for edge in (128, 256, 512, 1024, 2048, 4096, 8192)}


@dataclass(frozen=True)
class SheetSettings:
    """How a bundle's sheet is laid out. Sizes in texels."""

    width: int = setting(
        2048,
        "Width",
        "Width of the sheet in px.",
        fold="Size",
        stales=LAYOUT,
        unit="px",
        low=LEAST_EDGE,
        high=MOST_EDGE,
        words=EDGES,
        when=lambda sheet: not _sized(sheet),
        counts=lambda sheet: () if _sized(sheet) else (sheet.width,),
    )
    height: int = setting(
        2048,
        "Height",
        "Height of the sheet in px.",
        fold="Size",
        stales=LAYOUT,
        unit="px",
        low=LEAST_EDGE,
        high=MOST_EDGE,
        words=EDGES,
        when=lambda sheet: not _sized(sheet),
        counts=lambda sheet: () if _sized(sheet) else (sheet.height,),
    )
    padding: int = setting(
        8,
        "Padding",
        "Empty texels between two islands, in px at full size. More padding keeps smaller mip levels free of bleeding.",
        fold="Padding",
        stales=LAYOUT,
        unit="px",
        low=0,
        high=256,
        option="--padding",
        first=True,
    )
    margin: int | None = setting(
        None,
        "Margin",
        "Empty texels along the sheet's border, in px. The default is half the padding, since repeating "
        "textures blend with the opposite border.",
        fold="Padding",
        stales=LAYOUT,
        unit="px",
        low=0,
        high=256,
        unset="half the padding",
        option="--margin",
        counts=lambda sheet: (sheet.border,),
    )
    blocks: bool = setting(
        False,
        "Compression blocks",
        "Keep islands so far apart that no 4 × 4 compression block holds texels of two of them: padding of 6 px at"
        " least.",
        fold="Padding",
        stales=LAYOUT,
        words={True: "keep apart"},
        option="--clear-blocks",
    )
    turns: Turns = setting(
        Turns.QUARTER,
        "Rotation",
        "Rotations that the packer may use. Quarter turns keep straight lines on the pixel grid; any "
        "angle suits organic shapes.",
        fold="Packing",
        stales=LAYOUT,
        words={turns: turns.value for turns in Turns},
        option="--turns",
        first=True,
    )
    mirror: bool = setting(
        False,
        "Mirror",
        "Let the packer mirror islands. Text is stored mirrored then; the model looks the same.",
        fold="Packing",
        stales=LAYOUT,
        words={True: "allow"},
        option="--mirror",
        first=True,
    )
    density: DensityRule = setting(
        DensityRule.EVEN,
        "Density",
        "Even: all surfaces get the same texels per metre. As in source: relative scales are kept.",
        fold="Size",
        stales=LAYOUT,
        words={DensityRule.EVEN: "even", DensityRule.KEEP: "source"},
        option="--density",
        first=True,
    )
    uv: UvPolicy = setting(
        UvPolicy.AUTO,
        "Surfaces",
        "Source of the islands. Keep clean: clean source UVs are kept, others are unwrapped. Keep all: "
        "only objects without UVs are unwrapped. Unwrap all: every object is unwrapped.",
        fold="Surfaces",
        stales=LAYOUT,
        words={UvPolicy.AUTO: "keep clean", UvPolicy.KEEP: "keep all", UvPolicy.UNWRAP: "unwrap all"},
        option="--uv",
        first=True,
    )
    twins: bool = setting(
        True,
        "Twins",
        "Islands with the same shape and content share one place, also when rotated, mirrored or scaled.",
        fold="Twins",
        stales=LAYOUT,
        words={True: "on one place"},
        option="--twins",
        first=True,
    )
    seconds: float = setting(
        5.0,
        "Packing time",
        "Time for improving the first layout, in seconds. The best layout is kept.",
        fold="Packing",
        unit="s",
        low=0,
        high=86400,
        option="--seconds",
        once=20.0,
    )
    seed: int = setting(
        0,
        "Seed",
        "Start of the random search. Another number gives another layout of similar quality.",
        fold="Packing",
        low=0,
        high=2**31,
        option="--seed",
    )
    alike: Alike = setting(
        Alike.CONTENT,
        "Match by",
        "What twins must share. Content: shape, material, source UVs and vertex colours. Shape only: for"
        " maps that depend on shape alone.",
        fold="Twins",
        stales=LAYOUT,
        words={Alike.CONTENT: "content too", Alike.SHAPE: "shape only"},
        option="--alike",
        when=lambda sheet: sheet.twins,
        first=True,
    )
    tiles: int = setting(
        1,
        "Tiles",
        "Number of sheets of this size, side by side. Each tile is a texture set and a material of its own.",
        fold="Size",
        stales=LAYOUT,
        low=1,
        high=16,
        option="--tiles",
        when=lambda sheet: not _tiled(sheet),
        counts=lambda sheet: () if _tiled(sheet) else (sheet.tiles,),
    )
    align: int = setting(
        0,
        "Align",
        "Grid for the islands' boxes. None packs best; whole texels keep straight edges crisp; 4 × 4 "
        "blocks avoid compression blocks shared by two islands.",
        fold="Packing",
        stales=LAYOUT,
        unit="px",
        words={0: "anywhere", 1: "whole texels", 4: "4 × 4 blocks"},
        only=True,
        option="--align",
        first=True,
    )
    smallest: float = setting(
        0.0,
        "Minimum island size",
        "Islands shorter than this, in px, are enlarged to it.",
        fold="Size",
        stales=LAYOUT,
        unit="px",
        low=0,
        high=256,
        unset="none",
        option="--smallest",
        first=True,
    )
    wanted: float = setting(
        0.0,
        "Target density",
        "Texel density to keep, in px/m; the sheet's size or number of tiles is adjusted to it. The "
        "lowest value means the highest density that fits.",
        fold="Size",
        stales=LAYOUT,
        unit="px/m",
        low=0,
        high=1e9,
        unset="highest",
        option="--wanted",
        line="PX_PER_M",
        first=True,
    )
    grows: Grows = setting(
        Grows.SIZE,
        "Adjust",
        "What is adjusted to reach the target density: the sheet's size, or the number of tiles.",
        fold="Size",
        stales=LAYOUT,
        words={Grows.SIZE: "size", Grows.TILES: "tiles"},
        option="--grows",
        when=lambda sheet: sheet.wanted > 0,
        counts=lambda sheet: (sheet.grows if sheet.wanted else "",),
    )
    pieces: PieceRule = setting(
        PieceRule.ISLANDS,
        "Pieces",
        "What is packed: islands, or the used part of each texture as one block. Blocks copy painted "
        "textures texel for texel if the sheet is large enough.",
        fold="Surfaces",
        stales=LAYOUT,
        words={PieceRule.ISLANDS: "islands", PieceRule.BLOCKS: "blocks of textures"},
        option="--pieces",
    )
    #: how what is not kept of the source UVs is unwrapped
    unwrap: UnwrapSettings = BALANCED

    @property
    def border(self) -> int:
        """The margin in force, in texels."""
        return (self.padding + 1) // 2 if self.margin is None else self.margin
