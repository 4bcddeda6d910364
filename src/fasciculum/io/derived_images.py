"""Images that are made of channels of others, for formats that keep apart what glTF packs together."""

from __future__ import annotations

from collections.abc import Callable, Hashable

import cv2
import numpy as np
from numpy.typing import NDArray

from fasciculum.io.image_store import image_of
from fasciculum.io.pixels import PixelStore
from fasciculum.model.scene import Image
from fasciculum.units import linear_to_srgb


class DerivedImages:
    """The images of a file, and behind them those that are made of them, each once.

    Parameters
    ----------
    images : list of Image
        Those that are made are put behind these.
    store : PixelStore
    """

    def __init__(self, images: list[Image], store: PixelStore) -> None:
        self.images, self.store = images, store
        self._known: dict[Hashable, int] = {}

    def derive(self, key: Hashable, name: str, make: Callable[[], NDArray[np.uint8] | NDArray[np.uint16]]) -> int:
        """Return the number of an image that is made of others, making it when it is first asked for."""
        if key not in self._known:
            pixels = make()
            self._known[key] = len(self.images)
            self.images.append(image_of(name, pixels, self.store.put(pixels)))
        return self._known[key]

    def encoded(self, number: int) -> int:
        """Return the number of an image of linear values as one of a colour, which is stored as sRGB, in 16 bits."""
        image = self.images[number]
        if not image.linear or image.missing:
            return number

        def make() -> NDArray[np.uint16]:
            values = self.store.get(image.pixels).astype(np.float64) / 65535
            values[..., :3] = linear_to_srgb(values[..., :3])
            return np.round(values * 65535).astype(np.uint16)

        return self.derive(("colour", image.pixels), f"{image.name} as colour", make)

    def pixels(self, number: int, size: tuple[int, int] | None = None) -> NDArray[np.uint8]:
        """Return an image's pixels at 8 bits, shape (H, W, C), at another size (width, height) where it is given."""
        pixels = self.store.get(self.images[number].pixels)
        result = np.asarray(pixels >> 8 if pixels.dtype == np.uint16 else pixels, np.uint8)
        if size is not None and size != (result.shape[1], result.shape[0]):
            result = np.asarray(cv2.resize(result, size, interpolation=cv2.INTER_LINEAR), np.uint8)
        return result
