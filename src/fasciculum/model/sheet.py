"""The settings of a bundle's sheet and of its maps, each declared once with all that is said of it."""

from __future__ import annotations

from dataclasses import dataclass

from fasciculum.model.choices import (
    Alike,
    Casts,
    DensityRule,
    Edges,
    FileFormat,
    Grows,
    PieceRule,
    Turns,
    UvPolicy,
    VertexColors,
)
from fasciculum.model.map_wishes import ALL_THE_WAY, ChannelFile, MapWish, read_channels, read_wish
from fasciculum.model.maps import KINDS
from fasciculum.model.settings import Stales, setting
from fasciculum.model.unwrapping import BALANCED, UnwrapSettings

LAYOUT, MAPS = Stales.LAYOUT, Stales.MAPS
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
        "Turns",
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
        words={DensityRule.EVEN: "even", DensityRule.KEEP: "as in source"},
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
        "Improve for",
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
        "Alike in",
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
        "Smallest",
        "Slivers shorter than this, in px, are made this long.",
        fold="Size",
        stales=LAYOUT,
        unit="px",
        low=0,
        high=256,
        unset="as they come",
        option="--smallest",
        first=True,
    )
    wanted: float = setting(
        0.0,
        "Wanted",
        "A texel density that is kept, in px/m; the sheet's size or the number of tiles follows from it. At the lowest "
        "value the density is the best that fits.",
        fold="Size",
        stales=LAYOUT,
        unit="px/m",
        low=0,
        high=1e9,
        unset="best that fits",
        option="--wanted",
        line="PX_PER_M",
        first=True,
    )
    grows: Grows = setting(
        Grows.SIZE,
        "Follows",
        "What follows from a wanted density: the smallest size, or the fewest tiles.",
        fold="Size",
        stales=LAYOUT,
        words={Grows.SIZE: "the size", Grows.TILES: "the tiles"},
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


@dataclass(frozen=True)
class BakeSettings:
    """How a bundle's maps are baked; ``maps`` empty means those that the materials need."""

    maps: tuple[str, ...] = ()
    samples: int = setting(
        1,
        "Samples",
        "Readings a texel at least; each is filtered to the texel's size already. More helps where a texel covers "
        "fine, folded detail, and takes longer.",
        fold="Quality",
        stales=MAPS,
        words={1: "1, filtered", 4: "4", 16: "16"},
        only=True,
        option="--samples",
    )
    bleed: int | None = setting(
        None,
        "Bleed",
        "How far colour continues beyond the islands, in px. Everywhere is safest; half the padding is the least that "
        "helps.",
        fold="Quality",
        stales=MAPS,
        unit="px",
        low=0,
        high=16384,
        unset="everywhere",
        option="--bleed",
        line="full|N",
    )
    bits: int = setting(
        8,
        "Depth",
        "Bits for each channel of the written textures.",
        fold="Quality",
        stales=MAPS,
        words={8: "8 bits a channel", 16: "16 bits a channel", 32: "32 bits, floats (EXR)"},
        only=True,
        option="--bits",
    )
    format: FileFormat = setting(
        FileFormat.PNG,
        "Files",
        "What textures are written as. EXR holds linear values as floats: half ones, or whole ones at 32 bits. Models "
        "that hold their textures hold PNG in any case.",
        fold="Quality",
        stales=MAPS,
        words={FileFormat.PNG: "PNG", FileFormat.TGA: "TGA", FileFormat.EXR: "EXR, floats"},
        option="--format",
    )
    vertex_colors: VertexColors = setting(
        VertexColors.TINT,
        "Vertex colours",
        "Whether vertex colours tint the base colour, as glTF has it, or are data that has a map of its own.",
        fold="Maps",
        stales=MAPS,
        words={VertexColors.TINT: "tint the colour", VertexColors.DATA: "are data"},
        option="--vertex-colors",
    )
    clear: bool = setting(
        False,
        "Opacity outside",
        "Whether opacity continues beyond the islands as colour does, or is none there.",
        fold="Quality",
        stales=MAPS,
        words={True: "clear"},
        option="--clear",
    )
    #: what is otherwise for single maps, and files packed of channels, as `fasciculum.model.map_wishes` writes them
    wishes: tuple[str, ...] = ()
    channels: tuple[str, ...] = ()
    edges: Edges = setting(
        Edges.SOURCE,
        "Edges",
        "Normals of the delivered mesh: left alone, broken at the sheet's seams, averaged over these, or broken where "
        "faces meet at more than an angle. Normal maps are baked to match.",
        fold="Edges",
        stales=MAPS,
        words={
            Edges.SOURCE: "as they came",
            Edges.HARD: "hard at seams",
            Edges.SMOOTH: "smooth over seams",
            Edges.ANGLE: "hard above an angle",
        },
        option="--edges",
    )
    edge_angle: float = setting(
        40.0,
        "Hard above",
        "Degrees between two faces from which their edge is hard.",
        fold="Edges",
        stales=MAPS,
        unit="°",
        low=0,
        high=180,
        step=5,
        option="--edge-angle",
        when=lambda bake: bake.edges == Edges.ANGLE,
    )

    rays: int = setting(
        64,
        "Rays",
        "Rays from each texel for occlusion, bent normals, thickness and curvature. Four times as many halve the "
        "noise, or better, and take four times as long.",
        fold="Rays",
        stales=MAPS,
        low=1,
        high=65536,
        words={16: "16", 64: "64", 256: "256", 1024: "1024"},
        option="--rays",
    )
    ao_radius: float = setting(
        0.0,
        "Occlusion within",
        "How far off something may stand and still keep light away, in metres; by itself a tenth of the bundle's "
        "diagonal.",
        fold="Rays",
        stales=MAPS,
        unit="m",
        low=0,
        high=1e6,
        step=0.1,
        decimals=4,
        unset="auto",
        option="--ao-radius",
        line="auto|METRES",
    )
    ao_of: Casts = setting(
        Casts.SCENE,
        "In the way",
        "What stands in the way of rays: only the object itself, its bundle, or everything that was gathered.",
        fold="Rays",
        stales=MAPS,
        words={Casts.SELF: "itself", Casts.BUNDLE: "its bundle", Casts.SCENE: "everything"},
        option="--ao-of",
    )
    ao_floor: bool = setting(
        False,
        "Floor",
        "Whether an endless floor lies at the scene's lowest point.",
        fold="Rays",
        stales=MAPS,
        words={True: "below"},
        option="--ao-floor",
    )
    ao_as_occlusion: bool = setting(
        True,
        "Occlusion",
        "Whether ambient occlusion is the occlusion of the delivered material where the source's materials have none.",
        fold="Rays",
        stales=Stales.DELIVERY,
        words={True: "delivered"},
        option="--ao-as-occlusion",
    )
    thickness_radius: float = setting(
        0.0,
        "Thick from",
        "Distance to the other side from which a body counts as thick, in metres; by itself a tenth of the bundle's "
        "diagonal.",
        fold="Rays",
        stales=MAPS,
        unit="m",
        low=0,
        high=1e6,
        step=0.1,
        decimals=4,
        unset="auto",
        option="--thickness-radius",
        line="auto|METRES",
    )
    curvature_radius: float = setting(
        0.0,
        "Bends within",
        "How wide a part of the surface decides its curvature, in metres; by itself a fiftieth of the bundle's "
        "diagonal.",
        fold="Rays",
        stales=MAPS,
        unit="m",
        low=0,
        high=1e6,
        step=0.01,
        decimals=4,
        unset="auto",
        option="--curvature-radius",
        line="auto|METRES",
    )

    def wish(self, name: str) -> MapWish:
        """Return what is wished of a map, everything filled in: size as text, bits, format, samples, bleed."""
        told = next((read_wish(text) for text in self.wishes if text.partition(":")[0] == name), MapWish(name))
        written = FileFormat(told.format or self.format)
        bits = told.bits or self.bits
        if written is FileFormat.EXR:
            bits = max(bits, 16)
        elif written is FileFormat.TGA or bits > 16:
            bits = 8 if written is FileFormat.TGA else 16
        bleed = self.bleed if told.bleed is None else (None if told.bleed == ALL_THE_WAY else told.bleed)
        return MapWish(name, told.size, bits, written, told.samples or self.samples, bleed, told.pattern)

    @property
    def packed(self) -> tuple[ChannelFile, ...]:
        """The files that are packed of channels."""
        return tuple(read_channels(text) for text in self.channels)

    @property
    def named(self) -> tuple[str, ...]:
        """The maps that are asked for by name, those of packed files too."""
        names = [name for name in self.maps if name in KINDS]
        return tuple(dict.fromkeys([*names, *(name for file in self.packed for name in file.maps)]))

    @property
    def alone(self) -> bool:
        """Whether some map needs texels of their own for all copies and twins."""
        return any(KINDS[name].alone for name in self.named)
