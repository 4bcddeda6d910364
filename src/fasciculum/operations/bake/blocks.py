"""Blocks texel for texel: normals go over as they are stored, since to work them out again would round them anew."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.model.choices import Treatment
from fasciculum.model.layout import Layout
from fasciculum.model.scene import Image, Scene
from fasciculum.treatments.regions import AtlasRegion, corners, transform_uvs
from fasciculum.treatments.resolved import ResolvedBundle

#: how far a block may lie off the grid and still be on it, texels
NEAR = 1e-3


def keep_normals(
    scene: Scene, on: ResolvedBundle, layout: Layout, pixels: NDArray[Any], read: Callable[[Image], NDArray[Any]]
) -> None:
    """Copy normals of blocks that lie texel for texel into a baked normal map, turned by quarters as the block is.

    Parameters
    ----------
    pixels : ndarray, shape (H, W, 3)
        The map at the sheet's size; changed in place.
    read : callable
        Returns an image's stored values.
    """
    if pixels.dtype.kind != "u" or pixels.shape[:2] != (layout.height, layout.across):
        return
    for patch in on.patches:
        if patch.way is Treatment.BAKE:
            _keep_one(scene, patch, layout, pixels, read)


def _keep_one(
    scene: Scene, patch: AtlasRegion, layout: Layout, pixels: NDArray[Any], read: Callable[[Image], NDArray[Any]]
) -> None:
    material = scene.materials[patch.material]
    slot = material.normal
    if slot is None or scene.images[slot.image].missing or material.normal_scale != 1:
        return
    source = read(scene.images[slot.image])
    if source.dtype != pixels.dtype or source.shape[2] < 3:
        return
    row = layout.placements[layout.starts[layout.surface_of(patch.key)]].reshape(2, 3)
    turn = np.round(row[:, :2] / patch.density)
    size = np.array([source.shape[1], source.shape[0]], np.float64)
    # one texel of the sheet for one of the texture, on the grid
    steps = row[:, :2] @ np.diag(1 / (np.diag(patch.uvs[:, :2]) * size))
    if np.abs(steps - turn).max() > NEAR or abs(np.linalg.det(turn) - 1) > NEAR:
        return
    places = transform_uvs(corners(patch).reshape(-1, 2), row)
    low, high = places.min(axis=0), places.max(axis=0)
    if np.abs(places - np.round(places)).max() > NEAR:
        return
    left, top, right, bottom = (round(float(value)) for value in (*low, *high))
    rows, columns = np.mgrid[top:bottom, left:right]
    middles = np.stack([columns.ravel() + 0.5, rows.ravel() + 0.5], axis=1)
    inverse = np.linalg.inv(row[:, :2])
    flat = (middles - row[:, 2]) @ inverse.T
    at = np.floor(transform_uvs(flat, patch.uvs) * size).astype(np.int64) % size.astype(np.int64)
    stored = np.asarray(source[at[:, 1], at[:, 0], :3]).astype(np.int64)
    most = int(np.iinfo(pixels.dtype).max)
    # green points up, and images down
    across, down = stored[:, 0].copy(), most - stored[:, 1]
    for axis, (one, two) in enumerate(turn.astype(int).tolist()):
        value = across if one else down
        value = value if (one or two) > 0 else most - value
        stored[:, axis] = value if axis == 0 else most - value
    pixels[top:bottom, left:right] = stored.reshape(bottom - top, right - left, 3).astype(pixels.dtype)
