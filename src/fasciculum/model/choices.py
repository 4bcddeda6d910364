"""Every choice among words, once: files, command line, window and tests take them from here.

Each is a `enum.StrEnum`, so that a choice is the word that files and the command line hold.
"""

from __future__ import annotations

from enum import StrEnum


class Choice(StrEnum):
    """A choice among words; written in digests as the plain word that it is."""

    def __repr__(self) -> str:
        return repr(self.value)


class Turns(Choice):
    """Rotations that the packer may use."""

    NONE = "none"
    HALF = "half"
    QUARTER = "quarter"
    EIGHTH = "eighth"
    ANY = "any"


class Treatment(Choice):
    """How a material is treated: as islands, on a lane, kept apart, cut at its repeats, in a slice, on a swatch."""

    BAKE = "bake"
    LANE = "lane"
    APART = "apart"
    CUT = "cut"
    SLICE = "slice"
    SWATCH = "swatch"
    BLOCK = "block"


class Share(Choice):
    """Whether islands that read overlapping parts of a texture share one place."""

    AUTO = "auto"
    NEVER = "never"


class Repeats(Choice):
    """What is done with textures that repeat."""

    AUTO = "auto"
    BAKE = "bake"
    LANE = "lane"
    APART = "apart"
    CUT = "cut"
    SLICE = "slice"


class FlatColorPolicy(Choice):
    """What is done with surfaces of one colour."""

    AUTO = "auto"
    SWATCH = "swatch"
    BAKE = "bake"


class Casts(Choice):
    """What stands in the way of rays: the object itself, its bundle, or the whole scene."""

    SELF = "self"
    BUNDLE = "bundle"
    SCENE = "scene"


class PairBy(Choice):
    """How an object and the high-poly ones that are read into it found each other."""

    NAME = "name"
    GROUP = "group"
    NEAREST = "nearest"
    FILE = "file"
    NONE = "none"
    HAND = "hand"


class Reads(Choice):
    """What an object's texels read: its own partners, or every high-poly object."""

    PARTNERS = "partners"
    EVERY = "every"


class Copies(Choice):
    """Whether copies and twins whose surroundings differ share a place, with a finding, or are parted."""

    SHARE = "share"
    PART = "part"


class PieceRule(Choice):
    """Whether surfaces are laid out as islands, or each texture's used part as one block."""

    ISLANDS = "islands"
    BLOCKS = "blocks"


class DensityRule(Choice):
    """Whether all surfaces get the same density, or keep the source's relative scales."""

    EVEN = "even"
    KEEP = "keep"


class UvPolicy(Choice):
    """What is done with source UVs: kept where clean, kept whole, or all made anew."""

    AUTO = "auto"
    KEEP = "keep"
    UNWRAP = "unwrap"


class ObjectPolicy(Choice):
    """The same for a single object, which may follow its bundle."""

    BUNDLE = "bundle"
    AUTO = "auto"
    KEEP = "keep"
    UNWRAP = "unwrap"


class Alike(Choice):
    """What twins have in common besides their shape."""

    CONTENT = "content"
    SHAPE = "shape"


class TwinRule(Choice):
    """Whether an object's islands may lie on others' places: any, none that is mirrored, or none."""

    TOGETHER = "together"
    UNMIRRORED = "unmirrored"
    APART = "apart"


class Grows(Choice):
    """What follows from a wanted density."""

    SIZE = "size"
    TILES = "tiles"


class Edges(Choice):
    """How a delivered mesh is shaded across the sheet's seams.

    Normals left alone, broken at seams, averaged over them, or broken where triangles meet at more than an angle.
    """

    SOURCE = "source"
    HARD = "hard"
    SMOOTH = "smooth"
    ANGLE = "angle"


class ProjectionKind(Choice):
    """What a projection is set up as."""

    PLANE = "plane"
    BOX = "box"
    CYLINDER = "cylinder"
    SPHERE = "sphere"


class Rule(Choice):
    """How loose objects are put into bundles."""

    ONE = "one"
    OBJECT = "object"
    ALPHA = "alpha"
    AUTO = "auto"


class Combine(Choice):
    """Whether the objects of a bundle are delivered separate, or joined into one mesh."""

    NONE = "none"
    BUNDLE = "bundle"
    INSTANCES = "instances"


class Packing(Choice):
    """Which channels of the surface share a file."""

    ORM = "orm"
    APART = "apart"
    METAL_SMOOTHNESS = "metal_smoothness"


class FileFormat(Choice):
    """The formats that textures are written in, by their suffix."""

    PNG = "png"
    WEBP = "webp"
    TGA = "tga"
    EXR = "exr"

    @property
    def shallow(self) -> bool:
        """Whether it holds 8 bits a channel and no more."""
        return self in (FileFormat.WEBP, FileFormat.TGA)


class VertexColors(Choice):
    """What vertex colours are: a tint of the base colour, or data of their own."""

    TINT = "tint"
    DATA = "data"


class Green(Choice):
    """Where green points in normal maps: up, as in glTF, or down."""

    UP = "up"
    DOWN = "down"


class AlphaMode(Choice):
    """How a surface covers what is behind it, as glTF has it."""

    OPAQUE = "OPAQUE"
    MASK = "MASK"
    BLEND = "BLEND"


class UvEditKind(Choice):
    """Changes to UV sets; ``read`` lets materials read another."""

    ADD = "add"
    COPY = "copy"
    SWAP = "swap"
    RENAME = "rename"
    DELETE = "delete"
    READ = "read"


class Severity(Choice):
    """How bad a finding is, from the worst on."""

    ERROR = "error"
    WARNING = "warning"
    INFO = "info"


class Remedy(Choice):
    """Remedies that can be applied: find the file of a missing image, allow the folder that it lies in."""

    NONE = ""
    LOCATE = "locate"
    ALLOW = "allow"


class ColorSpace(Choice):
    """How stored values are meant: encoded as sRGB, or as they are."""

    SRGB = "srgb"
    LINEAR = "linear"


class Stage(Choice):
    """The stages that can be redone, as the command line names them."""

    LAY_OUT = "lay-out"
    BAKE = "bake"
    CHECK = "check"
    DELIVER = "deliver"


class Compression(Choice):
    """The family of blocks that textures are compressed into."""

    NONE = "none"
    BC = "bc"
    ASTC = "astc"
    ETC2 = "etc2"


class MeshCompression(Choice):
    """How the meshes of a delivered glTF file are compressed."""

    NONE = "none"
    DRACO = "draco"
    MESHOPT = "meshopt"


class TextureFormat(Choice):
    """The files that textures are written as; ``auto`` is what suits the compression."""

    AUTO = "auto"
    PNG = "png"
    DDS = "dds"
    KTX2 = "ktx2"


class Fallback(Choice):
    """Whether models hold a PNG beside a texture that not every program reads."""

    YES = "yes"
    NO = "no"


class Mips(Choice):
    """Whether texture files hold their mip levels: as the files usually do, yes, no, or each in a file of its own."""

    AUTO = "auto"
    YES = "yes"
    NO = "no"
    FILES = "files"
