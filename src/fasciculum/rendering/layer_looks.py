"""Layers as the renderer previews them: colour, projection and mask; relief and what rays meet show once baked."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fasciculum.model.layers import Blend, Layer, LayerImage, LayerProjection, MaskKind, placing_of
from fasciculum.model.scene import Object, Scene

#: layers of one object that are previewed at most, the lowest first
MOST = 6
PROJECTIONS = tuple(LayerProjection)
BLENDS = tuple(Blend)
MASKS = tuple(MaskKind)
#: masks that the preview takes as whole
UNSEEN = (MaskKind.IMAGE, MaskKind.AO, MaskKind.CURVATURE)


@dataclass(frozen=True, eq=False)
class Ground:
    """Where an object's own axes lie, and its box in them, in metres of the world."""

    to_own: NDArray[np.float64]
    low: tuple[float, float, float]
    high: tuple[float, float, float]
    hand: float


@dataclass(frozen=True)
class LayerLook:
    """One layer on one object, as the shader has it; four numbers in each of the last."""

    texture: str
    kind: int
    axis: int
    mask: int
    mask_axis: int
    blend: int
    color: tuple[float, float, float, float]
    place: tuple[float, float, float, float]
    scale: tuple[float, float, float, float]
    ramp: tuple[float, float, float, float]


def ground_of(scene: Scene, item: Object) -> Ground:
    """Return where an object's own axes lie."""
    world = scene.nodes[item.node].world
    linear = world[:3, :3]
    scale = np.maximum(np.linalg.norm(linear, axis=0), 1e-12)
    to_own = np.eye(4)
    to_own[:3, :3] = np.diag(scale) @ np.linalg.pinv(linear)
    to_own[:3, 3] = -to_own[:3, :3] @ world[:3, 3]
    points = np.concatenate([one.positions[one.triangles].reshape(-1, 3) for one in scene.primitives_of(item)]) * scale
    low, high = points.min(axis=0).tolist(), points.max(axis=0).tolist()
    return Ground(to_own, tuple(low), tuple(high), -1.0 if np.linalg.det(linear) < 0 else 1.0)  # type: ignore[arg-type]


def look_of(layer: Layer, key: str, textures: dict[LayerImage, str]) -> LayerLook | None:
    """Return how a layer looks on an object, None when the preview has nothing to show of it.

    ``textures`` gives the keys of pictures in the pixel store.
    """
    color = layer.base_color
    if color is None:
        return None
    texture = textures.get(color, "") if isinstance(color, LayerImage) else ""
    if isinstance(color, LayerImage) and not texture:
        return None
    plain = (1.0, 1.0, 1.0) if isinstance(color, LayerImage) else color
    (u, v), turn = placing_of(layer, key)
    mask = layer.mask
    kind = MaskKind.ALL if mask.kind in UNSEEN else mask.kind
    angle = math.radians(turn)
    metres = 0.0 if layer.metres is None or layer.projection is LayerProjection.UV0 else layer.metres
    return LayerLook(
        texture,
        PROJECTIONS.index(layer.projection),
        layer.axis.number,
        MASKS.index(kind),
        mask.axis.number,
        BLENDS.index(layer.blend),
        (*plain, layer.amount),
        (u, v, math.cos(angle), math.sin(angle)),
        (metres, *layer.repeats, 0.0),
        (mask.start, mask.end, float(mask.invert and mask.kind not in UNSEEN), float(mask.channel.number)),
    )
