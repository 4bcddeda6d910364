"""A sheet, tile by tile: which triangle each texel shows, what sources give there, and maps written from that.

The pipeline that every map goes through: texel -> triangle and place -> values of a source, in floats -> what the map
stores. Tiles do not depend on each other, so that any number of threads writes the same bytes, and whatever is worked
on stays in the processor's cache.
"""

from __future__ import annotations

import threading
from collections.abc import Mapping, Sequence
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from fasciculum.baking.target import REACH, Target
from fasciculum.kernels.sampling.encoding import encode_tiles, keep_tiles, paint_tiles
from fasciculum.kernels.sampling.tiles import TILE, WIDE, bin_triangles, keep_ids, raster_tiles
from fasciculum.model.choices import ColorSpace
from fasciculum.model.maps import MapKind
from fasciculum.progress import SILENT, Progress
from fasciculum.threads import in_pieces
from fasciculum.units import linear_to_srgb

#: tiles that are worked on at once by a thread
TOGETHER = 4
NO_AMOUNTS = np.zeros((0, 0), np.float32)


class Source(Protocol):
    """Gives values at the texels of tiles; see `fasciculum.baking.materials.MaterialSource`."""

    #: how many values a texel has
    values: int

    def fill(self, tiles: NDArray[np.int64], across: int, ids: NDArray[np.int32], found: NDArray[np.float32]) -> None:
        """Write values into ``found`` (N, WIDE, WIDE, K), where a triangle covers texels."""

    def detail(self) -> NDArray[np.float32]:
        """Return by triangle and value how much of the second difference is taken away, (0, 0) for nothing."""


class Writer(Protocol):
    """Writes one map's texels in some tiles."""

    #: the source whose values it takes, empty for none
    source: str
    pixels: NDArray[Any]

    def write(self, tiles: NDArray[np.int64], across: int, ids: NDArray[np.int32], values: NDArray[np.float32]) -> None:
        """Write the texels that a triangle covers, and no others."""


def stored_table(dtype: np.dtype, color_space: ColorSpace) -> NDArray[Any]:
    """Return what is stored, as whole numbers of a type, for 65536 even steps of linear values of 0 to 1."""
    steps = np.arange(65536) / 65535
    light = linear_to_srgb(steps) if color_space is ColorSpace.SRGB else steps
    return np.round(light * np.iinfo(dtype).max).astype(dtype)


class ValueMap:
    """A map whose channels are values of a source.

    Parameters
    ----------
    kind : MapKind
    pixels : ndarray, shape (H, W, C)
        Whole numbers, or floats for values as they are, in linear light.
    source : str
    amounts : ndarray of float32, shape (T, K) or (0, 0)
        See `fasciculum.kernels.sampling.encoding.encode_tiles`.
    scale : float
        What the values are multiplied with, a fourth channel left out.
    """

    def __init__(
        self, kind: MapKind, pixels: NDArray[Any], source: str, amounts: NDArray[np.float32], scale: float = 1.0
    ) -> None:
        self.pixels, self.source, self._amounts, self._vector = pixels, source, amounts, kind.vectors
        count = pixels.shape[2]
        self._channels = np.array(kind.values[:count], np.int64)
        self._scales = np.array([scale, scale, scale, 1.0][:count])
        self._tables: tuple[NDArray[Any], NDArray[Any]] | None = None
        if pixels.dtype.kind == "u":
            plain = stored_table(pixels.dtype, ColorSpace.LINEAR)
            table = plain if kind.color_space is ColorSpace.LINEAR else stored_table(pixels.dtype, kind.color_space)
            self._tables = table, plain

    def write(self, tiles: NDArray[np.int64], across: int, ids: NDArray[np.int32], values: NDArray[np.float32]) -> None:
        """Write the texels that a triangle covers."""
        leading = (tiles, across, ids, values, self._channels, self._amounts, self._scales, self._vector)
        if self._tables is None:
            keep_tiles(*leading, self.pixels)
        else:
            encode_tiles(*leading, *self._tables, self.pixels)


class LabelMap:
    """A map that holds one colour for each label: ``labels`` (T) of triangles, ``colors`` (N, C) as stored."""

    source = ""

    def __init__(self, pixels: NDArray[Any], labels: NDArray[np.int32], colors: NDArray[Any]) -> None:
        self.pixels, self._labels, self._colors = pixels, labels, colors.astype(pixels.dtype)

    def write(self, tiles: NDArray[np.int64], across: int, ids: NDArray[np.int32], values: NDArray[np.float32]) -> None:
        """Write the texels that a triangle covers."""
        paint_tiles(tiles, across, ids, self._labels, self._colors, self.pixels)


class Tiles:
    """The tiles of a sheet of a size, and the triangles that each may show."""

    def __init__(self, target: Target, width: int, height: int) -> None:
        self.target, self.width, self.height = target, width, height
        self.across, self.down = -(-width // TILE), -(-height // TILE)
        self._starts = np.zeros(self.across * self.down + 1, np.int64)
        leading = (target.corners, target.on_border, REACH, self.across, self.down, self._starts)
        bin_triangles(*leading, np.empty(0, np.int32))
        self._items = np.empty(int(self._starts[-1]), np.int32)
        bin_triangles(*leading, self._items)

    def filled(self) -> NDArray[np.int64]:
        """Return the tiles that some triangle may show in."""
        return np.flatnonzero(np.diff(self._starts) > 0)

    def of(self, triangles: NDArray[np.bool_]) -> NDArray[np.int64]:
        """Return the tiles that one of the triangles told by a mask (T,) may show in."""
        owner = np.repeat(np.arange(len(self._starts) - 1), np.diff(self._starts))
        return np.unique(owner[triangles[self._items]])

    def ids(self, tiles: NDArray[np.int64]) -> NDArray[np.int32]:
        """Return the triangle of each texel of some tiles and around them, shape (N, WIDE, WIDE), -1 for none."""
        target = self.target
        ids = np.empty((len(tiles), WIDE, WIDE), np.int32)
        leading = (tiles, self.across, target.corners, target.on_border, REACH, self._starts, self._items)
        raster_tiles(*leading, self.width, self.height, ids)
        return ids

    def whole(self, progress: Progress = SILENT) -> NDArray[np.int32]:
        """Return the triangle of each texel of the sheet, shape (H, W), -1 for none."""
        result = np.full((self.height, self.width), -1, np.int32)

        def work(tiles: NDArray[np.int64]) -> None:
            keep_ids(tiles, self.across, self.ids(tiles), result)

        in_pieces(work, self.pieces(), words="Finding each texel's triangle", progress=progress)
        return result

    def pieces(self, tiles: NDArray[np.int64] | None = None) -> list[NDArray[np.int64]]:
        """Return tiles, all that are filled or those given, a few at a time."""
        chosen = self.filled() if tiles is None else tiles
        return [chosen[first : first + TOGETHER] for first in range(0, len(chosen), TOGETHER)]


def write_maps(
    tiles: Tiles,
    sources: Mapping[str, Source],
    writers: Sequence[Writer],
    covered: NDArray[np.bool_],
    *,
    only: NDArray[np.int64] | None = None,
    words: str = "",
    progress: Progress = SILENT,
) -> None:
    """Write maps of one size; texels that no triangle covers are left alone.

    Parameters
    ----------
    sources : mapping of Source
        By the name that writers know them by.
    covered : ndarray of bool, shape (H, W)
        Receives which texels a triangle covers.
    only : ndarray of int64, optional
        Just these tiles.

    Raises
    ------
    Cancelled
    """
    needed = {writer.source for writer in writers} - {""}
    nothing = np.empty((0, WIDE, WIDE, 1), np.float32)
    own = threading.local()

    def scratch(name: str, count: int) -> NDArray[np.float32]:
        """Return a thread's own array, used again and again: fresh memory costs more than what is written there."""
        if not hasattr(own, name):
            setattr(own, name, np.empty((TOGETHER, WIDE, WIDE, count), np.float32))
        result: NDArray[np.float32] = getattr(own, name)
        return result

    def work(piece: NDArray[np.int64]) -> None:
        ids = tiles.ids(piece)
        keep_ids(piece, tiles.across, ids >= 0, covered)
        values = {}
        for name in needed:
            values[name] = result = scratch(name, sources[name].values)[: len(piece)]
            sources[name].fill(piece, tiles.across, ids, result)
        for writer in writers:
            writer.write(piece, tiles.across, ids, values.get(writer.source, nothing))

    in_pieces(work, tiles.pieces(only), words=words, progress=progress)
