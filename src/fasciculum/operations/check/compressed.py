"""A bundle's textures as an engine will show them, for checks and for the window."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.io.pixels import PixelStore
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import Green, Packing, TextureFormat
from fasciculum.model.delivery import DeliverySettings
from fasciculum.model.document import Document
from fasciculum.model.maps import KINDS
from fasciculum.model.scene import Scene
from fasciculum.model.texturing import BakedMap, CompressedMap
from fasciculum.operations.deliver.compressing import Compressor
from fasciculum.operations.deliver.conventions import TextureFile, texture_files
from fasciculum.progress import SILENT, Progress


def compressed_files(scene: Scene, bundle: Bundle, delivery: DeliverySettings) -> list[TextureFile]:
    """Return the textures of a bundle that a delivery compresses; as PNGs, those that engines will compress."""
    document = Document(name="sheet", scene=scene, bundles=(bundle,), delivery=delivery)
    files = texture_files(document, [bundle])[bundle.name]
    if delivery.container is not TextureFormat.PNG:
        return [texture for texture in files if texture.contained]
    whole = [texture for texture in files if not texture.level and not texture.baked.source]
    return [texture for texture in whole if texture.light is None and not texture.floats]


def compress_bundle(
    scene: Scene, bundle: Bundle, delivery: DeliverySettings, store: PixelStore, *, progress: Progress = SILENT
) -> tuple[CompressedMap, ...]:
    """Compress the textures of a bundle, and return how each came through.

    Raises
    ------
    UnsupportedInput
        When a library is missing.
    UsageError
        When the files cannot hold the blocks.
    """
    files = compressed_files(scene, bundle, delivery)
    results = []
    compressor = Compressor(bundle, delivery, store)
    for number, texture in enumerate(files):
        part = progress.part(number / len(files), (number + 1) / len(files))
        part.update(0.0, f"Compressing {texture.map} of {bundle.name}")
        results.append(compressor.made(texture, part).figures)
    return tuple(results)


def decoded_maps(
    maps: Sequence[BakedMap],
    compressed: Sequence[CompressedMap],
    delivery: DeliverySettings,
    store: PixelStore,
    level: int = 0,
) -> dict[str, NDArray[Any]]:
    """Return a level of maps as an engine reads it, by name, as they were baked: tiles side by side, green up.

    Maps whose files hold several of them, or were brought to another size, are left out.
    """
    results: dict[str, NDArray[Any]] = {}
    for baked in maps:
        kind = KINDS[baked.name]
        parts = kind.parts if kind.parts and delivery.packing is Packing.APART else (kind.name,)
        tiles = []
        for tile in range(baked.tiles):
            known = {one.name: one for one in compressed if one.tile == tile}
            keys = [known[name].pixels[level : level + 1] for name in parts if name in known]
            if len(keys) < len(parts) or not all(one and store.has(one[0]) for one in keys):
                break
            if (known[parts[0]].width * baked.tiles, known[parts[0]].height) != (baked.width, baked.height):
                break
            tiles.append(np.concatenate([store.get(one[0]) for one in keys], axis=2))
        if len(tiles) < baked.tiles or sum(tile.shape[2] for tile in tiles) != baked.channels * baked.tiles:
            continue
        whole = np.concatenate(tiles, axis=1)
        if kind.vectors and delivery.green is Green.DOWN:
            whole = whole.copy()
            whole[..., 1] = (1 if whole.dtype.kind == "f" else np.iinfo(whole.dtype).max) - whole[..., 1]
        results[baked.name] = whole
    return results


def decoded_keys(
    maps: Sequence[BakedMap], compressed: Sequence[CompressedMap], delivery: DeliverySettings, store: PixelStore
) -> tuple[tuple[str, tuple[str, ...]], ...]:
    """Keep every level of maps as an engine reads it, and return their keys by map."""
    keys: dict[str, list[str]] = {}
    for level in range(max((one.levels for one in compressed), default=0)):
        for name, texels in decoded_maps(maps, compressed, delivery, store, level).items():
            keys.setdefault(name, []).append(store.put(texels))
    return tuple((name, tuple(levels)) for name, levels in keys.items())
