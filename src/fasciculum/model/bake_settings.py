"""Settings of a bundle's maps: which ones, how they are sampled, written and cast rays for."""

from __future__ import annotations

from dataclasses import dataclass, replace

from fasciculum.model.choices import Casts, Copies, Edges, FileFormat, Reads, VertexColors
from fasciculum.model.map_overrides import ALL_THE_WAY, ChannelFile, MapOverride, read_channels, read_wish
from fasciculum.model.maps import AO, KINDS, LIT, Origin
from fasciculum.model.settings import Stales, setting

MAPS = Stales.MAPS


def _radius(label: str, tip: str, option: str, step: float) -> float:
    """Return the setting of a distance within which rays are followed; automatic follows from the bundle's size."""
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
        f"How far {way} along the smoothed normal the high-poly surface is looked for, in metres; automatic "
        "is the distance between both surfaces.",
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
        "Minimum samples per texel; each is filtered to the texel's size. More samples help with fine, "
        "folded detail and take longer.",
        fold="Quality",
        stales=MAPS,
        words={1: "1, filtered", 4: "4", 16: "16"},
        only=True,
        option="--samples",
    )
    bleed: int | None = setting(
        None,
        "Dilation",
        "How far colours continue beyond the islands, in px. Everywhere is safest; use at least half the padding.",
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
        "File format of written textures. EXR stores linear floats, 16 or 32 bits each. Textures inside "
        "models are always PNG.",
        fold="Quality",
        stales=MAPS,
        words={
            FileFormat.PNG: "PNG",
            FileFormat.WEBP: "WebP, lossless",
            FileFormat.TGA: "TGA",
            FileFormat.EXR: "EXR, floats",
        },
        option="--format",
    )
    vertex_colors: VertexColors = setting(
        VertexColors.TINT,
        "Vertex colours",
        "Vertex colours either tint the base colour, as in glTF, or are data and get a map of their own.",
        fold="Maps",
        stales=MAPS,
        words={VertexColors.TINT: "tint the colour", VertexColors.DATA: "are data"},
        option="--vertex-colors",
    )
    clear: bool = setting(
        False,
        "Opacity outside",
        "Opacity outside the islands is either continued like colour, or 0.",
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
            Edges.SOURCE: "unchanged",
            Edges.HARD: "hard at seams",
            Edges.SMOOTH: "smooth over seams",
            Edges.ANGLE: "hard above an angle",
        },
        option="--edges",
    )
    edge_angle: float = setting(
        40.0,
        "Hard above",
        "Edges are hard where two faces meet at more than this angle, in degrees.",
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
        "Rays per texel for occlusion, bent normals, thickness and curvature. Four times as many rays "
        "halve the noise and take four times as long.",
        fold="Rays",
        stales=MAPS,
        low=1,
        high=65536,
        words={16: "16", 64: "64", 256: "256", 1024: "1024"},
        option="--rays",
    )
    ao_radius: float = _radius(
        "AO distance",
        "Distance up to which surfaces block light, in metres. Automatic: a tenth of the bundle's diagonal.",
        "--ao-radius",
        step=0.1,
    )
    ao_of: Casts = setting(
        Casts.SCENE,
        "Occluders",
        "What blocks rays: the object itself, its bundle, or all objects of the project.",
        fold="Rays",
        stales=MAPS,
        words={Casts.SELF: "itself", Casts.BUNDLE: "its bundle", Casts.SCENE: "everything"},
        option="--ao-of",
    )
    ao_floor: bool = setting(
        False,
        "Ground plane",
        "Add an endless floor at the scene's lowest point, which blocks rays from below.",
        fold="Rays",
        stales=MAPS,
        words={True: "add one below"},
        option="--ao-floor",
    )
    ao_as_occlusion: bool = setting(
        True,
        "Occlusion",
        "Use baked ambient occlusion as the delivered material's occlusion where source materials have none.",
        fold="Rays",
        stales=Stales.DELIVERY,
        words={True: "delivered"},
        option="--ao-as-occlusion",
    )
    thickness_radius: float = _radius(
        "Thickness distance",
        "Distance to the other side that counts as fully thick, in metres. Automatic: a tenth of the "
        "bundle's diagonal.",
        "--thickness-radius",
        step=0.1,
    )
    curvature_radius: float = _radius(
        "Curvature radius",
        "Radius of the surface that decides curvature, in metres. Automatic: a fiftieth of the bundle's diagonal.",
        "--curvature-radius",
        step=0.01,
    )
    copies: Copies = setting(
        Copies.SHARE,
        "Copies",
        "Copies whose occlusion differs visibly either share texels, with a finding that says what "
        "separate texels would cost, or get their own.",
        fold="Rays",
        stales=Stales.LAYOUT,
        words={Copies.SHARE: "share texels", Copies.PART: "own texels"},
        option="--copies",
    )
    smooth: float = setting(
        0.0,
        "Smooth noise",
        "Radius, in texels, over which noise of ray-cast maps is smoothed along the surface; never "
        "across seams or edges.",
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
        "Bake each object from its paired high-poly objects only, or from all of them.",
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
        "Light paths per texel. Four times as many halve the noise. The bake refines in passes, and can "
        "be ended early with the best result so far.",
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
        "How often light bounces off surfaces; 0 is direct light only. More bounces brighten rooms.",
        fold="Light",
        stales=MAPS,
        low=0,
        high=256,
        option="--bounces",
    )
    denoise: bool = setting(
        True,
        "Denoise",
        "Remove noise from baked light: with Open Image Denoise if it is installed, else with a simpler filter.",
        fold="Light",
        stales=MAPS,
        words={True: "remove noise"},
        option="--denoise",
    )
    exposure: float | None = setting(
        None,
        "Exposure",
        "Brightness of stored light relative to nits, in stops: +1 doubles it. Automatic keeps 99 of 100"
        " texels below 1.",
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
        "Add the surfaces' own emission to the lit map.",
        fold="Light",
        stales=MAPS,
        words={True: "in the lit map"},
        option="--lit-emission",
    )
    lit_only: bool = setting(
        False,
        "Unlit material",
        "Deliver materials that show the lit map only, so that engines add no light.",
        fold="Light",
        stales=Stales.LAYOUT,
        words={True: "from the lit map only"},
        option="--lit-only",
    )
    light_uv: bool = setting(
        False,
        "Lightmap",
        "Give light a layout of its own in a second UV set, with texels for every copy. Without it, "
        "copies that share texels share their light.",
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
        "Empty texels between two islands of the lightmap, in px.",
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
        "Give fewer texels to islands with even light, and more to islands with sharp shadows.",
        fold="Lightmap",
        stales=MAPS,
        words={True: "by how light varies"},
        option="--light-shares",
        when=lambda bake: bake.light_uv,
    )
    ao_light_uv: bool = setting(
        False,
        "AO layout",
        "Put ambient occlusion on the lightmap too, so that every copy has its own.",
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
        """Return what is wished of a map, with what it says nothing of filled in from the bundle's settings."""
        told = next((read_wish(text) for text in self.wishes if text.partition(":")[0] == name), MapOverride(name))
        written = FileFormat(told.format or self.format)
        bits = told.bits or self.bits
        if written is FileFormat.EXR:
            bits = max(bits, 16)
        elif written.shallow or bits > 16:
            bits = 8 if written.shallow else 16
        bleed = self.bleed if told.bleed is None else (None if told.bleed == ALL_THE_WAY else told.bleed)
        return replace(told, bits=bits, format=written, samples=told.samples or self.samples, bleed=bleed)

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
