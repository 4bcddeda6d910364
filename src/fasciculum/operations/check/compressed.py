"""A bundle's textures as an engine will show them, for checks and for the window."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.compression.encoders import encoders
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
    with encoders() as running:
        compressor = Compressor(bundle, delivery, store, running)
        for number, texture in enumerate(files):
            part = progress.part(number / len(files), (number + 1) / len(files))
            part.update(0.0, f"Compressing {texture.map} of {bundle.name}")
            results.append(compressor.made(texture, part).figures)
    return tuple(results)


def decoded_maps(
    maps: Sequence[BakedMap], compressed: Sequence[CompressedMap], delivery: DeliverySettings, store: PixelStore
) -> dict[str, NDArray[Any]]:
    """Return maps as an engine reads them, by name, as they were baked: tiles side by side, green up.

    Maps whose files hold several of them, or were brought to another size, are left out.
    """
    results: dict[str, NDArray[Any]] = {}
    for baked in maps:
        kind = KINDS[baked.name]
        parts = kind.parts if kind.parts and delivery.packing is Packing.APART else (kind.name,)
        tiles = []
        for tile in range(baked.tiles):
            known = {one.name: one for one in compressed if one.tile == tile}
            if not all(name in known and store.has(known[name].pixels) for name in parts):
                break
            tiles.append(np.concatenate([store.get(known[name].pixels) for name in parts], axis=2))
        whole = np.concatenate(tiles, axis=1) if len(tiles) == baked.tiles else None
        if whole is None or whole.shape != (baked.height, baked.width, baked.channels):
            continue
        if kind.vectors and delivery.green is Green.DOWN:
            whole = whole.copy()
            whole[..., 1] = (1 if whole.dtype.kind == "f" else np.iinfo(whole.dtype).max) - whole[..., 1]
        results[baked.name] = whole
    return results


def shown_key(baked: BakedMap, compressed: Sequence[CompressedMap], delivery: DeliverySettings, store: PixelStore) -> str:
    """Return the store's key of a map as an engine reads it, that of the baked one where there is no other."""
    decoded = decoded_maps([replace(baked)], compressed, delivery, store).get(baked.name)
    return baked.pixels if decoded is None else store.put(decoded)
