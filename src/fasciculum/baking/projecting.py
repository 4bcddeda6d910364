"""Layers' projections: where places of a surface lie on a layer's textures, side by side and softly between."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fasciculum.model.layers import Layer, LayerProjection
from fasciculum.uv.projection import CAP, PLANES, POLE

#: part of the greatest component of a normal within which two sides of a box are mixed
SOFT = 0.3
#: half of the width, as a cosine and in radians, in which a cylinder's ends and a sphere's poles go over into its side
SOFT_CAP, SOFT_POLE = 0.08, 0.12
Vectors = NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class ProjectedPart:
    """One side of a projection, at those of N places that see it.

    Attributes
    ----------
    rows : ndarray of int64, shape (K,)
    weight : ndarray of float64, shape (K,)
        Of this side; those of all sides are 1 together.
    uv : ndarray of float64, shape (K, 2)
        In repeats, v down.
    along, down : ndarray of float64, shape (K, 3)
        The ways that u and v go, of length 1, in the object's own axes.
    lengths : ndarray of float64, shape (K, 2)
        What one repeat stands for, metres.
    """

    rows: NDArray[np.int64]
    weight: Vectors
    uv: Vectors
    along: Vectors
    down: Vectors
    lengths: Vectors


@dataclass(frozen=True, eq=False)
class Bodies:
    """The objects that places belong to, as layers see them, in their own axes; a row for each place.

    Attributes
    ----------
    low, high : ndarray of float64, shape (N, 3)
        The box about the object, in metres of the world along its own axes.
    hand : ndarray of float64, shape (N,)
        -1 where it is mirrored in the world, so that textures are not.
    offset : ndarray of float64, shape (N, 2)
        Of the layer on that object, in repeats.
    turn : ndarray of float64, shape (N,)
        Of the layer on that object, radians.
    """

    low: Vectors
    high: Vectors
    hand: Vectors
    offset: Vectors
    turn: Vectors


def parts_of(layer: Layer, bodies: Bodies, places: Vectors, normals: Vectors) -> Iterator[ProjectedPart]:
    """Yield the sides of a layer's projection at places of objects.

    Parameters
    ----------
    layer : Layer
        Projected by anything but texture coordinates.
    bodies : Bodies
    places : ndarray of float64, shape (N, 3)
        Metres of the world along the object's own axes.
    normals : ndarray of float64, shape (N, 3)
        In the object's own axes.
    """
    sides = {
        LayerProjection.BOX: _box,
        LayerProjection.PLANE: _plane,
        LayerProjection.CYLINDER: _cylinder,
        LayerProjection.SPHERE: _sphere,
    }[layer.projection]
    for weight, metric, along, down, lengths in sides(layer, bodies, places, normals):
        rows = np.flatnonzero(weight > 0)
        if len(rows):
            along, down = np.broadcast_to(along, places.shape)[rows], np.broadcast_to(down, places.shape)[rows]
            own = np.broadcast_to(lengths, (len(places), 2))[rows]
            uv, along, down = turned(metric[rows] / own, along, down, bodies.turn[rows])
            yield ProjectedPart(rows, weight[rows], uv + bodies.offset[rows], along, down, own)


def turned(uv: Vectors, along: Vectors, down: Vectors, angle: Vectors) -> tuple[Vectors, Vectors, Vectors]:
    """Return coordinates and their ways for a texture that is turned anticlockwise, by radians (N,)."""
    if not angle.any():
        return uv, along, down
    c, s = np.cos(angle)[:, None], np.sin(angle)[:, None]
    u, v = uv[:, :1], uv[:, 1:]
    return np.concatenate([c * u - s * v, s * u + c * v], axis=1), c * along - s * down, s * along + c * down


_Side = tuple[Vectors, Vectors, Vectors, Vectors, Vectors]


def _flat(layer: Layer, bodies: Bodies, places: Vectors, side: int) -> tuple[Vectors, Vectors, Vectors, Vectors]:
    """Return metric coordinates on one side of the box, the ways of u and v, and the lengths of a repeat."""
    along, down = PLANES[side, 0] * bodies.hand[:, None], np.broadcast_to(PLANES[side, 1], places.shape)
    metric = np.stack([(places * along).sum(axis=1), places @ PLANES[side, 1]], axis=1)
    if layer.metres is not None:
        return metric, along, down, np.array([layer.metres, layer.metres])
    ends = [
        np.stack([(corner * way).sum(axis=1) for way in (along, down)], axis=1) for corner in (bodies.low, bodies.high)
    ]
    first = np.minimum(*ends)
    size = np.maximum(np.abs(ends[1] - ends[0]), 1e-12)
    return metric - first, along, down, size / np.array(layer.repeats)


def _box(layer: Layer, bodies: Bodies, places: Vectors, normals: Vectors) -> Iterator[_Side]:
    sizes = np.abs(normals)
    most = np.maximum(sizes.max(axis=1, keepdims=True), 1e-12)
    weights = np.maximum(sizes / most - (1.0 - SOFT), 0.0)
    weights /= weights.sum(axis=1, keepdims=True)
    for axis in range(3):
        for negative in (False, True):
            weight = np.where((normals[:, axis] < 0) == negative, weights[:, axis], 0.0)
            yield weight, *_flat(layer, bodies, places, 2 * axis + negative)


def _plane(layer: Layer, bodies: Bodies, places: Vectors, normals: Vectors) -> Iterator[_Side]:
    axis = layer.axis.number
    for negative in (False, True):
        weight = ((normals[:, axis] < 0) == negative).astype(np.float64)
        yield weight, *_flat(layer, bodies, places, 2 * axis + negative)


@dataclass(frozen=True, eq=False)
class _Round:
    """Places about an axis through the middle of their boxes: angles, coordinates, ways, and whole repeats around."""

    angle: Vectors
    x: Vectors
    y: Vectors
    z: Vectors
    around: Vectors
    radius: Vectors
    way: Vectors
    one: Vectors
    up: Vectors
    front: Vectors


def _round(layer: Layer, bodies: Bodies, places: Vectors) -> _Round:
    axis = layer.axis.number
    one, up, front = np.eye(3)[[(axis - 1) % 3, axis, (axis + 1) % 3]]
    from_middle = places - (bodies.low + bodies.high) / 2
    x, y, z = from_middle @ one, from_middle @ up, from_middle @ front
    radius = np.maximum((bodies.high - bodies.low) @ (one + front) / 4, 1e-9)
    around = np.full(len(places), layer.repeats[0])
    if layer.metres is not None:
        around = np.maximum(np.round(2 * math.pi * radius / layer.metres), 1.0)
    angle = np.arctan2(x, z)
    way = np.cos(angle)[:, None] * one - np.sin(angle)[:, None] * front
    return _Round(angle, x, y, z, around, radius, way * bodies.hand[:, None], one, up, front)


def _cylinder(layer: Layer, bodies: Bodies, places: Vectors, normals: Vectors) -> Iterator[_Side]:
    at = _round(layer, bodies, places)
    tall = np.maximum((bodies.high - bodies.low) @ at.up, 1e-12)
    level = places @ at.up
    if layer.metres is not None:
        length, down = np.full(len(places), layer.metres), -level
    else:
        length, down = tall / layer.repeats[1], bodies.high @ at.up - level
    lengths = np.stack([2 * math.pi * at.radius / at.around, length], axis=1)
    facing = normals @ at.up
    ends = np.clip((np.abs(facing) - CAP) / (2 * SOFT_CAP) + 0.5, 0.0, 1.0)
    yield 1.0 - ends, np.stack([at.angle * at.radius * bodies.hand, down], axis=1), at.way, -at.up, lengths
    for sign in (1.0, -1.0):
        weight = np.where(facing * sign > 0, ends, 0.0)
        along = at.one * bodies.hand[:, None]
        yield weight, np.stack([at.x * bodies.hand, at.z * sign], axis=1), along, at.front * sign, lengths


def _sphere(layer: Layer, bodies: Bodies, places: Vectors, normals: Vectors) -> Iterator[_Side]:
    at = _round(layer, bodies, places)
    radius = np.maximum((bodies.high - bodies.low).mean(axis=1) / 2, 1e-9)
    latitude = np.arctan2(at.y, np.hypot(at.x, at.z))
    # from the top where repeats are told, from the middle where metres are
    if layer.metres is not None:
        length, down = np.full(len(places), layer.metres), -latitude * radius
    else:
        length, down = math.pi * radius / layer.repeats[1], (math.pi / 2 - latitude) * radius
    lengths = np.stack([2 * math.pi * radius / at.around, length], axis=1)
    poles = np.clip((np.abs(latitude) - POLE) / (2 * SOFT_POLE) + 0.5, 0.0, 1.0)
    yield 1.0 - poles, np.stack([at.angle * radius * bodies.hand, down], axis=1), at.way, -at.up, lengths
    away = (np.pi / 2 - np.abs(latitude)) * radius
    for sign in (1.0, -1.0):
        weight = np.where(latitude * sign > 0, poles, 0.0)
        flat = np.stack([np.sin(at.angle) * away * bodies.hand, np.cos(at.angle) * away * sign], axis=1)
        yield weight, flat, at.one * bodies.hand[:, None], at.front * sign, lengths
