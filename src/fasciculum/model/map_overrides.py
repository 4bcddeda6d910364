"""What is wished of single maps, and files packed of maps' channels: as text, the same in projects and on the line.

``normal:size=1/2,bits=16`` wishes a normal map of half the sheet's size with 16 bits; ``mask=ao,1-roughness,,0.5`` is a
file whose red is one map, whose green another inverted, and whose alpha is a constant.
"""

from __future__ import annotations

import difflib
import re
from collections.abc import Callable
from dataclasses import dataclass, field, fields, replace
from functools import lru_cache
from typing import Any

from fasciculum.errors import UsageError
from fasciculum.model.choices import ColorSpace, FileFormat
from fasciculum.model.maps import KINDS, MapKind

#: texels along an edge of a map
LEAST, MOST = 4, 16384
#: what a bleed of all the way is in a wish
ALL_THE_WAY = -1
LETTERS = "rgba"
#: block formats that a map can be compressed into, and the maps that hold roughness
BLOCKS = ("bc1", "bc3", "bc4", "bc5", "bc7", "astc4x4", "astc6x6", "astc8x8", "etc2", "none")
ROUGH = ("orm", "roughness")


def known_kind(name: str) -> MapKind:
    """Return a kind of map by its name.

    Raises
    ------
    UsageError
        Tells the nearest names.
    """
    if name in KINDS:
        return KINDS[name]
    near = difflib.get_close_matches(name, KINDS, 3, 0.4) or list(KINDS)
    raise UsageError(f"there is no map {name!r}.", hint=f"The nearest are: {', '.join(near)}.")


@dataclass(frozen=True)
class MapOverride:
    """What is otherwise for one map than for its bundle; empty and 0 are as for the bundle.

    Attributes
    ----------
    size : str
        ``512`` or ``512x256`` in px, or ``1/2`` of the sheet's.
    bits, samples : int
    format : str
    bleed : int or None
        In the map's own texels; -1 all the way, None as for the bundle.
    pattern : str
        How its file is named.
    block : str
        The block format that it is compressed into.
    toksvig : str
        ``yes`` where its smaller mip levels are as much rougher as the normals of each texel differ.
    """

    name: str
    size: str = ""
    bits: int = 0
    format: str = ""
    samples: int = 0
    bleed: int | None = None
    pattern: str = ""
    # what is delivered otherwise is baked alike
    block: str = field(default="", repr=False)
    toksvig: str = field(default="", repr=False)

    @property
    def text(self) -> str:
        """The wish as text, empty when there is none."""
        told = []
        for entry in fields(self)[1:]:
            value = getattr(self, entry.name)
            if value != entry.default:
                told.append(f"{entry.name}={'full' if value == ALL_THE_WAY else value}")
        return f"{self.name}:{','.join(told)}" if told else ""

    @property
    def compression(self) -> str:
        """What is otherwise about compressing the map, as text for digests."""
        return f"{self.block} {self.toksvig}"

    def size_on(self, width: int, height: int) -> tuple[int, int]:
        """Return the map's size on a sheet of a size, texels."""
        if not self.size:
            return width, height
        part = re.fullmatch(r"1/(\d+)", self.size)
        if part:
            return max(width // int(part[1]), LEAST), max(height // int(part[1]), LEAST)
        edges = [int(edge) for edge in self.size.lower().split("x")]
        return edges[0], edges[-1]


@lru_cache(maxsize=512)
def read_wish(text: str) -> MapOverride:
    """Read a wish.

    Raises
    ------
    UsageError
        When it makes no sense.
    """
    name, _, rest = text.partition(":")
    known_kind(name.strip())
    wish = MapOverride(name.strip())
    for part in rest.split(",") if rest.strip() else []:
        key, equals, value = (piece.strip() for piece in part.partition("="))
        if not equals or key not in _READERS:
            raise UsageError(
                f"{part.strip()!r} is not a setting of a map.",
                item=name,
                hint=f"Write key=value with a key of: {', '.join(_READERS)}.",
            )
        wish = replace(wish, **{key: _READERS[key](name, value)})
    if wish.format:
        judge_depth(wish.bits, wish.format, f"map {wish.name}")
    return wish


def judge_depth(bits: int, form: str, whose: str) -> None:
    """Refuse bits a channel that files of a format do not hold.

    Raises
    ------
    UsageError
    """
    if (bits == 32 and form != FileFormat.EXR) or (bits == 16 and FileFormat(form).shallow):
        raise UsageError(f"{bits} bits do not fit into {form}.", item=whose, hint="Write EXR, or take fewer bits.")


def _size(name: str, value: str) -> str:
    edges = re.fullmatch(r"(\d+)(?:[xX](\d+))?", value)
    if re.fullmatch(r"1/(1|2|4|8|16|32)", value):
        return "" if value == "1/1" else value
    if edges and all(LEAST <= int(edge) <= MOST for edge in edges.groups() if edge):
        return value.lower()
    raise UsageError(
        f"{value!r} is not a size of a map.",
        item=name,
        hint=f"Write {LEAST} to {MOST} px, WxH, or 1/2, 1/4 of the sheet.",
    )


def _one_of(*allowed: int) -> Callable[[str, str], int]:
    def read(name: str, value: str) -> int:
        if value not in map(str, allowed):
            raise UsageError(
                f"{value!r} is not one of {', '.join(map(str, allowed))}.", item=name, hint="Write one of these."
            )
        return int(value)

    return read


def _block(name: str, value: str) -> str:
    if value.lower() not in BLOCKS:
        raise UsageError(f"there is no block format {value!r}.", item=name, hint=f"There are: {', '.join(BLOCKS)}.")
    return value.lower()


def _toksvig(name: str, value: str) -> str:
    if value not in ("yes", "no"):
        raise UsageError(f"{value!r} is neither yes nor no.", item=name, hint="Write toksvig=yes or toksvig=no.")
    if value == "yes" and name not in ROUGH:
        raise UsageError(f"{name} holds no roughness.", item=name, hint=f"Set toksvig on {' or '.join(ROUGH)}.")
    return "yes" if value == "yes" else ""


def _format(name: str, value: str) -> str:
    if value.lower() not in tuple(FileFormat):
        raise UsageError(f"there is no format {value!r}.", item=name, hint=f"There are: {', '.join(FileFormat)}.")
    return value.lower()


def _bleed(name: str, value: str) -> int:
    if value == "full":
        return ALL_THE_WAY
    if not re.fullmatch(r"\d{1,5}", value):
        raise UsageError(f"{value!r} is not a dilation.", item=name, hint="Write full, or a number of texels.")
    return int(value)


def judge_pattern(pattern: str, hint: str = "Write it of {name}, {bundle} and {map}.") -> str:
    """Return a pattern of file names, refusing one that files cannot be named by.

    Raises
    ------
    UsageError
    """
    try:
        filled = pattern.format(name="n", bundle="b", map="m")
    except (KeyError, IndexError, ValueError, AttributeError) as error:
        raise UsageError(f"the pattern {pattern!r} cannot be filled in.", hint=hint) from error
    if "{map}" not in pattern or "/" in filled or "\\" in filled or len(pattern) > 120:
        raise UsageError(f"the pattern {pattern!r} gives several maps the same name, or names a folder.", hint=hint)
    return pattern


_READERS: dict[str, Callable[[str, str], Any]] = {
    "size": _size,
    "bits": _one_of(8, 16, 32),
    "format": _format,
    "samples": _one_of(1, 4, 16),
    "bleed": _bleed,
    "pattern": lambda name, value: judge_pattern(value),
    "block": _block,
    "toksvig": _toksvig,
}


@dataclass(frozen=True)
class Cell:
    """One channel of a packed file: a map's channel, inverted or not, or a constant where ``map`` is empty."""

    map: str = ""
    channel: int = 0
    inverted: bool = False
    value: float = 0.0

    @property
    def text(self) -> str:
        """The cell as text."""
        if not self.map:
            return f"{self.value:g}"
        letter = f".{LETTERS[self.channel]}" if self.channel else ""
        return f"{'1-' if self.inverted else ''}{self.map}{letter}"


@dataclass(frozen=True)
class ChannelFile:
    """A file whose channels are packed: red, green, blue and, when there is a fourth cell, alpha."""

    name: str
    cells: tuple[Cell, ...]

    @property
    def text(self) -> str:
        """The file as text."""
        return f"{self.name}={','.join(cell.text for cell in self.cells)}"

    @property
    def maps(self) -> tuple[str, ...]:
        """The maps that it is made of."""
        return tuple(dict.fromkeys(cell.map for cell in self.cells if cell.map))

    @property
    def color_space(self) -> ColorSpace:
        """How its colours are meant: as sRGB only when every one of them comes from such a map."""
        colors = [cell for cell in self.cells[:3] if cell.map and not is_alpha(cell)]
        others = [cell for cell in self.cells[:3] if cell.map and is_alpha(cell)]
        srgb = bool(colors) and all(KINDS[cell.map].color_space is ColorSpace.SRGB for cell in colors)
        return ColorSpace.SRGB if srgb and not others else ColorSpace.LINEAR


def is_alpha(cell: Cell) -> bool:
    """Tell whether a cell reads the fourth channel of a map, which is never sRGB."""
    return bool(cell.map) and cell.channel == 3


@lru_cache(maxsize=512)
def read_channels(text: str) -> ChannelFile:
    """Read a packed file.

    Raises
    ------
    UsageError
        When it makes no sense.
    """
    name, equals, rest = (part.strip() for part in text.partition("="))
    if not equals or not re.fullmatch(r"[A-Za-z0-9_-]{1,40}", name):
        raise UsageError(
            f"{text!r} is not a packed file.", hint="Write FILE=R,G,B,A, such as mask=occlusion,1-roughness,metallic."
        )
    cells = [part.strip() for part in rest.split(",")]
    if not 1 <= len(cells) <= 4 or not any(cells):
        raise UsageError(f"{name} has {len(cells)} channels.", item=name, hint="A file has one to four.")
    return ChannelFile(name, tuple(_cell(name, cell) for cell in cells))


def _cell(name: str, text: str) -> Cell:
    if re.fullmatch(r"\d*\.?\d+|\d+\.|", text):
        value = float(text or 0)
        if value > 1:
            raise UsageError(
                f"{text} is outside the range of a channel.", item=name, hint="Write a number from 0 to 1."
            )
        return Cell(value=value)
    inverted = text.startswith("1-")
    told, _, letter = text.removeprefix("1-").partition(".")
    kind = known_kind(told.strip())
    if letter and letter not in LETTERS[: kind.channels]:
        raise UsageError(
            f"{kind.name} has no channel {letter!r}.",
            item=name,
            hint=f"It has: {', '.join(LETTERS[: kind.channels])}.",
        )
    return Cell(kind.name, LETTERS.index(letter) if letter else 0, inverted)


#: sets of packed files by what they hold, as many engines read them
CHANNEL_SETS: dict[str, tuple[str, ...]] = {
    "Occlusion, roughness, metallic": ("orm=occlusion,roughness,metallic",),
    "Metallic, occlusion, smoothness": ("mask=metallic,occlusion,0,1-roughness",),
    "Metallic with smoothness in alpha": ("metal_smoothness=metallic,metallic,metallic,1-roughness",),
    "Colour with opacity in alpha": ("color_opacity=base_color.r,base_color.g,base_color.b,opacity",),
    "Normal with roughness in blue": ("normal_roughness=normal.r,normal.g,roughness",),
    "Roughness, metallic, occlusion in one grey each": (
        "roughness_grey=roughness,roughness,roughness",
        "metallic_grey=metallic,metallic,metallic",
        "occlusion_grey=occlusion,occlusion,occlusion",
    ),
}
