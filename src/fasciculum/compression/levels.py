"""Own mip levels: each is made from the texels that islands cover, so that no padding or neighbour enters it.

Colours are blended in linear light, normals as vectors, and opacity keeps its coverage at the cut-off. Padding is
continued anew at each level.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.baking.bleeding import bleed
from fasciculum.compression.blocks import level_sizes
from fasciculum.kernels.sampling.levels import halve_labels, halve_rows, shared_blocks
from fasciculum.progress import SILENT, Progress
from fasciculum.threads import in_pieces
from fasciculum.units import srgb_to_linear

#: rows that are worked on at once, and the part of a texel from which it counts as covered
ROWS, COVERED = 64, 0.5


@dataclass(frozen=True)
class Meaning:
    """What a map's texels mean, as far as levels of it depend on that.

    Attributes
    ----------
    srgb : bool
        Whether the first three channels are sRGB-encoded.
    vectors : bool
        Whether they are unit vectors, 0.5 + 0.5 v.
    opacity : int
        The channel of opacity that is cut off, -1 for none.
    cutoff : float
        From which opacity a texel shows.
    bleed : int, optional
        Texels by which colour goes on beside islands; all the way without.
    """

    srgb: bool = False
    vectors: bool = False
    opacity: int = -1
    cutoff: float = 0.5
    bleed: int | None = None


@dataclass(frozen=True, eq=False)
class Level:
    """One mip level.

    Attributes
    ----------
    texels : ndarray, shape (H, W, C)
        As they are stored, in the type of the map that the levels are of; halves as whole floats.
    weights : ndarray of float32, shape (H, W)
        The part of each texel that its island covers.
    lengths : ndarray of float32, shape (H, W), optional
        How long the mean of unit vectors is, before it is brought to length 1.
    """

    texels: NDArray[Any]
    weights: NDArray[np.float32]
    lengths: NDArray[np.float32] | None = None

    @property
    def covered(self) -> NDArray[np.bool_]:
        """Which texels count as covered: those of which an island covers more than half."""
        result: NDArray[np.bool_] = self.weights > COVERED
        return result


def _decoded(texels: NDArray[Any], meaning: Meaning) -> NDArray[np.float32]:
    """Return stored texels as what can be averaged: linear, or vectors."""
    if texels.dtype.kind == "f":
        values = texels.astype(np.float32)
    elif texels.dtype == np.uint8 and meaning.srgb:
        table = srgb_to_linear(np.arange(256) / 255.0).astype(np.float32)
        values = texels.astype(np.float32) / np.float32(255)
        values[..., :3] = table[texels[..., :3]]
        return values
    else:
        values = texels.astype(np.float32) / np.float32(np.iinfo(texels.dtype).max)
    if meaning.srgb:
        values[..., :3] = srgb_to_linear(values[..., :3])
    if meaning.vectors:
        values[..., :3] = values[..., :3] * 2 - 1
    return values


def _stored(values: NDArray[np.float32], meaning: Meaning, dtype: np.dtype) -> NDArray[Any]:
    """Return averaged values as they are stored."""
    shown = values.copy()
    if meaning.vectors:
        length = np.linalg.norm(shown[..., :3], axis=2, keepdims=True)
        up = np.zeros(3, np.float32)
        up[2] = 1
        shown[..., :3] = np.where(length > 1e-6, shown[..., :3] / np.maximum(length, 1e-6), up) * 0.5 + 0.5
    if meaning.srgb:
        # in floats of 32 bits, which is many times as quick and good for 16 bits of result
        light = np.clip(shown[..., :3], 0, 1)
        low = light <= np.float32(0.0031308)
        curved = np.float32(1.055) * light ** np.float32(1 / 2.4) - np.float32(0.055)
        shown[..., :3] = np.where(low, light * np.float32(12.92), curved)
    if dtype.kind == "f":
        return shown.astype(dtype)
    top = np.iinfo(dtype).max
    return np.round(np.clip(shown, 0, 1) * top).astype(dtype)


def _with_coverage(
    values: NDArray[np.float32], covered: NDArray[np.bool_], meaning: Meaning, wanted: float, top: float
) -> NDArray[np.float32]:
    """Return values whose opacity is scaled so that the wanted part of what is covered is beyond the cut-off."""
    alpha = values[..., meaning.opacity]
    shades = np.sort(alpha[covered])
    if len(shades) == 0:
        return values
    count = round(wanted * len(shades))
    if count in (0, len(shades)):
        factor = 1.0
    else:
        # the least that must show, and the greatest that must not: the cut-off comes between them
        shows, hides = float(shades[len(shades) - count]), float(shades[len(shades) - count - 1])
        middle = max((shows + hides) / 2, 1e-6)
        factor = meaning.cutoff / middle
    scaled = values.copy()
    shifted = np.clip(alpha * factor, 0, 1)
    if 0 < count < len(shades):
        # what is stored as a whole number stays on its side of the cut-off
        over = alpha >= shows if shows > hides else shifted >= meaning.cutoff
        least = np.ceil(meaning.cutoff * top) / top
        shifted = np.where(over, np.maximum(shifted, least), np.minimum(shifted, least - 1 / top))
        shifted = np.clip(shifted, 0, 1)
    scaled[..., meaning.opacity] = shifted
    return scaled


def _halved(
    texels: NDArray[Any], weights: NDArray[np.float32], owners: NDArray[np.int32], meaning: Meaning, stored: bool
) -> tuple[NDArray[np.float32], NDArray[np.float32], NDArray[np.int32]]:
    """Return a level half as large: its means, what is covered of its texels, and by whom.

    ``texels`` are as they are ``stored``, or means already. Stored ones are decoded by bands, so that they are never
    all floats at once.
    """
    height, width, channels = texels.shape
    down, across = max(height // 2, 1), max(width // 2, 1)
    values = np.empty((down, across, channels), np.float32)
    part, names = np.empty((down, across), np.float32), np.empty((down, across), np.int32)
    whole = height == 2 * down
    if not whole and stored:
        texels, stored = _decoded(texels, meaning), False

    def work(first: int) -> None:
        last = min(first + ROWS, down)
        if not whole:
            halve_rows(texels, weights, owners, first, last, values, part, names)
            return
        band, out = slice(2 * first, 2 * last), slice(first, last)
        decoded = _decoded(texels[band], meaning) if stored else texels[band]
        count = last - first
        halve_rows(decoded, weights[band], owners[band], 0, count, values[out], part[out], names[out])

    in_pieces(work, range(0, down, ROWS))
    return values, part, names


def mip_levels(
    texels: NDArray[Any],
    owners: NDArray[np.int32],
    meaning: Meaning,
    *,
    count: int = 0,
    progress: Progress = SILENT,
) -> Iterator[Level]:
    """Yield the levels of a map, the largest first, which is the map as it is.

    Parameters
    ----------
    texels : ndarray of uint8, uint16, float16 or float32, shape (H, W, C)
    owners : ndarray of int32, shape (H, W)
        The island that covers each texel, -1 for none.
    count : int
        Levels to make; all down to 1 x 1 without.
    """
    height, width = owners.shape
    sizes = level_sizes(width, height)[: count or None]
    if texels.dtype == np.float16:
        # compiled loops know no half floats
        texels = texels.astype(np.float32)
    weights = (owners >= 0).astype(np.float32)
    covered = owners >= 0
    values: NDArray[np.float32] | None = None
    yield Level(texels, weights, np.ones_like(weights) if meaning.vectors else None)
    top = 255.0 if texels.dtype.kind == "f" else float(np.iinfo(texels.dtype).max)
    wanted = 0.0
    if meaning.opacity >= 0 and covered.any():
        edge = meaning.cutoff * (1.0 if texels.dtype.kind == "f" else float(np.iinfo(texels.dtype).max))
        wanted = float((texels[..., meaning.opacity][covered] >= edge).mean())
    for number, (_, down) in enumerate(sizes[1:], 1):
        progress.update(number / len(sizes), "Making mip levels")
        values, weights, owners = _halved(texels if values is None else values, weights, owners, meaning, number == 1)
        level = Level(np.zeros(0), weights)
        shown = values
        if meaning.opacity >= 0:
            counted = level.covered if level.covered.any() else weights > 0
            shown = _with_coverage(values, counted, meaning, wanted, top)
        stored = np.empty(shown.shape, texels.dtype)

        def store(first: int, shown: Any = shown, stored: Any = stored) -> None:
            stored[first : first + ROWS] = _stored(shown[first : first + ROWS], meaning, texels.dtype)

        in_pieces(store, range(0, down, ROWS))
        limit = None if meaning.bleed is None else -(-meaning.bleed // (1 << number))
        bleed(owners >= 0, [(stored, limit)])
        lengths = np.linalg.norm(values[..., :3], axis=2).astype(np.float32) if meaning.vectors else None
        yield Level(stored, weights, lengths)


def block_labels(owners: NDArray[np.int32], edges: tuple[int, int]) -> Iterator[tuple[int, int, NDArray[np.bool_]]]:
    """Yield for each mip level its width, its height, and which blocks hold covered texels of two islands.

    Parameters
    ----------
    owners : ndarray of int32, shape (H, W)
        The island that covers each texel, -1 for none.
    edges : tuple of int
        Texels across and down a block.
    """
    labels = owners
    for across, down in level_sizes(owners.shape[1], owners.shape[0]):
        if (down, across) != labels.shape:
            smaller = np.empty((down, across), np.int32)
            halve_labels(labels, smaller)
            labels = smaller
        shared = np.zeros((-(-down // edges[1]), -(-across // edges[0])), np.bool_)
        shared_blocks(labels, *edges, shared)
        yield across, down, shared


def blocks_clean_down_to(owners: NDArray[np.int32], edges: tuple[int, int]) -> int:
    """Return the longer edge of the smallest level, from the largest on, without a block over two islands.

    Twice the largest one's where even that has some.
    """
    clean = 2 * max(owners.shape)
    for across, down, shared in block_labels(owners, edges):
        if shared.any():
            break
        clean = max(across, down)
    return int(clean)


def rougher(roughness: NDArray[np.float32], lengths: NDArray[np.float32]) -> NDArray[np.float32]:
    """Return roughness that has in it how much the normals of a level's texel differ, which their mean has lost.

    Toksvig, *Mipmapping Normal Maps*, 2005, doi:10.1080/2151237X.2005.10129203: an exponent s of a highlight becomes
    s / (1 + s (1 - l) / l), l the length of the mean normal; here s is 2 / alpha^2 - 2 and alpha the squared roughness.

    Parameters
    ----------
    roughness, lengths : ndarray of float32, of one shape
        0 to 1.
    """
    alpha = np.maximum(roughness.astype(np.float64), 1e-3) ** 2
    power = np.maximum(2 / alpha**2 - 2, 1e-6)
    length = np.clip(lengths.astype(np.float64), 1e-3, 1)
    less = power / (1 + power * (1 - length) / length)
    result: NDArray[np.float32] = np.sqrt(np.sqrt(2 / (less + 2))).astype(np.float32)
    return np.maximum(result, roughness)
