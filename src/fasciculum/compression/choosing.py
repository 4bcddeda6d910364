"""The smallest block format that keeps a map as it should be, and how well each level came through."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.compression.blocks import BlockFormat
from fasciculum.compression.encoders import decode_level
from fasciculum.compression.encoding import encode_level
from fasciculum.compression.levels import COVERED, Level, Meaning
from fasciculum.kernels.sampling.level_errors import (
    BINS,
    angle_error,
    any_below,
    derive_third,
    sides_kept,
    squared_error,
)
from fasciculum.progress import SILENT, Progress
from fasciculum.threads import in_pieces
from fasciculum.units import eight_bits

#: what a difference of nothing counts as, dB
PERFECT = 99.0
#: rows that are compared at once
ROWS = 256
#: normals that point below the surface by more than this are not kept in two channels
BELOW = -0.02
#: from which error of the normals' mean and of their 99th percentile, degrees, a format does not keep them
MEAN_ANGLE, WORST_ANGLE = 0.3, 3.0


@dataclass(frozen=True)
class Quality:
    """How well a level came through compression, over the texels that islands cover.

    Attributes
    ----------
    db : float
        Peak signal-to-noise ratio of all stored channels together, of vectors in x, y and z.
    angle, worst : float
        Of vectors the mean of the angle and its 99th percentile, degrees; 0 for others.
    kept : float
        The part of covered texels that is on the right side of the cut-off, 1 where nothing is cut off.
    """

    db: float = PERFECT
    angle: float = 0.0
    worst: float = 0.0
    kept: float = 1.0


def unpacked(decoded: NDArray[Any], like: NDArray[Any], *, vectors: bool) -> NDArray[Any]:
    """Return decoded texels in the channels of the map that they were made of; z of two-channel vectors is derived."""
    channels = like.shape[2]
    if decoded.shape[2] >= channels:
        return decoded[..., :channels]
    if vectors and decoded.shape[2] == 2:
        three = np.empty((*decoded.shape[:2], 3), np.uint8)
        derive_third(np.ascontiguousarray(decoded), three)
        return three
    if decoded.shape[2] == 1:
        decoded = np.repeat(decoded, min(channels, 3), axis=2)
    if decoded.shape[2] < channels:
        top = 1 if decoded.dtype.kind == "f" else 255
        decoded = np.dstack([decoded, np.full(decoded.shape[:2], top, decoded.dtype)])
    return decoded


def quality_of(decoded: NDArray[Any], level: Level, meaning: Meaning) -> Quality:
    """Compare decoded texels, in the map's channels, with those that were encoded; both (H, W, C)."""
    before, weights = level.texels, level.weights
    least = COVERED if float(weights.max(initial=0.0)) > COVERED else 0.0
    whole = before.dtype.kind == "u"
    scale = 1 / 257.0 if before.dtype == np.uint16 else 1.0
    rows = range(0, before.shape[0], ROWS)
    after = np.ascontiguousarray(decoded)
    if meaning.vectors and whole:
        parts: dict[int, tuple[float, float, int]] = {}
        bins = {first: np.zeros(BINS, np.int64) for first in rows}

        def turn(first: int) -> None:
            last = min(first + ROWS, before.shape[0])
            parts[first] = angle_error(before, after, weights, least, scale, first, last, bins[first])

        in_pieces(turn, rows)
        total, angles, count = (sum(part[place] for part in parts.values()) for place in range(3))
        if not count:
            return Quality()
        below = np.cumsum(sum(bins.values()))
        worst = float(np.searchsorted(below, 0.99 * count)) / 100
        return Quality(_decibels(total / count / 3 / 4), angles / count, worst)
    sums: dict[int, tuple[float, float, int]] = {}

    def compare(first: int) -> None:
        last = min(first + ROWS, before.shape[0])
        sums[first] = squared_error(before, after, weights, least, scale, first, last)

    in_pieces(compare, rows)
    count = sum(part[2] for part in sums.values())
    if not count:
        return Quality()
    peak = 255.0 if whole else max(*(part[1] for part in sums.values()), 1e-6)
    db = _decibels(sum(part[0] for part in sums.values()) / (count * before.shape[2]) / peak**2)
    if meaning.opacity < 0:
        return Quality(db)
    edge = meaning.cutoff * (np.iinfo(before.dtype).max if whole else 1.0)
    decoded_edge = meaning.cutoff * (1.0 if after.dtype.kind == "f" else 255)
    kept, counted = sides_kept(before, after, weights, least, meaning.opacity, edge, decoded_edge)
    return Quality(db, kept=kept / counted)


def _decibels(error: float) -> float:
    return min(-10 * math.log10(error), PERFECT) if error > 0 else PERFECT


@dataclass(frozen=True, eq=False)
class Encoded:
    """A map in one block format.

    ``levels`` are bytes, the largest first; ``decoded`` are the same as an engine reads them, in the map's channels;
    ``qualities`` are those of the first three.
    """

    form: BlockFormat
    levels: tuple[bytes, ...]
    decoded: tuple[NDArray[Any], ...]
    qualities: tuple[Quality, ...]
    #: whether it is as good as was asked
    enough: bool = True
    #: whether two channels were left out because normals point below the surface
    below: bool = False


def encodable(texels: NDArray[Any]) -> NDArray[Any]:
    """Return stored texels as encoders take them: 8 bits, or half floats."""
    return texels.astype(np.float16) if texels.dtype.kind == "f" else eight_bits(texels)


def points_below(level: Level) -> bool:
    """Tell whether a covered texel of a map of normals points below its surface."""
    top = 1.0 if level.texels.dtype.kind == "f" else float(np.iinfo(level.texels.dtype).max)
    return bool(any_below(level.texels, level.weights, (BELOW * 0.5 + 0.5) * top))


def is_kept(quality: Quality, asked: float, meaning: Meaning) -> bool:
    """Tell whether a level came through well enough."""
    good = quality.db >= asked
    return good and (not meaning.vectors or (quality.angle <= MEAN_ANGLE and quality.worst <= WORST_ANGLE))


def encode_map(
    levels: Sequence[Level],
    forms: Sequence[BlockFormat],
    meaning: Meaning,
    asked: float,
    *,
    progress: Progress = SILENT,
) -> Encoded:
    """Encode a map in the first of some formats that keeps it, else in the one that keeps it best.

    Parameters
    ----------
    levels : sequence of Level
        The largest first.
    forms : sequence of BlockFormat
        The smallest first; a single one is taken whatever becomes of the map.
    asked : float
        dB over covered texels of the largest level.

    Raises
    ------
    UnsupportedInput
        When a library is missing.
    Cancelled
    """
    below = meaning.vectors and points_below(levels[0])
    tried = [form for form in forms if not (below and form.channels == 2)] or list(forms)
    best: tuple[Quality, BlockFormat, bytes, NDArray[Any]] | None = None
    for number, form in enumerate(tried):
        part = progress.part(0.7 * number / len(tried), 0.7 * (number + 1) / len(tried))
        quality, data, first = _encoded(levels[0], form, meaning, part)
        if best is None or quality.db > best[0].db:
            best = quality, form, data, first
        if is_kept(quality, asked, meaning):
            best = quality, form, data, first
            break
    assert best is not None
    quality, form, data, first = best
    parts, qualities, decoded = [data], [quality], [first]
    for number, level in enumerate(levels[1:], 1):
        progress.update(0.7 + 0.3 * number / len(levels), "Compressing textures")
        more, data, texels = _encoded(level, form, meaning, SILENT)
        qualities += [more] if number < 3 else []
        parts.append(data)
        decoded.append(texels)
        progress.check()
    enough = is_kept(quality, asked, meaning) or len(forms) == 1
    return Encoded(form, tuple(parts), tuple(decoded), tuple(qualities), enough, below and len(tried) < len(forms))


def _encoded(
    level: Level, form: BlockFormat, meaning: Meaning, progress: Progress
) -> tuple[Quality, bytes, NDArray[Any]]:
    """Encode one level, read it again, and compare."""
    stored = encodable(level.texels)
    data = encode_level(stored, form, progress)
    height, width = level.texels.shape[:2]
    decoded = unpacked(decode_level(data, form, width, height), level.texels, vectors=meaning.vectors)
    return quality_of(decoded, level, meaning), data, decoded


def rounded(quality: Quality) -> Quality:
    """Return figures as they are kept."""
    return replace(quality, **{name: round(getattr(quality, name), 4) for name in ("db", "angle", "worst", "kept")})
