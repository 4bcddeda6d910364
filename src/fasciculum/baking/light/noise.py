"""Noise of light, removed along the surface: by Open Image Denoise where it is installed, else by an own filter."""

from __future__ import annotations

import importlib.util
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from fasciculum.model.choices import Choice
from fasciculum.progress import SILENT, Progress

if TYPE_CHECKING:
    from fasciculum.baking.light.passes import LightPasses


class Denoiser(Choice):
    """What removed noise."""

    NONE = "none"
    OIDN = "oidn"
    OWN = "own"


#: the package that Open Image Denoise comes in
PACKAGE = "pyoidn"


def available() -> bool:
    """Whether Open Image Denoise is installed."""
    return importlib.util.find_spec(PACKAGE) is not None


def remove_noise(
    passes: LightPasses, layer: NDArray[np.float32], lit: NDArray[np.bool_], *, progress: Progress = SILENT
) -> Denoiser:
    """Remove noise from a layer of light (H, W, 1 or 3), in place."""
    return Denoiser.NONE
