"""Pieces of surfaces that read overlapping parts of a texture, joined to regions that hold each texel once."""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fasciculum.kernels.cells import link_overlapping, mark_touched
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import TwinRule, UvPolicy
from fasciculum.model.scene import REPEAT, Object, Primitive, Scene
from fasciculum.model.unwrapping import PLAIN
from fasciculum.treatments.flats import is_tinted
from fasciculum.treatments.reading import SLACK, Read, one_reading, read_of
from fasciculum.uv.corners import signed_uv_areas

#: cells along each edge of a texture, at most: overlaps that hold no cell's centre are not seen
MOST_CELLS = 256
#: texels around what surfaces read that bilinear filtering may touch
AROUND = 1.0
#: a region is its box once this part of it is read; else strips of it, in steps of this part of its longer edge
WHOLE_BOX, STEPS = 0.85, 24
#: part of what islands would take that regions may take to be chosen
PAYS = 0.9


@dataclass(frozen=True, eq=False)
class SharedRegion:
    """A part of a texture that pieces of surfaces read together.

    Attributes
    ----------
    box : tuple of int
        Left, top, right, bottom on the texture, texels from its first repeat's corner; the right and bottom excluded.
    parts : ndarray of int64, shape (N, 4)
        What of the box is read: boxes that do not overlap, texels.
    """

    box: tuple[int, int, int, int]
    parts: NDArray[np.int64]

    @property
    def texels(self) -> int:
        """What it takes, square texels."""
        return int(((self.parts[:, 2] - self.parts[:, 0]) * (self.parts[:, 3] - self.parts[:, 1])).sum())


@dataclass(frozen=True, eq=False)
class Shared:
    """How the surfaces of a material share its texels.

    Attributes
    ----------
    regions : list of SharedRegion
    region : list of ndarray of int32, shape (T,)
        For each surface the region of each of its triangles.
    uvs : list of ndarray of float64, shape (T, 3, 2)
        For each surface its corners on the regions' plane, in repeats.
    """

    regions: list[SharedRegion]
    region: list[NDArray[np.int32]]
    uvs: list[NDArray[np.float64]]

    @property
    def texels(self) -> int:
        """What all regions take, square texels."""
        return sum(region.texels for region in self.regions)


def share_texels(reads: Sequence[Read], texels: tuple[int, int]) -> Shared:
    """Join the pieces of surfaces that read overlapping parts of a texture.

    Parameters
    ----------
    reads : sequence of Read
        How each surface reads the texture.
    texels : tuple of int
        The texture's width and height.
    """
    cells = np.array([min(MOST_CELLS, texels[0]), min(MOST_CELLS, texels[1])], np.int64)
    starts = np.cumsum([0, *[len(read.low) for read in reads]])
    laid = np.concatenate([read.laid() for read in reads])
    labels = np.concatenate([read.piece + start for read, start in zip(reads, starts[:-1], strict=True)])
    labels = labels.astype(np.int64)
    count = int(starts[-1])
    parent, offset = np.zeros(count, np.int64), np.zeros((count, 2), np.int64)
    link_overlapping(laid * cells, labels, int(cells[0]), int(cells[1]), parent, offset)
    leaders, of_piece = np.unique(parent, return_inverse=True)
    of_triangle = of_piece.reshape(-1)[labels]
    moved = laid + offset[labels][:, None, :]
    order = np.argsort(of_triangle, kind="stable")
    bounds = np.searchsorted(of_triangle[order], np.arange(len(leaders) + 1))
    size = np.array(texels, np.float64)
    regions = [
        _region(moved[order[first:last]] * size, size / cells) for first, last in itertools.pairwise(bounds.tolist())
    ]
    ends = np.cumsum([0, *[len(read.uvs) for read in reads]])
    parts = list(itertools.pairwise(ends.tolist()))
    return Shared(
        regions,
        [of_triangle[first:last].astype(np.int32) for first, last in parts],
        [moved[first:last] for first, last in parts],
    )


def why_apart(scene: Scene, bundle: Bundle, primitive: Primitive) -> str:
    """Return in words what keeps a surface from sharing texels with others of its material, empty when nothing does."""
    if is_tinted(primitive, bundle.bake.vertex_colors):
        return "vertex colours tint them"
    material = scene.material_of(primitive)
    if not one_reading(scene, material, primitive):
        return "their textures have unlike transforms or UV sets"
    slots = [slot for slot in material.slots().values() if not scene.images[slot.image].missing]
    if not all(slot.wrap_u == slot.wrap_v == REPEAT for slot in slots):
        uvs = primitive.read_through(slots[0])
        if (uvs < -SLACK).any() or (uvs > 1 + SLACK).any():
            return "their textures do not repeat beyond the edges"
    return ""


def shareable(
    scene: Scene, bundle: Bundle, uses: Iterable[tuple[Object, int, Primitive]]
) -> dict[tuple[int, int], tuple[Primitive, Read]]:
    """Return what of a material's surfaces may share texels, by mesh and number: the primitive and how it reads them.

    Left out is what `why_apart` names, and objects that are to be unwrapped, are laid flat by hand or share no place.
    """
    results: dict[tuple[int, int], tuple[Primitive, Read]] = {}
    refused: set[tuple[int, int]] = set()
    for item, number, primitive in uses:
        place = scene.nodes[item.node].mesh, number
        if place in refused:
            continue
        shaped = bundle.policy(item.key) == UvPolicy.UNWRAP or bundle.shaping(item.key) != PLAIN
        if shaped or bundle.twin_rule(item.key) == TwinRule.APART:
            refused.add(place)
            results.pop(place, None)
        elif place not in results:
            read = None if why_apart(scene, bundle, primitive) else read_of(scene, primitive)
            if read is None:
                refused.add(place)
            else:
                results[place] = primitive, read
    return results


def distinct_pieces(reads: Sequence[Read]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Return the area, (N,), and the reach, (N, 2), of pieces in repeats, those that show the same once."""
    rows = []
    for read in reads:
        area = np.bincount(read.piece, np.abs(signed_uv_areas(read.uvs)), len(read.low))
        count = np.bincount(read.piece, minlength=len(read.low))
        rows.append(np.column_stack([area, read.high - read.low, read.low - read.shifts, count]))
    table = np.concatenate(rows)
    _, first = np.unique(np.round(table, 3), axis=0, return_index=True)
    return table[first, 0], table[first, 1:3]


def sharing_pays(reads: Sequence[Read], shared: Shared, texels: tuple[int, int]) -> bool:
    """Tell whether surfaces take clearly less of a sheet as regions than as islands, of which alike ones count once."""
    areas, _ = distinct_pieces(reads)
    return shared.texels <= PAYS * float(areas.sum()) * texels[0] * texels[1]


def whole_region(uvs: Sequence[NDArray[np.float64]], texels: tuple[int, int], slack: float) -> SharedRegion:
    """Return the box of all that surfaces read of a texture as one region; ``uvs`` are (T, 3, 2), in repeats."""
    size = np.array(texels, np.float64)
    low = np.floor(np.min([part.min(axis=(0, 1)) for part in uvs], axis=0) * size + slack).astype(np.int64)
    high = np.ceil(np.max([part.max(axis=(0, 1)) for part in uvs], axis=0) * size - slack).astype(np.int64)
    return _boxed(low, np.maximum(high, low + 1))


def _boxed(low: NDArray[np.int64], high: NDArray[np.int64]) -> SharedRegion:
    box = (int(low[0]), int(low[1]), int(high[0]), int(high[1]))
    return SharedRegion(box, np.array([box], np.int64))


def _region(corners: NDArray[np.float64], cell: NDArray[np.float64]) -> SharedRegion:
    """Return the region that holds triangles, (T, 3, 2), in texels, of a texture whose cells have that size."""
    low = np.floor(corners.min(axis=(0, 1)) - AROUND).astype(np.int64)
    high = np.maximum(np.ceil(corners.max(axis=(0, 1)) + AROUND).astype(np.int64), low + 1)
    step = max(1, int(np.ceil(max(float((high - low).max()) / STEPS, float(cell.min())))))
    wide, tall = (-(-(high - low) // step)).tolist()
    touched = np.zeros((tall, wide), np.bool_)
    mark_touched((corners - low) / step, AROUND / step, AROUND / step, touched)
    if touched.mean() >= WHOLE_BOX:
        return _boxed(low, high)
    boxes = np.array(_rectangles(touched), np.int64) * step + np.tile(low, 2)
    parts = np.minimum(boxes, np.tile(high, 2))
    return SharedRegion((int(low[0]), int(low[1]), int(high[0]), int(high[1])), parts)


def _rectangles(touched: NDArray[np.bool_]) -> list[tuple[int, int, int, int]]:
    """Return boxes that hold the marked cells alone, left, top, right, bottom: runs of a row that go on below."""
    results: list[tuple[int, int, int, int]] = []
    open_runs: dict[tuple[int, int], int] = {}
    for row in range(len(touched) + 1):
        marked = touched[row] if row < len(touched) else np.zeros(touched.shape[1], np.bool_)
        edges = np.flatnonzero(np.diff(marked.astype(np.int8), prepend=0, append=0)).tolist()
        runs = set(zip(edges[::2], edges[1::2], strict=True))
        for run, first in list(open_runs.items()):
            if run not in runs:
                results.append((run[0], first, run[1], row))
                del open_runs[run]
        for run in runs:
            open_runs.setdefault(run, row)
    return results
