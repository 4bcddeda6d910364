"""Layers' pictures, from their files."""

from __future__ import annotations

import logging
from collections.abc import Iterable
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from fasciculum.errors import InputError, MissingFile
from fasciculum.io.codecs import decode
from fasciculum.io.pixels import PixelStore
from fasciculum.io.places import read_file
from fasciculum.model.digests import digest_of
from fasciculum.model.layers import LayerImage
from fasciculum.progress import SILENT, Progress
from fasciculum.units import srgb_to_linear

LOG = logging.getLogger(__name__)


def layer_picture(image: LayerImage, light: bool) -> NDArray[np.float32]:
    """Return a layer's picture, (H, W, C), 0 to 1 as it is stored, or its colours as linear ``light``.

    Raises
    ------
    MissingFile, MalformedFile, UnsupportedInput
    """
    data = read_file(Path(image.file))
    if image.digest and digest_of(data) != image.digest:
        raise MissingFile(
            "the layer's picture has changed since it was chosen.", file=image.file, hint="Reload the layers."
        )
    pixels = decode(data, place=image.file)
    values = pixels.astype(np.float32) / np.float32(np.iinfo(pixels.dtype).max)
    if light:
        colors = min(values.shape[2], 3) if values.shape[2] != 2 else 1
        values[..., :colors] = srgb_to_linear(values[..., :colors])
    return values


def store_pictures(
    images: Iterable[LayerImage], store: PixelStore, *, progress: Progress = SILENT
) -> dict[LayerImage, str]:
    """Return the keys of layers' pictures in the pixel store, those left out that cannot be read."""
    results = {}
    for image in dict.fromkeys(images):
        progress.update(0.0, f"Reading {Path(image.file).name}")
        try:
            results[image] = store.put(decode(read_file(Path(image.file)), place=image.file))
        except InputError as error:
            # a finding tells it, see `fasciculum.operations.check.layers`
            LOG.warning("layer picture left out: %s", error)
    return results


def layer_image(file: str, *, progress: Progress = SILENT) -> LayerImage:
    """Return a picture for a layer, once it has been read.

    Raises
    ------
    MissingFile, MalformedFile, UnsupportedInput
    """
    progress.update(0.0, f"Reading {Path(file).name}")
    data = read_file(Path(file))
    decode(data, place=file)
    return LayerImage(str(Path(file).resolve()), digest_of(data))
