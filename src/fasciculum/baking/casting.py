"""What casts: triangles in the world in a tree, and where alpha-masked ones let rays through."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.kernels.bvh import build_tree, fill_blocks, widen_tree
from fasciculum.model.scene import BLEND, MASK, Image, Object, Primitive, Scene

#: bounds, links, blocks, cuts, uvs, alphas, sizes: as `fasciculum.kernels.bvh.any_hit` takes them
Tree = tuple[NDArray[Any], ...]


def triangles_of(scene: Scene, item: Object, primitive: Primitive) -> NDArray[np.float32]:
    """Return a primitive's triangles in the world, (T, 3, 3), with their fronts outside on mirrored nodes too."""
    world = scene.nodes[item.node].world
    corners = primitive.positions.astype(np.float64)[primitive.triangles] @ world[:3, :3].T + world[:3, 3]
    if np.linalg.det(world[:3, :3]) < 0:
        corners = corners[:, [0, 2, 1]]
    found: NDArray[np.float32] = np.ascontiguousarray(corners, np.float32)
    return found


def tree_of(scene: Scene, keys: Iterable[str], pixels: Callable[[Image], NDArray[Any]]) -> Tree:
    """Return a tree over the surfaces of objects: what is blended casts nothing, what is masked only where it is.

    Parameters
    ----------
    pixels : callable
        Returns an image's stored values, shape (H, W, C).
    """
    parts, cuts, uvs = [np.zeros((0, 3, 3), np.float32)], [np.zeros(0, np.int32)], [np.zeros((0, 6), np.float32)]
    tables: dict[int, int] = {}
    alphas: list[NDArray[np.float32]] = []
    sizes: list[tuple[float, float, float, float]] = []
    start = 0
    for key in keys:
        item = scene.object(key)
        for primitive in scene.primitives_of(item):
            material = scene.material_of(primitive)
            if material.alpha_mode == BLEND or not len(primitive.triangles):
                continue
            corners = triangles_of(scene, item, primitive)
            kind, read = -1, np.zeros((len(corners), 6), np.float32)
            slot = material.base_color
            masked = material.alpha_mode == MASK and slot is not None and not scene.images[slot.image].missing
            if masked and slot is not None and scene.images[slot.image].has_alpha and primitive.has_uv(slot.uv_set):
                if primitive.material not in tables:
                    image = np.asarray(pixels(scene.images[slot.image]))
                    most = float(np.iinfo(image.dtype).max)
                    alpha = image[..., 3].astype(np.float32) / most * material.base_color_factor[3]
                    tables[primitive.material] = len(sizes)
                    sizes.append((float(start), float(image.shape[1]), float(image.shape[0]), material.alpha_cutoff))
                    alphas.append(alpha.ravel())
                    start += alpha.size
                kind = tables[primitive.material]
                matrix = slot.matrix()
                plain = primitive.uv_sets[slot.uv_set].astype(np.float64)[primitive.triangles]
                moved = plain @ matrix[:, :2].T + matrix[:, 2]
                if np.linalg.det(scene.nodes[item.node].world[:3, :3]) < 0:
                    moved = moved[:, [0, 2, 1]]
                read = moved.reshape(-1, 6).astype(np.float32)
            parts.append(corners)
            cuts.append(np.full(len(corners), kind, np.int32))
            uvs.append(read)
    return _tree(
        np.concatenate(parts),
        np.concatenate(cuts),
        np.concatenate(uvs),
        np.concatenate(alphas) if alphas else np.zeros(1, np.float32),
        np.array(sizes, np.float64).reshape(-1, 4),
    )


def _tree(
    corners: NDArray[np.float32],
    cuts: NDArray[np.int32],
    uvs: NDArray[np.float32],
    alphas: NDArray[np.float32],
    sizes: NDArray[np.float64],
) -> Tree:
    whole = np.isfinite(corners).all(axis=(1, 2))
    corners, cuts, uvs = np.ascontiguousarray(corners[whole]), cuts[whole], uvs[whole]
    count = len(corners)
    room = max(2 * count, 2)
    order = np.empty(count, np.int64)
    boxes = np.full((room, 6), np.nan, np.float32)
    children, starts = np.full((room, 2), -1, np.int64), np.zeros(room, np.int64)
    counts = np.zeros(room, np.int64)
    made = build_tree(corners, order, boxes, children, starts, counts)
    bounds, links = np.empty((made, 6, 4), np.float32), np.empty((made, 4), np.int32)
    wide = widen_tree(boxes[:made], children, starts, counts, bounds, links) if count else 0
    if not count:
        bounds[:, :3], bounds[:, 3:] = np.inf, -np.inf
        links[:] = -(2**31)
        wide = 1
    # a ray's origin is rounded where boxes are met: they are wider by as much, so that none slips between two
    room_about = np.float32(4e-7) * (np.abs(corners).max() if count else np.float32(0.0))
    bounds[:, :3] -= room_about
    bounds[:, 3:] += room_about
    bounds, links = np.ascontiguousarray(bounds[:wide]), np.ascontiguousarray(links[:wide])
    blocks, which = np.empty((max(count, 1), 9, 4), np.float32), np.empty((max(count, 1), 4), np.int64)
    filled = fill_blocks(corners, order, links, blocks, which) if count else 0
    numbers = which[:filled].reshape(-1)
    there, own = numbers >= 0, np.maximum(numbers, 0)
    return (
        bounds,
        links,
        np.ascontiguousarray(blocks[:filled]),
        np.where(there, cuts[own], np.int32(-1)) if count else cuts,
        np.ascontiguousarray(uvs[own]) if count else uvs,
        alphas,
        sizes,
    )
