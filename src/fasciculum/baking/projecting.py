"""Layers' projections: where places of a surface lie on a layer's textures, side by side and softly between."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fasciculum.model.layers import Layer, LayerProjection, placing_of
from fasciculum.uv.projection import CAP, PLANES, POLE

#: part of the greatest component of a normal within which two sides of a box are mixed
SOFT = 0.3
#: half of the width, as a cosine and in radians, in which a cylinder's ends and a sphere's poles go over into its side
SOFT_CAP, SOFT_POLE = 0.08, 0.12
Vectors = NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class Part:
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
    lengths : (float, float)
        What one repeat stands for, metres.
    """

    rows: NDArray[np.int64]
    weight: Vectors
    uv: Vectors
    along: Vectors
    down: Vectors
    lengths: tuple[float, float]


@dataclass(frozen=True, eq=False)
class Body:
    """An object as layers see it, in its own axes.

    Attributes
    ----------
    low, high : ndarray of float64, shape (3,)
        The box about it, in metres of the world along its own axes.
    hand : float
        -1 when it is mirrored in the world, so that textures are not.
    key : str
    """

    low: Vectors
    high: Vectors
    hand: float = 1.0
    key: str = ""


def parts_of(layer: Layer, body: Body, places: Vectors, normals: Vectors) -> Iterator[Part]:
    """Yield the sides of a layer's projection at places of an object.

    Parameters
    ----------
    layer : Layer
        Projected by anything but texture coordinates.
    body : Body
    places : ndarray of float64, shape (N, 3)
        Metres of the world along the object's own axes.
    normals : ndarray of float64, shape (N, 3)
        In the object's own axes.
    """
    offset, turn = placing_of(layer, body.key)
    sides = {
        LayerProjection.BOX: _box,
        LayerProjection.PLANE: _plane,
        LayerProjection.CYLINDER: _cylinder,
        LayerProjection.SPHERE: _sphere,
    }[layer.projection]
    for weight, metric, along, down, lengths in sides(layer, body, places, normals):
        rows = np.flatnonzero(weight > 0)
        if len(rows):
            flat = metric[rows] / np.array(lengths)
            along, down = np.broadcast_to(along, places.shape)[rows], np.broadcast_to(down, places.shape)[rows]
            uv, along, down = turned(flat, along, down, turn)
            yield Part(rows, weight[rows], uv + np.array(offset), along, down, lengths)


def turned(uv: Vectors, along: Vectors, down: Vectors, degrees: float) -> tuple[Vectors, Vectors, Vectors]:
    """Return coordinates and their ways for a texture that is turned anticlockwise."""
    if degrees % 360.0 == 0.0:
        return uv, along, down
    c, s = math.cos(math.radians(degrees)), math.sin(math.radians(degrees))
    u, v = uv[:, 0], uv[:, 1]
    return np.stack([c * u - s * v, s * u + c * v], axis=1), c * along - s * down, s * along + c * down


_Side = tuple[Vectors, Vectors, Vectors, Vectors, tuple[float, float]]


def _flat(
    layer: Layer, body: Body, places: Vectors, side: int
) -> tuple[Vectors, Vectors, Vectors, tuple[float, float]]:
    """Return metric coordinates on one side of the box, the ways of u and v, and the lengths of a repeat."""
    along, down = PLANES[side, 0] * body.hand, PLANES[side, 1]
    metric = np.stack([places @ along, places @ down], axis=1)
    if layer.metres is not None:
        return metric, along, down, (layer.metres, layer.metres)
    corners = np.stack([np.stack([body.low @ way, body.high @ way]) for way in (along, down)])
    first, size = corners.min(axis=1), np.maximum(np.ptp(corners, axis=1), 1e-12)
    lengths = float(size[0]) / layer.repeats[0], float(size[1]) / layer.repeats[1]
    return metric - first, along, down, lengths


def _box(layer: Layer, body: Body, places: Vectors, normals: Vectors) -> Iterator[_Side]:
    sizes = np.abs(normals)
    most = np.maximum(sizes.max(axis=1, keepdims=True), 1e-12)
    weights = np.maximum(sizes / most - (1.0 - SOFT), 0.0)
    weights /= weights.sum(axis=1, keepdims=True)
    for axis in range(3):
        for negative in (False, True):
            weight = np.where((normals[:, axis] < 0) == negative, weights[:, axis], 0.0)
            yield weight, *_flat(layer, body, places, 2 * axis + negative)


def _plane(layer: Layer, body: Body, places: Vectors, normals: Vectors) -> Iterator[_Side]:
    axis = layer.axis.number
    for negative in (False, True):
        weight = ((normals[:, axis] < 0) == negative).astype(np.float64)
        yield weight, *_flat(layer, body, places, 2 * axis + negative)


def _roles(layer: Layer, body: Body) -> tuple[Vectors, Vectors, Vectors, Vectors]:
    """Return the three ways of a round projection, the second being its axis, and its middle."""
    axis = layer.axis.number
    ways = np.eye(3)[[(axis - 1) % 3, axis, (axis + 1) % 3]]
    return ways[0], ways[1], ways[2], (body.low + body.high) / 2


def _round(
    layer: Layer, body: Body, places: Vectors
) -> tuple[Vectors, Vectors, Vectors, Vectors, float, float, Vectors, Vectors, Vectors]:
    """Return angles, coordinates across, along and forwards from the middle, a radius, whole repeats, and the ways."""
    one, up, front, middle = _roles(layer, body)
    from_middle = places - middle
    x, y, z = from_middle @ one, from_middle @ up, from_middle @ front
    size = (body.high - body.low) / 2
    radius = max(float((size @ one + size @ front) / 2), 1e-9)
    around = layer.repeats[0]
    if layer.metres is not None:
        around = max(round(2 * math.pi * radius / layer.metres), 1)
    return np.arctan2(x, z), x, y, z, radius, around, one, up, front


def _cylinder(layer: Layer, body: Body, places: Vectors, normals: Vectors) -> Iterator[_Side]:
    angle, x, _, z, radius, around, one, up, front = _round(layer, body, places)
    high, tall = float(body.high @ up), max(float((body.high - body.low) @ up), 1e-12)
    lengths = (2 * math.pi * radius / around, tall / layer.repeats[1])
    level = places @ up
    down = high - level
    if layer.metres is not None:
        lengths, down = (lengths[0], layer.metres), -level
    facing = normals @ up
    ends = np.clip((np.abs(facing) - CAP) / (2 * SOFT_CAP) + 0.5, 0.0, 1.0)
    way = np.cos(angle)[:, None] * one - np.sin(angle)[:, None] * front
    flat = np.stack([angle * radius * body.hand, down], axis=1)
    yield 1.0 - ends, flat, way * body.hand, -up, lengths
    for sign in (1.0, -1.0):
        weight = np.where(facing * sign > 0, ends, 0.0)
        yield weight, np.stack([x * body.hand, z * sign], axis=1), one * body.hand, front * sign, lengths


def _sphere(layer: Layer, body: Body, places: Vectors, normals: Vectors) -> Iterator[_Side]:
    angle, x, y, z, _, around, one, up, front = _round(layer, body, places)
    radius = max(float((body.high - body.low).mean() / 2), 1e-9)
    latitude = np.arctan2(y, np.hypot(x, z))
    lengths = (2 * math.pi * radius / around, layer.metres or math.pi * radius / layer.repeats[1])
    # from the top where repeats are told, from the middle where metres are
    down = ((math.pi / 2 if layer.metres is None else 0.0) - latitude) * radius
    poles = np.clip((np.abs(latitude) - POLE) / (2 * SOFT_POLE) + 0.5, 0.0, 1.0)
    way = np.cos(angle)[:, None] * one - np.sin(angle)[:, None] * front
    yield 1.0 - poles, np.stack([angle * radius * body.hand, down], axis=1), way * body.hand, -up, lengths
    for sign in (1.0, -1.0):
        weight = np.where(latitude * sign > 0, poles, 0.0)
        away = (np.pi / 2 - np.abs(latitude)) * radius
        flat = np.stack([np.sin(angle) * away * body.hand, np.cos(angle) * away * sign], axis=1)
        yield weight, flat, one * body.hand, front * sign, lengths
