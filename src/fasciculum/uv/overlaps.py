"""Where flat triangles cover each other: within an island, within an object, and between objects."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from fasciculum.kernels.coverage import covered_lengths, mark_overlapping, mark_pairs
from fasciculum.kernels.overlap import self_overlaps
from fasciculum.model.scene import Object, Scene
from fasciculum.uv.corners import corners_of, signed_uv_areas

#: looks at pairs after which an island counts as covering itself
MOST_PAIRS = 1_000_000_000
#: looks at pairs after which no more triangles are marked for a picture
MOST_MARKED = 100_000_000
#: horizontal lines by which areas are swept at least and at most, and crossings with triangles at most
LEAST_LINES, MOST_LINES, MOST_CROSSINGS = 1024, 8192, 8_000_000
#: objects that are named at most as lying on one
MOST_NAMED = 100
#: part of the smaller triangle's area that a pair has to share to count as overlapping; below it is rounding
SHARED = 1e-6
#: part of the covered area below which what is covered twice is rounding
NOTHING = 1e-9


def _boxes(corners: NDArray[np.float64]) -> NDArray[np.float64]:
    return np.concatenate([corners.min(axis=1), corners.max(axis=1)], axis=1)


def self_overlap(corners: NDArray[np.float64], islands: NDArray[np.int32], *, threshold: float) -> NDArray[np.float64]:
    """Return, for each island, the area on which its own triangles cover each other, over its area.

    Parameters
    ----------
    corners : ndarray of float64, shape (T, 3, 2)
    islands : ndarray of int32, shape (T,)
        From 0, none left out.
    threshold : float
        Counting stops once an island's share passes this.

    Notes
    -----
    An island whose triangles lie so thickly that looking at all pairs would take seconds has an infinite share.
    """
    count = int(islands.max()) + 1 if len(islands) else 0
    order = np.argsort(islands, kind="stable")
    ordered = np.ascontiguousarray(corners[order])
    sorted_islands = np.ascontiguousarray(islands[order])
    starts = np.searchsorted(sorted_islands, np.arange(count + 1))
    a, b = ordered[:, 1] - ordered[:, 0], ordered[:, 2] - ordered[:, 0]
    areas = np.bincount(sorted_islands, 0.5 * np.abs(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]), count)
    result = self_overlaps(ordered, _boxes(ordered), sorted_islands, starts, areas * threshold, MOST_PAIRS)
    shares = np.where(areas > 0, result / np.maximum(areas, 1e-300), 0.0)
    return np.where(result < 0, np.inf, shares)


def _lines(corners: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Return horizontal lines through triangles and the heights that they stand for.

    Lines lie in the middle of the slabs between corners, where lengths are linear but for edges that cross; a slab
    that is high is parted. Of too many slabs even ones take the place.
    """
    levels = np.unique(corners[..., 1])
    whole = float(levels[-1] - levels[0])
    if whole <= 0:
        return np.zeros(0), np.zeros(0)
    gaps = np.diff(levels)
    parts = np.maximum(np.ceil(gaps / whole * LEAST_LINES), 1).astype(np.int64)
    if parts.sum() > MOST_LINES:
        levels, gaps, parts = np.array([levels[0], levels[-1]]), np.array([whole]), np.array([MOST_LINES])
    weights = np.repeat(gaps / parts, parts)
    within = np.arange(len(weights)) - np.repeat(np.cumsum(parts) - parts, parts)
    return np.repeat(levels[:-1], parts) + (within + 0.5) * weights, weights


def covered_areas(corners: NDArray[np.float64]) -> tuple[float, float]:
    """Return the area that triangles cover at least once, and that which they cover at least twice.

    Parameters
    ----------
    corners : ndarray of float64, shape (T, 3, 2)
        Those that are not finite are left out.
    """
    corners = np.ascontiguousarray(corners[np.isfinite(corners).all(axis=(1, 2))])
    lines, weights = _lines(corners) if len(corners) else (np.zeros(0), np.zeros(0))
    if not len(lines):
        return 0.0, 0.0

    def crossings(lines: NDArray[np.float64]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        first = np.searchsorted(lines, corners[..., 1].min(axis=1), "left")
        return first, np.searchsorted(lines, corners[..., 1].max(axis=1), "left") - first

    first, counts = crossings(lines)
    if counts.sum() > MOST_CROSSINGS:
        few = max(int(len(lines) * MOST_CROSSINGS / counts.sum()), 64)
        low, high = float(corners[..., 1].min()), float(corners[..., 1].max())
        weights = np.full(few, (high - low) / few)
        lines = low + (np.arange(few) + 0.5) * weights
        first, counts = crossings(lines)
    triangles = np.repeat(np.arange(len(corners)), counts)
    crossed = np.arange(len(triangles)) - np.repeat(np.cumsum(counts) - counts, counts) + np.repeat(first, counts)
    order = np.argsort(crossed, kind="stable")
    starts = np.searchsorted(crossed[order], np.arange(len(lines) + 1))
    once, twice = covered_lengths(corners, lines, weights, starts, triangles[order])
    return float(once), float(twice if twice > NOTHING * once else 0.0)


def overlapping_objects(scene: Scene, items: Sequence[Object], number: int) -> dict[str, tuple[str, ...]]:
    """Return for each object that lies on others in a UV set the keys of those others.

    Surfaces are compared with those of the same material; the set is read as it is, without repeating. Copies of one
    mesh lie on one another, and are read once.
    """
    copies: dict[tuple[int, tuple[int, ...]], list[str]] = {}
    for item in items:
        copies.setdefault((scene.nodes[item.node].mesh, item.primitives), []).append(item.key)
    by_material: dict[int, list[tuple[str, NDArray[np.float64]]]] = {}
    # the keys of all copies by that of the first
    alike = {keys[0]: keys for keys in copies.values()}
    results: dict[str, set[str]] = {}
    for first, keys in alike.items():
        corners = corners_of(scene, scene.object(first), uv_set=number)
        usable = np.isfinite(corners.source).all(axis=(1, 2))
        for material in np.unique(corners.material[usable]).tolist():
            own = corners.source[usable & (corners.material == material)]
            by_material.setdefault(material, []).append((first, own))
            if len(keys) > 1 and np.abs(signed_uv_areas(own)).sum() > 0:
                results.setdefault(first, set()).add(first)
    for parts in by_material.values():
        if len(parts) < 2:
            continue
        flat = np.ascontiguousarray(np.concatenate([own for _, own in parts]))
        labels = np.repeat(np.arange(len(parts)), [len(own) for _, own in parts])
        marks = np.zeros((len(parts), len(parts)), np.bool_)
        mark_pairs(flat, _boxes(flat), np.abs(signed_uv_areas(flat)), labels, SHARED, MOST_PAIRS, marks)
        for one, two in zip(*np.nonzero(marks), strict=True):
            results.setdefault(parts[one][0], set()).add(parts[two][0])
    others = {first: {key for other in results[first] for key in alike[other]} for first in alike if first in results}
    return {
        key: tuple(sorted(others[first] - {key}))[:MOST_NAMED]
        for first, keys in alike.items()
        if first in others
        for key in keys
    }


def marked_overlaps(flat: NDArray[np.float64]) -> NDArray[np.bool_]:
    """Return which flat triangles, shape (T, 3, 2), lie on others of them."""
    flat = np.ascontiguousarray(flat)
    mark = np.zeros(len(flat), np.bool_)
    mark_overlapping(flat, _boxes(flat), np.abs(signed_uv_areas(flat)), SHARED, MOST_MARKED, mark)
    return mark


def overlapping_triangles(scene: Scene, items: Sequence[Object]) -> dict[str, NDArray[np.bool_]]:
    """Return for each object which of its triangles, (T,), lie on others in the UV sets that its materials read.

    Triangles are compared within the object and with other objects of the same material; copies of one mesh count once.
    """
    known: dict[object, list[str]] = {}
    for item in items:
        known.setdefault(scene.instance_key(item), []).append(item.key)
    keys = [own[0] for own in known.values()]
    every = [corners_of(scene, scene.object(key)) for key in keys]
    marks = [np.zeros(len(one.material), np.bool_) for one in every]
    for material in sorted({index for one in every for index in np.unique(one.material).tolist()}):
        chosen = [(one.material == material) & np.isfinite(one.source).all(axis=(1, 2)) for one in every]
        mark = marked_overlaps(np.concatenate([one.source[own] for one, own in zip(every, chosen, strict=True)]))
        first = 0
        for own, result in zip(chosen, marks, strict=True):
            result[own] = mark[first : first + int(own.sum())]
            first += int(own.sum())
    return {key: result for own, result in zip(known.values(), marks, strict=True) for key in own}
