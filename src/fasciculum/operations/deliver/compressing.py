"""A delivery's textures with their own mip levels, in blocks, and as files that hold both; each is made once.

What was made is kept in the pixel store under a digest of all that it was made from, so that checking and delivering
share it.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from fasciculum.compression.blocks import PLAIN, BlockFormat, candidates, named
from fasciculum.compression.choosing import Encoded, encode_map, rounded
from fasciculum.compression.containers import dds_file, ktx2_file
from fasciculum.compression.levels import Level, Meaning, blocks_clean_down_to, mip_levels, rougher
from fasciculum.errors import UsageError
from fasciculum.io.codecs import encode_png
from fasciculum.io.pixels import PixelStore
from fasciculum.model.bake_settings import BakeSettings
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import AlphaMode, ColorSpace, Compression, TextureFormat
from fasciculum.model.delivery import DeliverySettings
from fasciculum.model.digests import digest_of, digest_text
from fasciculum.model.layout import Layout
from fasciculum.model.map_overrides import read_wish
from fasciculum.model.maps import BASE_COLOR, KINDS, NORMAL, OPACITY, ORM, ROUGHNESS
from fasciculum.model.texturing import CompressedMap
from fasciculum.operations.deliver.conventions import TextureFile, encoded_texture, texture_pixels
from fasciculum.operations.lay_out.lay_out import claimed, island_labels
from fasciculum.progress import SILENT, Progress
from fasciculum.threads import in_pieces

#: changes when the same input comes out otherwise
VERSION = "5"
#: the block by which cleanness is counted while nothing is compressed
BLOCK = (4, 4)


@dataclass(frozen=True, eq=False)
class Made:
    """A texture's file, and how it came out."""

    file: bytes
    figures: CompressedMap


def judge_files(settings: DeliverySettings, bake: BakeSettings | None = None) -> None:
    """Refuse files that cannot hold the blocks that are asked for, of all maps or of single ones.

    Raises
    ------
    UsageError
    """
    for text in bake.wishes if bake is not None and settings.compress is not Compression.NONE else ():
        wish = read_wish(text)
        if wish.block and settings.container is TextureFormat.DDS and not named(wish.block, 4, floats=False).dxgi[0]:
            raise UsageError(
                f"DDS files hold no {wish.block.upper()} blocks.",
                item=f"map {wish.name}",
                hint="Write KTX2 (--texture-files ktx2), or choose a BC format.",
            )
    if settings.container is TextureFormat.DDS and settings.compress in (Compression.ASTC, Compression.ETC2):
        raise UsageError(
            f"DDS files hold no {settings.compress.upper()} blocks.", hint="Write KTX2, or compress into BC."
        )


def owners_on(layout: Layout, width: int, height: int, tile: int) -> NDArray[np.int32]:
    """Return which place covers each texel of a map on one tile, -1 for none, shape (height, width).

    A slice of a texture array is covered all over.
    """
    if tile >= layout.own_tiles:
        return np.zeros((height, width), np.int32)
    layout = layout.before_slices()
    owners = claimed(layout, island_labels(layout), width * layout.own_tiles, height)
    return np.ascontiguousarray(owners[:, tile * width : (tile + 1) * width])


class Compressor:
    """Makes the texture files of one bundle.

    Parameters
    ----------
    bundle : Bundle
        With a layout and maps.
    settings : DeliverySettings
    store : PixelStore
    """

    def __init__(self, bundle: Bundle, settings: DeliverySettings, store: PixelStore) -> None:
        judge_files(settings, bundle.bake)
        self.bundle, self.settings, self.store = bundle, settings, store
        self._owners: dict[tuple[int, int, int, int], NDArray[np.int32]] = {}

    def made(self, texture: TextureFile, progress: Progress = SILENT) -> Made:
        """Return a texture in its container, and how it came out.

        Raises
        ------
        UnsupportedInput
            When a library is missing.
        Cancelled
        """
        key = self._key(texture)
        try:
            figures = msgspec.json.decode(self.store.get_encoded(f"{key}.figures"), type=CompressedMap)
            if all(map(self.store.has, figures.pixels)):
                return Made(self.store.get_encoded(f"{key}.file"), figures)
        except KeyError:
            pass
        made = self._make(texture, progress)
        self.store.put_encoded(f"{key}.file", made.file)
        self.store.put_encoded(f"{key}.figures", msgspec.json.encode(made.figures))
        return made

    def level_file(self, texture: TextureFile) -> bytes:
        """Return one mip level of a texture as PNG."""
        whole = self._key(replace(texture, level=0))
        wanted = f"{whole}.level{texture.level}"
        try:
            return self.store.get_encoded(wanted)
        except KeyError:
            # the others are asked for next
            for number, level in enumerate(self.levels(texture)):
                if number:
                    self.store.put_encoded(f"{whole}.level{number}", encode_png(level.texels))
            return self.store.get_encoded(wanted)

    def meaning(self, texture: TextureFile) -> Meaning:
        """Return what a texture's texels mean."""
        bundle, baked = self.bundle, texture.baked
        if texture.packed is not None:
            return Meaning(srgb=baked.color_space is ColorSpace.SRGB)
        kind = KINDS[baked.name]
        whole = texture.map == baked.name
        wish = bundle.bake.wish(baked.name)
        cut = bundle.alpha_mode == AlphaMode.MASK
        opacity = {BASE_COLOR.name: 3, OPACITY.name: 0}.get(baked.name, -1) if cut else -1
        srgb = (baked.color_space if texture.light is None else texture.light.color_space) is ColorSpace.SRGB
        return Meaning(
            srgb=srgb and whole and not texture.floats,
            vectors=kind.vectors and whole,
            opacity=opacity if opacity < baked.channels else -1,
            cutoff=bundle.texturing.alpha_cutoff if bundle.texturing is not None else 0.5,
            bleed=wish.bleed,
        )

    def forms(self, texture: TextureFile, channels: int) -> tuple[BlockFormat, ...]:
        """Return the block formats to try for a texture, the smallest first."""
        baked, family = texture.baked, self.settings.compress
        if texture.packed is None:
            block = self.bundle.bake.wish(baked.name).block
            if block and family is not Compression.NONE:
                return (named(block, channels, floats=texture.floats),)
            if KINDS[baked.name].identity is not None:
                # colours that stand for names are what they are, or useless
                return (PLAIN,)
        vectors = texture.packed is None and self.meaning(texture).vectors and channels == 3
        return candidates(family, channels, vectors=vectors, floats=texture.floats)

    def owners(self, texture: TextureFile, width: int, height: int) -> NDArray[np.int32]:
        """Return which place covers each texel of a texture, -1 for none."""
        made = self.bundle.texturing
        lit = made.light_layout if made is not None and texture.baked.tex_coord else None
        layout = lit or self.bundle.layout
        assert layout is not None
        key = id(layout), width, height, texture.tile
        if key not in self._owners:
            self._owners[key] = owners_on(layout, width, height, texture.tile)
        return self._owners[key]

    def levels(self, texture: TextureFile, *, count: int = 0, progress: Progress = SILENT) -> Iterator[Level]:
        """Yield the mip levels of a texture, the largest first; all down to 1 x 1 without a count."""
        pixels = np.ascontiguousarray(texture_pixels(self.store, texture, self.settings))
        owners = self.owners(texture, pixels.shape[1], pixels.shape[0])
        levels = mip_levels(pixels, owners, self.meaning(texture), count=count, progress=progress)
        channel = {ORM.name: 1, ROUGHNESS.name: 0}.get(texture.map, -1) if texture.packed is None else -1
        if channel < 0 or not self.bundle.bake.wish(texture.baked.name).toksvig:
            yield from levels
            return
        lengths = self._lengths(texture, count)
        for level in levels:
            yield _rougher_level(level, channel, lengths.get(level.texels.shape[:2]))

    def _lengths(self, texture: TextureFile, count: int) -> dict[tuple[int, ...], NDArray[np.float32]]:
        """Return how long the mean normals of each level are, by the level's shape."""
        made = self.bundle.texturing
        baked = made.map(NORMAL.name) if made is not None else None
        if baked is None:
            return {}
        normals = self.levels(TextureFile("", NORMAL.name, baked, texture.tile), count=count)
        return {level.texels.shape[:2]: level.lengths for level in normals if level.lengths is not None}

    def _key(self, texture: TextureFile) -> str:
        bundle, settings = self.bundle, self.settings
        baked, made = texture.baked, bundle.texturing
        layout = made.light_layout if made is not None and baked.tex_coord else bundle.layout
        assert layout is not None
        names = texture.packed.maps if texture.packed is not None else (baked.name,)
        wishes = [bundle.bake.wish(name) for name in names]
        normal = made.map(NORMAL.name) if made is not None and any(wish.toksvig for wish in wishes) else None
        told = (settings.compress, settings.quality, settings.container, settings.has_levels, settings.zstd)
        return digest_of(
            VERSION,
            digest_text((*told, settings.green, settings.bits, settings.power_of_two)),
            baked.pixels,
            *(part.pixels for part in texture.parts),
            digest_text(texture.constants),
            digest_text(texture.light),
            texture.packed.text if texture.packed is not None else "",
            f"{texture.map} {texture.tile} {texture.contained} {texture.floats}",
            " ".join(wish.compression for wish in wishes),
            digest_text(self.meaning(texture)),
            normal.pixels if normal is not None else "",
            layout.made_from,
            layout.placements,
        )

    def _make(self, texture: TextureFile, progress: Progress) -> Made:
        settings = self.settings
        count = 0 if settings.has_levels else 1
        levels = list(self.levels(texture, count=count, progress=progress.part(0.0, 0.2)))
        height, width, channels = levels[0].texels.shape
        meaning, forms = self.meaning(texture), self.forms(texture, channels)
        encoded = encode_map(levels, forms, meaning, settings.quality, progress=progress.part(0.2, 1.0))
        form = encoded.form
        srgb = meaning.srgb
        if settings.container is TextureFormat.KTX2:
            file = ktx2_file(encoded.levels, form, width, height, srgb=srgb, zstd=settings.zstd)
        elif settings.container is TextureFormat.DDS:
            alpha = channels == 4 and form.channels == 4
            file = dds_file(encoded.levels, form, width, height, srgb=srgb, alpha=alpha)
        else:
            file = b""
        # a PNG is written elsewhere, and is the same whoever asks for it
        size = len(file) if file else len(encoded_texture(self.store, texture, settings))
        edges = form.edges if form.is_block else BLOCK
        clean = blocks_clean_down_to(self.owners(texture, width, height), edges)
        return Made(file, self._figures(texture, encoded, (width, height), size, clean))

    def _figures(
        self, texture: TextureFile, encoded: Encoded, size: tuple[int, int], file_bytes: int, clean: int
    ) -> CompressedMap:
        first = rounded(encoded.qualities[0])
        return CompressedMap(
            texture.map,
            texture.tile,
            encoded.form.name,
            *size,
            levels=len(encoded.levels),
            bytes=sum(map(len, encoded.levels)),
            file_bytes=file_bytes,
            blocks_down_to=clean,
            clean_down_to=clean,
            db=tuple(rounded(one).db for one in encoded.qualities),
            angle=first.angle,
            worst=first.worst,
            kept=first.kept,
            enough=encoded.enough,
            below=encoded.below,
            pixels=tuple(self.store.put(level) for level in encoded.decoded),
        )


def encoded_files(
    textures: Sequence[tuple[Bundle, TextureFile]],
    settings: DeliverySettings,
    store: PixelStore,
    progress: Progress = SILENT,
) -> dict[str, bytes]:
    """Return texture files by their names, in order; each comes with the bundle that it is of.

    Raises
    ------
    UsageError
        When the files cannot hold the blocks that are asked for.
    UnsupportedInput
        When a library is missing.
    """
    judge_files(settings)
    results: dict[str, bytes] = {}
    special = [(bundle, texture) for bundle, texture in textures if texture.contained or texture.level]
    plain = [texture for _, texture in textures if not texture.contained and not texture.level]
    compressors: dict[str, Compressor] = {}
    first = progress.part(0.0, 0.6 if special else 0.0)
    for number, (bundle, texture) in enumerate(special):
        part = first.part(number / len(special), (number + 1) / len(special))
        if bundle.name not in compressors:
            compressors[bundle.name] = Compressor(bundle, settings, store)
        compressor = compressors[bundle.name]
        results[texture.file] = (
            compressor.made(texture, part).file if texture.contained else compressor.level_file(texture)
        )
        part.check()

    def encode(texture: TextureFile) -> None:
        results[texture.file] = encoded_texture(store, texture, settings)

    in_pieces(encode, plain, words="Encoding textures", progress=progress.part(0.6 if special else 0.0, 1.0))
    return {texture.file: results[texture.file] for _, texture in textures}


def _rougher_level(level: Level, channel: int, lengths: NDArray[np.float32] | None) -> Level:
    """Return a level whose roughness has in it how much its normals differ."""
    if lengths is None or float(lengths.min(initial=1.0)) >= 1.0:
        return level
    stored = level.texels.copy()
    top: Any = 1.0 if stored.dtype.kind == "f" else np.iinfo(stored.dtype).max
    # beside islands there are no normals to differ
    length = np.where(level.weights > 0, lengths, 1.0)
    rough = rougher(stored[..., channel].astype(np.float32) / np.float32(top), length.astype(np.float32))
    stored[..., channel] = rough if stored.dtype.kind == "f" else np.round(rough * top)
    return replace(level, texels=stored)
