"""Deliveries that come along, and how a bundle's baked maps become the files of a convention."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from fasciculum.compression.blocks import level_sizes
from fasciculum.errors import UsageError
from fasciculum.io.codecs import codec_of, encode_exr, encode_png, encode_tga, encode_webp
from fasciculum.io.formats.table import WRITTEN_FORMATS
from fasciculum.io.names import file_name, unused_file
from fasciculum.io.pixels import PixelStore
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import ColorSpace, Compression, Fallback, FileFormat, Green, Mips, Packing, TextureFormat
from fasciculum.model.delivery import BUILT_IN, PATTERN, DeliverySettings
from fasciculum.model.digests import digest_of, digest_text
from fasciculum.model.document import Document
from fasciculum.model.map_overrides import Cell, ChannelFile, is_alpha, judge_pattern
from fasciculum.model.maps import KINDS, MapKind
from fasciculum.model.scene import Image
from fasciculum.model.texturing import BakedMap, MapConstant
from fasciculum.operations.bake.given import given_bytes
from fasciculum.operations.deliver.lights import Stored, stored_light, stored_pixels
from fasciculum.units import eight_bits, linear_to_srgb, srgb_to_linear

#: a file of metallic as colour with smoothness as its alpha
METAL_SMOOTHNESS = "metal_smoothness"


def shown_files(kind: MapKind, packing: Packing) -> tuple[str, ...]:
    """Return what the files show that a packing makes of a map: the map itself, or channels of it."""
    if not kind.parts or packing == Packing.ORM:
        return (kind.name,)
    return kind.parts if packing == Packing.APART else (METAL_SMOOTHNESS, "occlusion")


def find_delivery(name: str, more: Sequence[DeliverySettings] = ()) -> DeliverySettings:
    """Return the delivery of that title, in whichever letters and with dashes for spaces.

    Raises
    ------
    UsageError
        When there is none.
    """

    def plain(title: str) -> str:
        return "-".join("".join(letter if letter.isalnum() else " " for letter in title.lower()).split())

    every = [*more, *BUILT_IN]
    for settings in every:
        if plain(settings.title) == plain(name):
            return settings
    raise UsageError(
        f"there is no delivery {name!r}.",
        hint=f"There are: {', '.join(dict.fromkeys(plain(settings.title) for settings in every))}.",
    )


@dataclass(frozen=True)
class TextureFile:
    """One texture of a delivery: its file, what it shows, and the baked map it is made of.

    A file packed of channels has ``packed``, and the maps it is made of as ``parts``; its ``baked`` says no more than
    its size and depth.
    """

    file: str
    map: str
    baked: BakedMap
    tile: int = 0
    packed: ChannelFile | None = None
    parts: tuple[BakedMap, ...] = ()
    constants: tuple[MapConstant, ...] = ()
    #: how it is stored, of a map of light
    light: Stored | None = None
    #: the mip level that it holds alone
    level: int = 0
    #: whether it only stands in for another file, where a program cannot read that one
    fallback: bool = False

    @property
    def floats(self) -> bool:
        """Whether the file holds floats."""
        return self.file.endswith(".exr") or (self.light is not None and self.contained)

    @property
    def contained(self) -> bool:
        """Whether the file is of a kind that graphics cards read as it is."""
        return self.file.endswith((f".{TextureFormat.DDS}", f".{TextureFormat.KTX2}"))

    @property
    def width(self) -> int:
        """Texels across one tile."""
        return self.baked.width // self.baked.tiles


def tile_name(name: str, tile: int, tiles: int, slices: int = 0) -> str:
    """Return a name with the number that a tile is known by, 1001 being the first; alone it needs none.

    The last tiles may be ``slices`` of a texture array, which are counted from 000.
    """
    own = tiles - slices
    if tile >= own:
        return f"{name}_{tile - own:03d}"
    return f"{name}_{1001 + tile}" if own > 1 else name


def delivery_name(document: Document) -> str:
    """Return what every file's name begins with."""
    return file_name(document.delivery.name or document.name)


def texture_files(document: Document, bundles: Sequence[Bundle]) -> dict[str, list[TextureFile]]:
    """Return the textures that are written for each bundle, by the bundle's name.

    Raises
    ------
    UsageError
        When the pattern makes no sense.
    """
    settings = document.delivery
    judge_pattern(settings.pattern, f"Write it of {{name}}, {{bundle}} and {{map}}, such as {PATTERN}.")
    name = delivery_name(document)
    names = _Names(name)
    results: dict[str, list[TextureFile]] = {}
    for bundle in bundles:
        made = bundle.texturing
        assert made is not None
        files = results[bundle.name] = []
        slices = bundle.layout.slices if bundle.layout is not None else 0
        for baked in made.maps:
            if baked.name in made.unwritten:
                continue
            if baked.source:
                files.append(TextureFile(names.given(baked), baked.name, baked))
                continue
            pattern = bundle.bake.wish(baked.name).pattern or settings.pattern
            for shown in shown_files(KINDS[baked.name], settings.packing):
                if settings.maps and shown not in settings.maps and baked.name not in settings.maps:
                    continue
                stored = stored_light(bundle, baked)
                for tile in range(baked.tiles):
                    name_of = tile_name(shown, tile, baked.tiles, slices)
                    # light is written both as whole numbers, which anything reads, and as floats
                    for suffix in (baked.format,) if stored is None else (FileFormat.PNG, FileFormat.EXR):
                        file = names.made(bundle, pattern, name_of, f".{suffix}")
                        files.append(TextureFile(file, shown, baked, tile, light=stored))
        files += _packed_files(bundle, names)
        results[bundle.name] = [one for file in files for one in _contained(file, settings)]
    return results


def _contained(texture: TextureFile, settings: DeliverySettings) -> Iterator[TextureFile]:
    """Yield the files that a texture is written as: a container, with a PNG where models need one, or its levels."""
    container = settings.container
    light = texture.light is not None
    floats = texture.file.endswith(".exr")
    plain = texture.baked.source or texture.file.endswith((".tga", ".webp"))
    # floats are compressed by BC alone, and light goes beside its floats as whole numbers
    kept = plain or (floats and settings.compress in (Compression.ASTC, Compression.ETC2)) or (light and not floats)
    if container is TextureFormat.PNG or kept:
        yield texture
        if settings.mips is Mips.FILES and not floats and not plain:
            stem, _, suffix = texture.file.rpartition(".")
            sizes = level_sizes(texture.width, texture.baked.height)
            for level in range(1, len(sizes)):
                yield replace(texture, file=f"{stem}_mip{level}.{suffix}", level=level)
        return
    stem = texture.file.rpartition(".")[0]
    yield replace(texture, file=f"{stem}.{container}")
    refers = settings.external_textures or any(
        entry.refers for entry in WRITTEN_FORMATS if entry.name in settings.models
    )
    if refers and not light and (settings.fallback is Fallback.YES or container is TextureFormat.KTX2):
        yield replace(texture, file=f"{stem}.{FileFormat.PNG}", fallback=True)


def _packed_files(bundle: Bundle, names: _Names) -> Iterator[TextureFile]:
    """Yield the files of a bundle that are packed of channels."""
    made, layout = bundle.texturing, bundle.layout
    if made is None or layout is None:
        return
    for packed in bundle.bake.packed:
        parts = tuple(part for part_name in packed.maps if (part := made.map(part_name)) is not None)
        constants = tuple(one for part_name in packed.maps if (one := made.constant(part_name)) is not None)
        if len(parts) + len(constants) < len(packed.maps):
            continue
        bits = 16 if any(part.bits > 8 for part in parts) else 8
        count = 4 if len(packed.cells) == 4 else 3
        whole = BakedMap(packed.name, "", layout.across, layout.height, bits, packed.color_space, count)
        whole = replace(whole, tiles=layout.tiles)
        for tile in range(layout.tiles):
            file = names.made(bundle, PATTERN, tile_name(packed.name, tile, layout.tiles, layout.slices), ".png")
            yield TextureFile(file, packed.name, whole, tile, packed, parts, constants)


class _Names:
    """Names of files, each once."""

    def __init__(self, name: str) -> None:
        self._name = name
        self._taken: set[str] = set()
        self._given: dict[tuple[str, str], str] = {}

    def given(self, baked: BakedMap) -> str:
        """Return the name of a texture that is delivered as it is: its own, and once for all bundles that read it."""
        key = baked.source, baked.source_digest
        if key not in self._given:
            place = Path(baked.source)
            self._given[key] = unused_file(place.stem, self._taken, place.suffix)
        return self._given[key]

    def made(self, bundle: Bundle, pattern: str, shown: str, suffix: str) -> str:
        """Return the name of a texture of a bundle by a pattern."""
        wanted = pattern.format(name=self._name, bundle=file_name(bundle.name).lower(), map=shown)
        return unused_file(wanted, self._taken, suffix)


def conforms(settings: DeliverySettings) -> bool:
    """Whether the files are such as a glTF material can refer to."""
    return settings.packing == Packing.ORM and settings.green == Green.UP


ENCODERS: dict[str, Callable[[NDArray[Any]], bytes]] = {
    FileFormat.PNG: encode_png,
    FileFormat.WEBP: encode_webp,
    FileFormat.TGA: encode_tga,
    FileFormat.EXR: encode_exr,
}


def encoded_map(store: PixelStore, key: str) -> bytes:
    """Return a baked map as PNG, or as EXR where it holds floats, encoded once."""
    pixels = store.get(key)
    return _encoded(store, key, "exr" if pixels.dtype.kind == "f" else "png", lambda: pixels)


def encoded_source(store: PixelStore, image: Image) -> bytes:
    """Return a source image's own file or, where it was made of others or models cannot hold such a file, as PNG."""
    try:
        data = store.get_encoded(image.pixels)
    except KeyError:
        return encoded_map(store, image.pixels)
    codec = codec_of(data)
    return data if codec is not None and codec.portable else encoded_map(store, image.pixels)


def _encoded(store: PixelStore, key: str, suffix: str, make: Callable[[], NDArray[Any]]) -> bytes:
    """Return an image as a file of a kind, encoded once."""
    try:
        return store.get_encoded(f"{key}.{suffix}")
    except KeyError:
        data = ENCODERS[suffix](make())
        store.put_encoded(f"{key}.{suffix}", data)
        return data


def texture_pixels(store: PixelStore, texture: TextureFile, settings: DeliverySettings) -> NDArray[Any]:
    """Return what a file of a texture stores, as the convention has it, shape (H, W, C)."""
    if texture.packed is not None:
        return packed_channels(store, texture)
    first = texture.tile * texture.width
    pixels = store.get(texture.baked.pixels)[:, first : first + texture.width]
    if texture.light is not None:
        return stored_pixels(pixels, texture.light, floats=texture.floats)
    size, bits, down = _form(texture, settings)
    return _converted(pixels, texture, size, bits, down)


def _form(texture: TextureFile, settings: DeliverySettings) -> tuple[tuple[int, int], int, bool]:
    """Return the size of a texture's file, its bits a channel, and whether green points down in it."""
    baked = texture.baked
    bits = min(settings.bits or baked.bits, 16)
    if baked.format == FileFormat.EXR:
        bits = baked.bits
    elif FileFormat(baked.format).shallow:
        bits = 8
    return _size(texture, settings), bits, settings.green == Green.DOWN and KINDS[baked.name].vectors


def encoded_texture(store: PixelStore, texture: TextureFile, settings: DeliverySettings) -> bytes:
    """Return a texture as a file, as the convention has it; a given one as it came."""
    if texture.baked.source:
        return given_bytes(texture.baked.source, texture.baked.source_digest)
    if texture.packed is not None:
        made_of = (*(part.pixels for part in texture.parts), digest_text(texture.constants), digest_text(texture.baked))
        key = digest_of(texture.packed.text, str(texture.tile), *made_of)
        return _encoded(store, key, "png", lambda: packed_channels(store, texture))
    if texture.light is not None:
        return _encoded_light(store, texture, texture.light, floats=texture.floats)
    baked = texture.baked
    if texture.fallback and texture.baked.format != FileFormat.PNG:
        return embedded_texture(store, texture, settings)
    size, bits, down = _form(texture, settings)
    plain = size == (baked.width, baked.height) and bits == baked.bits and not down and texture.map == baked.name
    suffix = str(baked.format)
    if plain and suffix == FileFormat.PNG:
        return encoded_map(store, baked.pixels)
    key = digest_of(baked.pixels, texture.map, digest_text(size), str(bits), str(down), str(texture.tile))
    first = texture.tile * texture.width
    return _encoded(
        store,
        key,
        suffix,
        lambda: _converted(store.get(baked.pixels)[:, first : first + texture.width], texture, size, bits, down),
    )


def _encoded_light(store: PixelStore, texture: TextureFile, stored: Stored, *, floats: bool) -> bytes:
    """Return a map of light as a file."""
    baked, suffix = texture.baked, FileFormat.EXR if floats else FileFormat.PNG
    key = digest_of(baked.pixels, digest_text(stored), str(texture.tile), suffix)
    first = texture.tile * texture.width

    def made() -> NDArray[Any]:
        return stored_pixels(store.get(baked.pixels)[:, first : first + texture.width], stored, floats=floats)

    return _encoded(store, key, suffix, made)


def embedded_texture(store: PixelStore, texture: TextureFile, settings: DeliverySettings) -> bytes:
    """Return a texture as a model holds it: PNG, with floats encoded as 8 bits."""
    baked = texture.baked
    if texture.light is not None:
        return _encoded_light(store, texture, texture.light, floats=False)
    if baked.format in (FileFormat.PNG, FileFormat.WEBP):
        return encoded_texture(store, texture, settings)

    def made() -> NDArray[Any]:
        first = texture.tile * texture.width
        pixels = np.asarray(store.get(baked.pixels)[:, first : first + texture.width])
        if pixels.dtype.kind == "u":
            return pixels
        # brighter than 1 is the material's strength
        light = np.clip(pixels / baked.strength if KINDS[baked.name].scaled else pixels, 0, 1)
        if KINDS[baked.name].color_space is ColorSpace.SRGB:
            light = np.concatenate([linear_to_srgb(light[..., :3]), light[..., 3:]], axis=2)
        whole: NDArray[Any] = np.round(light * 255).astype(np.uint8)
        return whole

    return _encoded(store, digest_of(baked.pixels, str(texture.tile), "held"), "png", made)


def packed_channels(store: PixelStore, texture: TextureFile) -> NDArray[Any]:
    """Put a file together whose channels come from several maps, shape (H, W, 3 or 4).

    Maps of another size are brought to the sheet's. A linear file holds linear light where a map is sRGB.
    """
    packed, baked = texture.packed, texture.baked
    assert packed is not None
    top = (1 << baked.bits) - 1
    result = np.zeros((baked.height, texture.width, baked.channels), np.uint8 if baked.bits == 8 else np.uint16)
    for channel, cell in enumerate(packed.cells):
        if cell.map:
            shades = _shades(store, texture, cell)
            whole = (
                shades if shades.dtype == result.dtype else np.round(np.clip(shades, 0, 1) * top).astype(result.dtype)
            )
            result[..., channel] = top - whole if cell.inverted else whole
        else:
            result[..., channel] = round(cell.value * top)
    return result


def _shades(store: PixelStore, texture: TextureFile, cell: Cell) -> NDArray[Any]:
    """Return what a cell's channel holds before it is inverted, (H, W) or one value.

    As the file stores it where the map stores the same, else floats of 0 to 1 in the file's colour space.
    """
    baked = texture.baked
    srgb = baked.color_space is ColorSpace.SRGB
    light = KINDS[cell.map].color_space is ColorSpace.SRGB and not is_alpha(cell)
    constant = next((one for one in texture.constants if one.name == cell.map), None)
    if constant is not None:
        level = np.array((*constant.values, 1.0)[min(cell.channel, len(constant.values))])
        return linear_to_srgb(level) if light and srgb else level
    part = next(part for part in texture.parts if part.name == cell.map)
    own = part.width // part.tiles
    stored = np.asarray(store.get(part.pixels)[:, texture.tile * own : (texture.tile + 1) * own])
    if cell.channel >= stored.shape[2]:
        # an opaque map has no fourth channel
        return np.array(1.0)
    if (own, part.height) != (texture.width, baked.height):
        stored = _resized(stored, (texture.width, baked.height), part)
    shades: NDArray[Any] = stored[..., cell.channel]
    if shades.dtype.kind == "f":
        return linear_to_srgb(shades) if light and srgb else shades
    if shades.dtype.itemsize * 8 == baked.bits and (not light or srgb):
        return shades
    levels: NDArray[Any] = shades / np.iinfo(shades.dtype).max
    return srgb_to_linear(levels) if light and not srgb else levels


def conforming(texture: TextureFile, settings: DeliverySettings) -> tuple[TextureFile, DeliverySettings]:
    """Return the texture as a glTF material needs it: packed, with green up."""
    return replace(texture, map=texture.baked.name), replace(settings, green=Green.UP, packing=Packing.ORM)


def _size(texture: TextureFile, settings: DeliverySettings) -> tuple[int, int]:
    width, height = texture.width, texture.baked.height
    if not settings.power_of_two:
        return width, height
    return 1 << (width - 1).bit_length(), 1 << (height - 1).bit_length()


def _converted(
    pixels: NDArray[Any], texture: TextureFile, size: tuple[int, int], bits: int, down: bool
) -> NDArray[Any]:
    baked = texture.baked
    result = np.ascontiguousarray(pixels)
    if baked.format == FileFormat.EXR:
        if size != (texture.width, baked.height):
            result = np.asarray(cv2.resize(result, size, interpolation=cv2.INTER_CUBIC)).reshape(size[1], size[0], -1)
        if texture.map in KINDS[baked.name].parts:
            result = result[..., KINDS[baked.name].parts.index(texture.map), None]
        if down:
            result = result.copy()
            result[..., 1] = 1 - result[..., 1]
        return result.astype(np.float16 if bits == 16 else np.float32)
    if size != (texture.width, baked.height):
        result = _resized(result, size, baked)
    parts = KINDS[baked.name].parts
    if texture.map in parts:
        result = result[..., parts.index(texture.map), None]
    elif texture.map == METAL_SMOOTHNESS:
        top = np.iinfo(result.dtype).max
        metallic, roughness = (result[..., parts.index(name)] for name in ("metallic", "roughness"))
        result = np.dstack([metallic, metallic, metallic, top - roughness])
    if down:
        result = result.copy()
        result[..., 1] = np.iinfo(result.dtype).max - result[..., 1]
    if bits == 16 and result.dtype == np.uint8:
        return result.astype(np.uint16) * 257
    if bits == 8 and result.dtype == np.uint16:
        return eight_bits(result)
    return result


def _resized(pixels: NDArray[Any], size: tuple[int, int], baked: BakedMap) -> NDArray[Any]:
    """Return pixels at another size: colours blended in linear light, normals at length 1."""
    top = 1 if pixels.dtype.kind == "f" else np.iinfo(pixels.dtype).max
    values = pixels.astype(np.float32) / np.float32(top)
    if pixels.dtype.kind == "f":
        floats: NDArray[Any] = np.asarray(cv2.resize(values, size, interpolation=cv2.INTER_CUBIC), np.float32)
        return floats.reshape(size[1], size[0], pixels.shape[2])
    if baked.color_space == "srgb":
        values[..., :3] = srgb_to_linear(values[..., :3])
    scaled = np.clip(np.asarray(cv2.resize(values, size, interpolation=cv2.INTER_CUBIC), np.float32), 0, 1)
    scaled = scaled.reshape(size[1], size[0], -1)
    if baked.color_space == "srgb":
        scaled[..., :3] = linear_to_srgb(scaled[..., :3])
    if KINDS[baked.name].vectors:
        vectors = scaled[..., :3] * 2 - 1
        length = np.linalg.norm(vectors, axis=-1, keepdims=True)
        scaled[..., :3] = vectors / np.maximum(length, 1e-6) * 0.5 + 0.5
    return np.round(scaled * top).astype(pixels.dtype)
