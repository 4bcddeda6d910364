"""Layers' pictures, from their files."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from fasciculum.errors import MissingFile
from fasciculum.io.codecs import decode
from fasciculum.io.places import read_file
from fasciculum.model.digests import digest_of
from fasciculum.model.layers import LayerImage
from fasciculum.units import srgb_to_linear


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
