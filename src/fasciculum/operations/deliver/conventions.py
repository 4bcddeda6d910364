"""Deliveries that come along, and how a bundle's baked maps become the files of a convention."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from fasciculum.errors import UsageError
from fasciculum.io.codecs import encode_png
from fasciculum.io.names import file_name, unused_file
from fasciculum.io.pixels import PixelStore
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import Green, Packing
from fasciculum.model.delivery import BUILT_IN, PATTERN, DeliverySettings
from fasciculum.model.digests import digest_of
from fasciculum.model.document import Document
from fasciculum.model.maps import KINDS, MapKind
from fasciculum.model.scene import Image
from fasciculum.model.texturing import BakedMap
from fasciculum.units import linear_to_srgb, srgb_to_linear

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


def judge_pattern(pattern: str) -> None:
    """Refuse a pattern that textures cannot be named by.

    Raises
    ------
    UsageError
    """
    hint = f"Write it of {{name}}, {{bundle}} and {{map}}, such as {PATTERN}."
    try:
        filled = pattern.format(name="n", bundle="b", map="m")
    except (KeyError, IndexError, ValueError, AttributeError) as error:
        raise UsageError(f"the pattern {pattern!r} cannot be filled in.", hint=hint) from error
    if "{map}" not in pattern or "/" in filled or "\\" in filled or len(pattern) > 120:
        raise UsageError(f"the pattern {pattern!r} does not tell maps apart, or names a folder.", hint=hint)


@dataclass(frozen=True)
class TextureFile:
    """One texture of a delivery: its file, the map it shows, and the baked map it is made of."""

    file: str
    map: str
    baked: BakedMap
    tile: int = 0

    @property
    def width(self) -> int:
        """Texels across one tile."""
        return self.baked.width // self.baked.tiles


def tile_name(name: str, tile: int, tiles: int) -> str:
    """Return a name with the number that tiles are known by, 1001 being the first; alone it needs none."""
    return f"{name}_{1001 + tile}" if tiles > 1 else name


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
    judge_pattern(settings.pattern)
    name = delivery_name(document)
    taken: set[str] = set()
    found: dict[str, list[TextureFile]] = {}
    for bundle in bundles:
        assert bundle.texturing is not None
        files = []
        for baked in bundle.texturing.maps:
            for shown in shown_files(KINDS[baked.name], settings.packing):
                if settings.maps and shown not in settings.maps and baked.name not in settings.maps:
                    continue
                for tile in range(baked.tiles):
                    wanted = settings.pattern.format(
                        name=name,
                        bundle=file_name(bundle.name).lower(),
                        map=tile_name(shown, tile, baked.tiles),
                    )
                    files.append(TextureFile(unused_file(wanted, taken, ".png"), shown, baked, tile))
        found[bundle.name] = files
    return found


def conforms(settings: DeliverySettings) -> bool:
    """Whether the files are such as a glTF material can refer to."""
    return settings.packing == Packing.ORM and settings.green == Green.UP


def encoded_map(store: PixelStore, key: str) -> bytes:
    """Return a baked map as PNG, encoded once."""
    return _encoded(store, key, lambda: store.get(key))


def encoded_source(store: PixelStore, image: Image) -> bytes:
    """Return a source image's own file or, where it was made of others, as PNG."""
    try:
        return store.get_encoded(image.pixels)
    except KeyError:
        return encoded_map(store, image.pixels)


def _encoded(store: PixelStore, key: str, make: Callable[[], NDArray[Any]]) -> bytes:
    try:
        return store.get_encoded(f"{key}.png")
    except KeyError:
        data = encode_png(make())
        store.put_encoded(f"{key}.png", data)
        return data


def encoded_texture(store: PixelStore, texture: TextureFile, settings: DeliverySettings) -> bytes:
    """Return a texture as PNG, as the convention has it."""
    baked = texture.baked
    size = _size(texture, settings)
    bits = settings.bits or baked.bits
    down = settings.green == Green.DOWN and KINDS[baked.name].vectors
    plain = size == (baked.width, baked.height) and bits == baked.bits and not down and texture.map == baked.name
    if plain:
        return encoded_map(store, baked.pixels)
    key = digest_of(baked.pixels, texture.map, repr(size), str(bits), str(down), str(texture.tile))
    first = texture.tile * texture.width
    return _encoded(
        store,
        key,
        lambda: _converted(store.get(baked.pixels)[:, first : first + texture.width], texture, size, bits, down),
    )


def conforming(texture: TextureFile, settings: DeliverySettings) -> tuple[TextureFile, DeliverySettings]:
    """Return the texture as a glTF material needs it: packed, with green up."""
    return TextureFile(texture.file, texture.baked.name, texture.baked, texture.tile), replace(
        settings, green=Green.UP, packing=Packing.ORM
    )


def _size(texture: TextureFile, settings: DeliverySettings) -> tuple[int, int]:
    width, height = texture.width, texture.baked.height
    if not settings.power_of_two:
        return width, height
    return 1 << (width - 1).bit_length(), 1 << (height - 1).bit_length()


def _converted(
    pixels: NDArray[Any], texture: TextureFile, size: tuple[int, int], bits: int, down: bool
) -> NDArray[Any]:
    baked = texture.baked
    found = np.ascontiguousarray(pixels)
    if size != (texture.width, baked.height):
        found = _resized(found, size, baked)
    parts = KINDS[baked.name].parts
    if texture.map in parts:
        found = found[..., parts.index(texture.map), None]
    elif texture.map == METAL_SMOOTHNESS:
        top = np.iinfo(found.dtype).max
        metallic, roughness = (found[..., parts.index(name)] for name in ("metallic", "roughness"))
        found = np.dstack([metallic, metallic, metallic, top - roughness])
    if down:
        found = found.copy()
        found[..., 1] = np.iinfo(found.dtype).max - found[..., 1]
    if bits == 16 and found.dtype == np.uint8:
        return found.astype(np.uint16) * 257
    if bits == 8 and found.dtype == np.uint16:
        return ((found.astype(np.uint32) * 255 + 32767) // 65535).astype(np.uint8)
    return found


def _resized(pixels: NDArray[Any], size: tuple[int, int], baked: BakedMap) -> NDArray[Any]:
    """Return pixels at another size: colours blended in linear light, normals at length 1."""
    top = np.iinfo(pixels.dtype).max
    values = pixels.astype(np.float32) / np.float32(top)
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
