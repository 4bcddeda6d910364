"""What casts: triangles in the world in a tree, and where alpha-masked ones let rays through."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.kernels.rays.bvh import (
    BOUNDS_BYTES,
    DEEPEST,
    EMPTY,
    HALVES,
    LEAF,
    NODE_BYTES,
    build_tree,
    fill_blocks,
    measure_boxes,
    widen_tree,
)
from fasciculum.kernels.rays.intersection import BOXES
from fasciculum.model.choices import AlphaMode
from fasciculum.model.scene import MASK, OPAQUE, Image, Object, Primitive, Scene, TextureSlot
from fasciculum.progress import SILENT, Progress
from fasciculum.threads import in_pieces

#: bounds, links, blocks, cuts, uvs, alphas, sizes: as `fasciculum.kernels.rays.bvh.any_hit` takes them
Tree = tuple[NDArray[Any], ...]
#: bytes of a cache line
LINE = 64


def triangles_of(scene: Scene, item: Object, primitive: Primitive) -> NDArray[np.float32]:
    """Return a primitive's triangles in the world, (T, 3, 3), with their fronts outside on mirrored nodes too."""
    world = scene.nodes[item.node].world
    corners = primitive.positions.astype(np.float64)[primitive.triangles] @ world[:3, :3].T + world[:3, 3]
    result: NDArray[np.float32] = np.ascontiguousarray(fix_winding(scene, item, corners), np.float32)
    return result


def casting_items(whole: Scene, keys: Iterable[str], *, everything: bool = False) -> list[tuple[Scene, str]]:
    """Return what casts in the place of objects: the high-poly partners of those that have any, themselves else.

    With ``everything`` high-poly objects are there too that are read into nothing.
    """
    results: dict[tuple[bool, str], tuple[Scene, str]] = {}
    detail = whole.detail
    for key in keys:
        partners = whole.read_into(key)
        for other in partners:
            assert detail is not None
            results[True, other] = detail.scene, other
        if not partners:
            results[False, key] = whole, key
    if everything and detail is not None:
        for item in detail.scene.objects:
            results[True, item.key] = detail.scene, item.key
    return list(results.values())


def fix_winding(scene: Scene, item: Object, corners: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return values at corners, (T, 3, N), in the order that has fronts outside on mirrored nodes too."""
    mirrored = np.linalg.det(scene.nodes[item.node].world[:3, :3]) < 0
    return corners[:, [0, 2, 1]] if mirrored else corners


def _cutting_slot(scene: Scene, primitive: Primitive) -> TextureSlot | None:
    """Return the texture whose opacity cuts holes into a primitive, None for one that is whole."""
    material = scene.material_of(primitive)
    slot = material.base_color
    if material.alpha_mode != MASK or slot is None or not primitive.has_uv(slot.uv_set):
        return None
    image = scene.images[slot.image]
    return slot if image.has_alpha and not image.missing else None


def tree_of(
    items: Iterable[tuple[Scene, str]],
    pixels: Callable[[Image], NDArray[Any]] | None,
    *,
    modes: Collection[AlphaMode] = (OPAQUE, MASK),
    progress: Progress = SILENT,
) -> tuple[Tree, NDArray[np.int64]]:
    """Return a tree over the surfaces of objects: what is masked is there only where it is not cut out.

    Parameters
    ----------
    items : iterable of (Scene, str)
        Objects by their keys.
    pixels : callable
        Returns an image's stored values, shape (H, W, C); without it nothing is cut out.
    modes : collection of AlphaMode
        What of these is there; what is blended stops no ray by itself.
    progress : Progress
        Only heard, not told.

    Returns
    -------
    tree : Tree
    numbers : ndarray of int64
        For each place of the tree which triangle lies there, counted over all objects' primitives in order; -1 where
        there is none.
    """
    parts, cuts, uvs = [np.zeros((0, 3, 3), np.float32)], [np.zeros(0, np.int32)], [np.zeros((0, 6), np.float32)]
    counted = [np.zeros(0, np.int64)]
    tables: dict[tuple[int, int], int] = {}
    alphas: list[NDArray[np.float32]] = []
    sizes: list[tuple[float, float, float, float]] = []
    start, passed = 0, 0
    for scene, key in items:
        item = scene.object(key)
        for primitive in scene.primitives_of(item):
            material = scene.material_of(primitive)
            first, passed = passed, passed + len(primitive.triangles)
            if material.alpha_mode not in modes or not len(primitive.triangles):
                continue
            progress.check()
            corners = triangles_of(scene, item, primitive)
            counted.append(np.arange(first, passed))
            kind, read = -1, np.zeros((len(corners), 6), np.float32)
            slot = _cutting_slot(scene, primitive)
            if slot is not None and pixels is not None:
                known = id(scene), primitive.material
                if known not in tables:
                    image = np.asarray(pixels(scene.images[slot.image]))
                    most = float(np.iinfo(image.dtype).max)
                    alpha = image[..., 3].astype(np.float32) / most * material.base_color_factor[3]
                    tables[known] = len(sizes)
                    sizes.append((float(start), float(image.shape[1]), float(image.shape[0]), material.alpha_cutoff))
                    alphas.append(alpha.ravel())
                    start += alpha.size
                kind = tables[known]
                read = fix_winding(scene, item, primitive.read_through(slot)).reshape(-1, 6).astype(np.float32)
            parts.append(corners)
            cuts.append(np.full(len(corners), kind, np.int32))
            uvs.append(read)
    return tree_over(
        np.concatenate(parts),
        np.concatenate(cuts),
        np.concatenate(uvs),
        np.concatenate(alphas) if alphas else np.zeros(1, np.float32),
        np.array(sizes, np.float64).reshape(-1, 4),
        np.concatenate(counted),
        progress.quiet(),
    )


#: parts that a tree is built in side by side, and triangles of each at least
SIDE_BY_SIDE, LEAST_PART = 16, 4096


def _room(count: int) -> list[NDArray[Any]]:
    """Return room for a binary tree over so many triangles: boxes, children, starts, counts."""
    size = max(2 * count, 2)
    return [
        np.empty((size, 6), np.float32),
        np.full((size, 2), -1, np.int64),
        np.zeros(size, np.int64),
        np.zeros(size, np.int64),
    ]


def _binary(corners: NDArray[np.float32], progress: Progress) -> tuple[NDArray[np.int64], list[NDArray[Any]]]:
    """Return triangles leaf by leaf, and a binary tree over them; its lower parts are built side by side."""
    count = len(corners)
    order = np.arange(count)
    low, high, middle = (np.empty((count, 3), np.float32) for _ in range(3))
    step = max(-(-count // SIDE_BY_SIDE), LEAST_PART)
    spans = [(first, min(first + step, count)) for first in range(0, count, step)]
    in_pieces(lambda span: measure_boxes(corners, *span, low, high, middle), spans, progress=progress)
    # at each level fewer than so many parts are still to be parted, however unevenly
    top = _room(SIDE_BY_SIDE * (DEEPEST + HALVES) if count > step else 1)
    made = build_tree(low, high, middle, order, 0, count, 0, step, *top) if count > step else 1
    if count <= step:
        top[2][0], top[3][0], top[1][0] = 0, count, (-1, 0)
    top = [part[:made] for part in top]
    ends = np.flatnonzero(top[3] > 0).tolist()
    below: dict[int, list[NDArray[Any]]] = {}

    def build(end: int) -> None:
        first, many = int(top[2][end]), int(top[3][end])
        room = _room(many)
        leading = (low, high, middle, order, first, first + many, int(top[1][end, 1]), LEAF)
        own = build_tree(*leading, *room)
        below[end] = [part[:own] for part in room]

    in_pieces(build, ends, progress=progress)
    parts, size = [top], made
    for end in ends:
        boxes, children, starts, counts = below[end]
        children = np.where(children >= 0, children + size - 1, children)
        for whole, part in zip(top, (boxes, children, starts, counts), strict=True):
            whole[end] = part[0]
        parts.append([boxes[1:], children[1:], starts[1:], counts[1:]])
        size += len(boxes) - 1
    return order, [np.ascontiguousarray(np.concatenate(columns)) for columns in zip(*parts, strict=True)]


def _nodes(count: int) -> tuple[NDArray[np.float32], NDArray[np.int32]]:
    """Return room for nodes: their bounds, (N, 6, BOXES), and links, (N, BOXES), in one place and whole cache lines."""
    size = count * NODE_BYTES
    raw = np.empty(size + LINE, np.uint8)
    first = -raw.ctypes.data % LINE
    whole = raw[first : first + size].reshape(count, NODE_BYTES)
    bounds = whole[:, :BOUNDS_BYTES].view(np.float32).reshape(count, 6, BOXES)
    return bounds, whole[:, BOUNDS_BYTES : BOUNDS_BYTES + 4 * BOXES].view(np.int32)


def tree_over(
    corners: NDArray[np.float32],
    cuts: NDArray[np.int32],
    uvs: NDArray[np.float32],
    alphas: NDArray[np.float32],
    sizes: NDArray[np.float64],
    counted: NDArray[np.int64],
    progress: Progress = SILENT,
) -> tuple[Tree, NDArray[np.int64]]:
    """Return a tree over triangles in the world, (T, 3, 3), and which of ``counted`` (T,) lies at each of its places.

    ``cuts`` (T,) says which row of ``sizes`` tells where a triangle is cut out, -1 for nowhere: start in ``alphas``,
    width, height, cut-off; ``uvs`` (T, 6) are the coordinates of its corners there.
    """
    whole = np.isfinite(corners).all(axis=(1, 2))
    if not whole.all():
        corners, cuts, uvs, counted = np.ascontiguousarray(corners[whole]), cuts[whole], uvs[whole], counted[whole]
    count = len(corners)
    if not count:
        # one node without children
        bounds, links = _nodes(1)
        bounds[:, :3], bounds[:, 3:], links[:] = np.inf, -np.inf, EMPTY
        return (bounds, links, np.empty((0, 9, 4), np.float32), cuts, uvs, alphas, sizes), counted
    order, (boxes, children, starts, counts) = _binary(corners, progress)
    progress.check()
    made = len(boxes)
    # a node of several children stands for as many splits
    bounds, links = _nodes((made + 1) // 2 + 1)
    wide = widen_tree(boxes, children, starts, counts, bounds, links)
    bounds, links = bounds[:wide], links[:wide]
    # a ray's origin is rounded where boxes are met: they are wider by as much, so that none slips between two
    around = np.float32(4e-7) * np.abs(corners).max()
    bounds[:, :3] -= around
    bounds[:, 3:] += around
    blocks, which = np.empty((count, 9, 4), np.float32), np.empty((count, 4), np.int64)
    progress.check()
    filled = fill_blocks(corners, order, links, blocks, which)
    numbers = which[:filled].reshape(-1)
    own = np.maximum(numbers, 0)
    tree = (
        bounds,
        links,
        np.ascontiguousarray(blocks[:filled]),
        np.where(numbers >= 0, cuts[own], np.int32(-1)),
        np.ascontiguousarray(uvs[own]),
        alphas,
        sizes,
    )
    return tree, np.where(numbers >= 0, counted[own], -1)
