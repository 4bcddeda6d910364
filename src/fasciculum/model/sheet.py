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
        "Untouched texels between any two islands, in px at full size. More keeps smaller mip levels clean.",
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
        "Untouched texels to the sheet's border, in px; half the padding when it is not set, since an engine that "
        "repeats the texture reads the opposite border.",
        fold="Padding",
        stales=LAYOUT,
        unit="px",
        low=0,
        high=256,
        unset="half the padding",
        option="--margin",
        counts=lambda sheet: (sheet.border,),
    )
    turns: Turns = setting(
        Turns.QUARTER,
        "Rotation",
        "Rotations that the packer may use. Quarter turns keep straight lines on the pixel grid; any suits organic "
        "shapes.",
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
        "Even gives all surfaces the same texels per metre; as in source keeps the source's relative scales.",
        fold="Size",
        stales=LAYOUT,
        words={DensityRule.EVEN: "even", DensityRule.KEEP: "source"},
        option="--density",
        first=True,
    )
    uv: UvPolicy = setting(
        UvPolicy.AUTO,
        "Surfaces",
        "Where islands come from. Keep clean keeps clean source UVs and unwraps the rest; keep all never unwraps what "
        "has UVs; unwrap all makes every island anew.",
        fold="Surfaces",
        stales=LAYOUT,
        words={UvPolicy.AUTO: "keep clean", UvPolicy.KEEP: "keep all", UvPolicy.UNWRAP: "unwrap all"},
        option="--uv",
        first=True,
    )
    twins: bool = setting(
        True,
        "Twins",
        "Islands alike in shape and content lie on one place, even turned, mirrored or scaled.",
        fold="Twins",
        stales=LAYOUT,
        words={True: "on one place"},
        option="--twins",
        first=True,
    )
    seconds: float = setting(
        5.0,
        "Packing time",
        "Time for improving on the first layout, in seconds; the best one found is kept.",
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
        "Another number leads to another of the layouts that are about as good.",
        fold="Packing",
        low=0,
        high=2**31,
        option="--seed",
    )
    alike: Alike = setting(
        Alike.CONTENT,
        "Match by",
        "What makes islands twins. Content: the same material, source UVs and vertex colours. Shape only suits maps "
        "made from shape alone.",
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
        "How many sheets of this size lie side by side. Each tile is a texture set and a material of its own.",
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
        "Where islands' boxes may begin: anywhere packs best; whole texels keep straight edges crisp; 4 × 4 blocks "
        "keep islands out of each other's blocks in compressed formats.",
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
        "Slivers shorter than this, in px, are made this long.",
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
        "A texel density that is kept, in px/m; the sheet's size or the number of tiles follows from it. At the lowest "
        "value the density is the best that fits.",
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
        "What follows from a wanted density: the smallest size, or the fewest tiles.",
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
        "What is laid out: islands, or the used part of each texture as one block, moved texel for texel where the "
        "sheet is large enough, so that painted textures stay as they were.",
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
