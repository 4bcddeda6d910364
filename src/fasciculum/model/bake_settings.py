"""Settings of a bundle's maps: which ones, how they are sampled, written and cast rays for."""

from __future__ import annotations

from dataclasses import dataclass

from fasciculum.model.choices import Casts, Copies, Edges, FileFormat, Reads, VertexColors
from fasciculum.model.map_overrides import ALL_THE_WAY, ChannelFile, MapOverride, read_channels, read_wish
from fasciculum.model.maps import AO, KINDS, LIT, Origin
from fasciculum.model.settings import Stales, setting

MAPS = Stales.MAPS


def _radius(label: str, tip: str, option: str, step: float) -> float:
    """Return the setting of a distance within which rays are followed; by itself it follows from the bundle's size."""
    return setting(
        0.0,
        label,
        tip,
        fold="Rays",
        stales=MAPS,
        unit="m",
        low=0,
        high=1e6,
        step=step,
        decimals=4,
        unset="auto",
        option=option,
        line="auto|METRES",
    )


def _reach(way: str) -> float:
    """Return the setting of a reach."""
    return setting(
        0.0,
        "Ray distance out" if way == "outwards" else "Ray distance in",
        f"How far {way} along the smoothed normal the high-poly surface is looked for, in metres; by itself as far as "
        "both surfaces lie apart.",
        fold="High to low",
        stales=MAPS,
        unit="m",
        low=0,
        high=1e6,
        step=0.005,
        decimals=4,
        unset="auto",
    )


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
        "Dilation",
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
        "Bit depth",
        "Bits for each channel of the written textures.",
        fold="Quality",
        stales=MAPS,
        words={8: "8 bits a channel", 16: "16 bits a channel", 32: "32 bits, floats (EXR)"},
        only=True,
        option="--bits",
    )
    format: FileFormat = setting(
        FileFormat.PNG,
        "File format",
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
    #: what is otherwise for single maps, and files packed of channels, as `fasciculum.model.map_overrides` writes them
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
    ao_radius: float = _radius(
        "AO distance",
        "How far off something may stand and still keep light away, in metres; by itself a tenth of the bundle's "
        "diagonal.",
        "--ao-radius",
        step=0.1,
    )
    ao_of: Casts = setting(
        Casts.SCENE,
        "Occluders",
        "What keeps rays from going on: only the object itself, its bundle, or everything that was gathered.",
        fold="Rays",
        stales=MAPS,
        words={Casts.SELF: "itself", Casts.BUNDLE: "its bundle", Casts.SCENE: "everything"},
        option="--ao-of",
    )
    ao_floor: bool = setting(
        False,
        "Ground plane",
        "Whether an endless floor lies at the scene's lowest point.",
        fold="Rays",
        stales=MAPS,
        words={True: "add one below"},
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
    thickness_radius: float = _radius(
        "Thickness distance",
        "Distance to the other side from which a body counts as thick, in metres; by itself a tenth of the bundle's "
        "diagonal.",
        "--thickness-radius",
        step=0.1,
    )
    curvature_radius: float = _radius(
        "Curvature radius",
        "How wide a part of the surface decides its curvature, in metres; by itself a fiftieth of the bundle's "
        "diagonal.",
        "--curvature-radius",
        step=0.01,
    )
    copies: Copies = setting(
        Copies.SHARE,
        "Copies",
        "Whether copies whose occlusion would differ visibly share a place, with a finding that says what parting them "
        "costs, or are parted on the sheet.",
        fold="Rays",
        stales=Stales.LAYOUT,
        words={Copies.SHARE: "share texels", Copies.PART: "own texels"},
        option="--copies",
    )
    smooth: float = setting(
        0.0,
        "Smooth noise",
        "How far noise of maps that rays are cast for is evened out along the surface, in texels; never across seams, "
        "edges or other objects.",
        fold="Rays",
        stales=MAPS,
        unit="px",
        low=0,
        high=16,
        step=0.5,
        decimals=1,
        unset="off",
        option="--smooth",
    )
    reads: Reads = setting(
        Reads.PARTNERS,
        "High-poly sources",
        "Whether texels read the high-poly partners of their own object alone, or every high-poly object.",
        fold="High to low",
        stales=MAPS,
        words={Reads.PARTNERS: "its partners", Reads.EVERY: "all high-poly objects"},
        option="--reads",
    )
    reach_out: float = _reach("outwards")
    reach_in: float = _reach("inwards")

    light_rays: int = setting(
        64,
        "Light rays",
        "Paths of light from each texel. Four times as many halve what noise is left; the bake refines in passes, and "
        "the best so far can be kept.",
        fold="Light",
        stales=MAPS,
        low=1,
        high=65536,
        words={16: "16", 64: "64", 256: "256", 1024: "1024"},
        option="--light-rays",
    )
    bounces: int = setting(
        3,
        "Bounces",
        "How often light is sent back from surfaces on its way; 0 is what comes straight from sky, lamps and surfaces "
        "that emit. More brightens rooms.",
        fold="Light",
        stales=MAPS,
        low=0,
        high=256,
        option="--bounces",
    )
    denoise: bool = setting(
        True,
        "Denoise",
        "Whether noise is removed from what light is gathered, along the surface: by Open Image Denoise where that is "
        "installed, else by a simpler filter.",
        fold="Light",
        stales=MAPS,
        words={True: "remove noise"},
        option="--denoise",
    )
    exposure: float | None = setting(
        None,
        "Exposure",
        "Stops by which stored light is brighter than in nits: each doubles it. By itself such that 99 of 100 texels "
        "of the bundle are below 1.",
        fold="Light",
        stales=Stales.DELIVERY,
        unit="EV",
        low=-40,
        high=40,
        step=0.5,
        decimals=1,
        unset="auto",
        option="--exposure",
        line="auto|STOPS",
    )
    light_emission: bool = setting(
        True,
        "Emission",
        "Whether what surfaces emit themselves is part of the lit map.",
        fold="Light",
        stales=MAPS,
        words={True: "in the lit map"},
        option="--lit-emission",
    )
    lit_only: bool = setting(
        False,
        "Unlit material",
        "Whether the delivered materials show the lit map alone and engines light nothing.",
        fold="Light",
        stales=Stales.LAYOUT,
        words={True: "from the lit map only"},
        option="--lit-only",
    )
    light_uv: bool = setting(
        False,
        "Lightmap",
        "Whether light has a layout of its own in a second UV set, with a place for every island of every copy. "
        "Without it copies that lie on one place share one light.",
        fold="Lightmap",
        stales=MAPS,
        words={True: "own UV layout"},
        option="--light-uv",
    )
    light_width: int = setting(
        512,
        "Lightmap width",
        "Width of the lightmap in px.",
        fold="Lightmap",
        stales=MAPS,
        unit="px",
        low=16,
        high=16384,
        words={edge: str(edge) for edge in (128, 256, 512, 1024, 2048, 4096)},
        when=lambda bake: bake.light_uv,
    )
    light_height: int = setting(
        512,
        "Lightmap height",
        "Height of the lightmap in px.",
        fold="Lightmap",
        stales=MAPS,
        unit="px",
        low=16,
        high=16384,
        words={edge: str(edge) for edge in (128, 256, 512, 1024, 2048, 4096)},
        when=lambda bake: bake.light_uv,
    )
    light_padding: int = setting(
        4,
        "Lightmap padding",
        "Untouched texels between any two islands of the lightmap, in px.",
        fold="Lightmap",
        stales=MAPS,
        unit="px",
        low=0,
        high=64,
        option="--light-padding",
        when=lambda bake: bake.light_uv,
    )
    light_shares: bool = setting(
        True,
        "Lightmap density",
        "Whether islands on which light hardly varies get fewer texels, and those with sharp shadows more.",
        fold="Lightmap",
        stales=MAPS,
        words={True: "by how light varies"},
        option="--light-shares",
        when=lambda bake: bake.light_uv,
    )
    ao_light_uv: bool = setting(
        False,
        "AO layout",
        "Whether ambient occlusion lies on the lightmap too, so that every copy has its own.",
        fold="Lightmap",
        stales=MAPS,
        words={True: "on the lightmap"},
        option="--ao-light-uv",
        when=lambda bake: bake.light_uv,
    )

    def on_light_sheet(self, name: str) -> bool:
        """Whether a map lies on the lightmap."""
        own = KINDS[name].origin is Origin.LIGHT or (name == AO.name and self.ao_light_uv)
        return self.light_uv and own

    @property
    def computed(self) -> tuple[str, ...]:
        """The maps asked for by name that need texels of their own for every surface of the sheet."""
        lit = (LIT.name,) if self.lit_only else ()
        names = dict.fromkeys((*self.named, *lit))
        return tuple(
            name for name in names if KINDS[name].origin is not Origin.CARRIED and not self.on_light_sheet(name)
        )

    def wish(self, name: str) -> MapOverride:
        """Return what is wished of a map, everything filled in: size as text, bits, format, samples, bleed."""
        told = next((read_wish(text) for text in self.wishes if text.partition(":")[0] == name), MapOverride(name))
        written = FileFormat(told.format or self.format)
        bits = told.bits or self.bits
        if written is FileFormat.EXR:
            bits = max(bits, 16)
        elif written is FileFormat.TGA or bits > 16:
            bits = 8 if written is FileFormat.TGA else 16
        bleed = self.bleed if told.bleed is None else (None if told.bleed == ALL_THE_WAY else told.bleed)
        return MapOverride(name, told.size, bits, written, told.samples or self.samples, bleed, told.pattern)

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
    def needs_unique_texels(self) -> bool:
        """Whether some map needs texels of their own for all copies and twins."""
        return any(KINDS[name].needs_unique_texels for name in self.named if not self.on_light_sheet(name))
