"""Noise of light, removed along the surface: by Open Image Denoise where it is installed, else by an own filter."""

from __future__ import annotations

import importlib.util
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.baking.bleeding import bleed
from fasciculum.baking.smoothing import EdgeStoppingGuide
from fasciculum.kernels.light.denoising import dim_rows, even_rows, spread_rows
from fasciculum.kernels.light.gathering import ODD
from fasciculum.model.choices import Choice
from fasciculum.progress import SILENT, Progress
from fasciculum.threads import in_pieces
from fasciculum.units import brightness

if TYPE_CHECKING:
    from fasciculum.baking.light.passes import LightPasses


class Denoiser(Choice):
    """What removed noise."""

    NONE = "none"
    OIDN = "oidn"
    OWN = "own"


#: the package that Open Image Denoise comes in
PACKAGE = "pyoidn"
#: rows that are worked on at once, edge of the parts that a large sheet is worked on in, and how far these overlap
BAND, PART, OVERLAP = 32, 2048, 128
#: rounds of the own filter, each of twice the reach, and how much brightness may differ, in standard deviations
ROUNDS, APART = 5, 2.0
#: standard deviations that a texel may lose which outshines those around it
SPARK = 3.0
#: standard deviations that removing noise may change a texel by, without the library and with it
MOST_OFF = 1.0, 1.5


def available() -> bool:
    """Whether Open Image Denoise is installed."""
    return importlib.util.find_spec(PACKAGE) is not None


def guide_of(passes: LightPasses) -> EdgeStoppingGuide:
    """Return which part of the surface each texel is of, and how it faces."""
    tiles = passes.tiles
    guide = EdgeStoppingGuide(tiles.width, tiles.height, passes.target)
    for piece in tiles.pieces():
        guide.take(piece, tiles.across, tiles.ids(piece), passes.corners)
    if passes.normals.shape[:2] == guide.labels.shape:
        relief = passes.normals.any(axis=-1)
        guide.normals[relief] = np.round(passes.normals[relief] * 127).astype(np.int8)
    return guide


def remove_noise(
    passes: LightPasses, layer: NDArray[np.float32], guide: EdgeStoppingGuide, *, progress: Progress = SILENT
) -> Denoiser:
    """Remove noise from a layer of light (H, W, 1 or 3), in place; it is continued beyond the islands before.

    Parameters
    ----------
    passes : LightPasses
    layer : ndarray of float32
        What texels without samples hold is of no account.
    guide : Guide
        See `guide_of`; the same for all layers.
    """
    labels = np.where(passes.lit, guide.labels, -1)
    own = _variance(passes, layer, labels)
    bands = range(0, len(layer), BAND)
    shares = np.empty_like(own)
    bright = _bright(layer)

    def dim(first: int) -> None:
        dim_rows(first, min(first + BAND, len(own)), bright, own, labels, SPARK, shares)

    in_pieces(dim, bands)
    layer *= shares[..., None]
    bleed(passes.lit, [(layer, None)])
    variance = np.empty_like(own)
    in_pieces(lambda first: spread_rows(first, min(first + BAND, len(own)), own, labels, variance), bands)
    given = layer.copy()
    library = available()
    if library:
        _by_library(layer, progress)
    else:
        _by_itself(layer, variance, labels, guide, progress)
    # what is further off than noise explains was no noise
    most = np.sqrt(variance)[..., None] * np.float32(MOST_OFF[library])
    np.clip(layer, given - most, given + most, out=layer)
    return Denoiser.OIDN if library else Denoiser.OWN


def _by_library(layer: NDArray[np.float32], progress: Progress) -> None:
    """Let Open Image Denoise remove noise.

    It is given no guides: light on a sheet has no texture of its own, and islands' normals, which jump from one to the
    next, were found to lose more than they hold (decision 23).
    """
    # the library is an extra, and comes with its weights
    denoise: Any = importlib.import_module(PACKAGE).denoise
    height, width = layer.shape[:2]
    even = np.empty_like(layer)
    for top in range(0, height, PART):
        for left in range(0, width, PART):
            progress.check()
            low, right = min(top + PART, height), min(left + PART, width)
            y0, x0 = max(top - OVERLAP, 0), max(left - OVERLAP, 0)
            box = np.s_[y0 : min(low + OVERLAP, height), x0 : min(right + OVERLAP, width)]
            color = np.ascontiguousarray(np.broadcast_to(layer[box], (*layer[box].shape[:2], 3)), np.float32)
            result = denoise(color, hdr=True)
            own = result[top - y0 : low - y0, left - x0 : right - x0, : layer.shape[2]]
            even[top:low, left:right] = np.maximum(own, 0)
    layer[:] = even


def _by_itself(
    layer: NDArray[np.float32],
    given: NDArray[np.float32],
    labels: NDArray[np.int64],
    guide: EdgeStoppingGuide,
    progress: Progress,
) -> None:
    """Even light out over texels of the same island that face alike and are about as bright, as noise tells.

    In rounds of weighted means, each with twice the reach of the one before (Dammertz et al. 2010,
    doi:10.2312/EGGH/HPG10/067-075), with the variance carried along (Schied et al. 2017, doi:10.1145/3105762.3105770).
    """
    variance = given.copy()
    bands = range(0, len(layer), BAND)
    beside, spread = np.empty_like(layer), np.empty_like(variance)
    smooth = np.empty_like(variance)
    for number in range(ROUNDS):
        step = 1 << number

        def blur(first: int) -> None:
            spread_rows(first, min(first + BAND, len(layer)), variance, labels, smooth)

        def work(first: int, step: int = step) -> None:
            last = min(first + BAND, len(layer))
            told = (labels, guide.normals, step, APART)
            even_rows(first, last, layer, variance, smooth, *told, beside, spread)

        part = progress.part(number / ROUNDS, (number + 1) / ROUNDS)
        in_pieces(blur, bands, progress=part.quiet())
        in_pieces(work, bands, words="Removing noise", progress=part)
        layer[:], variance[:] = beside, spread


def _bright(layer: NDArray[np.float32]) -> NDArray[np.float32]:
    """Return how bright the texels of a layer (H, W, 1 or 3) are, (H, W)."""
    return brightness(layer) if layer.shape[2] == 3 else np.ascontiguousarray(layer[..., 0])


def _variance(passes: LightPasses, layer: NDArray[np.float32], labels: NDArray[np.int64]) -> NDArray[np.float32]:
    """Return the variance of each texel's brightness, (H, W), as both halves of its samples tell."""
    done = max(passes.done, 2)
    halves = done // 2, done - done // 2
    total = brightness(passes.sums[..., :3])
    odd = passes.sums[..., ODD]
    away = (odd / halves[0] - (total - odd) / halves[1]) / 2
    own = away * away
    light = total / done
    # other layers are as noisy as the light, in parts of it
    share = np.square(np.divide(_bright(layer), light, out=np.ones_like(light), where=light > 1e-12))
    result: NDArray[np.float32] = np.where(labels >= 0, own * np.minimum(share, 4.0), 0).astype(np.float32)
    return result
