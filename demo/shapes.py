"""Meshes for the station, as arrays: boxes, lathed and swept shapes, corrugated sheet.

Every shape is a dict of ``positions`` (V, 3) in metres, ``normals`` (V, 3), ``uvs`` (V, 2) and ``triangles`` (T, 3).
UVs run in metres times ``density`` repeats per metre unless a shape says otherwise.
"""

from __future__ import annotations

from itertools import pairwise

import numpy as np


def join(*shapes):
    """Join shapes into one."""
    offsets = np.cumsum([0] + [len(shape["positions"]) for shape in shapes])
    joined = {key: np.concatenate([shape[key] for shape in shapes]) for key in ("positions", "normals", "uvs")}
    joined["triangles"] = np.concatenate(
        [shape["triangles"] + offset for shape, offset in zip(shapes, offsets, strict=False)]
    )
    return joined


def moved(shape, offset=(0, 0, 0), scale=1.0, turn_y=0.0, turn_x=0.0, turn_z=0.0):
    """Return the shape scaled, turned (degrees, about x, then z, then y) and moved."""
    matrix = np.eye(3)
    for axis, angle in ((0, turn_x), (2, turn_z), (1, turn_y)):
        c, s = np.cos(np.radians(angle)), np.sin(np.radians(angle))
        turn = np.eye(3)
        i, j = [(1, 2), (2, 0), (0, 1)][axis]
        turn[i, i] = turn[j, j] = c
        turn[i, j], turn[j, i] = -s, s
        matrix = turn @ matrix
    return {
        **shape,
        "positions": (shape["positions"] * scale) @ matrix.T + np.asarray(offset, float),
        "normals": shape["normals"] @ matrix.T,
    }


def grid(points, uvs, normals=None, flip=False):
    """Make quads from a lattice of points, shape (rows, columns, 3), normals smooth over it unless given."""
    rows, columns = points.shape[:2]
    index = np.arange(rows * columns).reshape(rows, columns)
    a, b, c, d = index[:-1, :-1], index[:-1, 1:], index[1:, 1:], index[1:, :-1]
    triangles = np.stack([np.stack([a, d, c], -1), np.stack([a, c, b], -1)], axis=2).reshape(-1, 3)
    if flip:
        triangles = triangles[:, ::-1]
    if normals is None:
        along, across = np.gradient(points, axis=1), np.gradient(points, axis=0)
        normals = np.cross(across, along)
        if flip:
            normals = -normals
        normals /= np.maximum(np.linalg.norm(normals, axis=-1, keepdims=True), 1e-12)
    return {
        "positions": points.reshape(-1, 3).astype(float),
        "normals": normals.reshape(-1, 3).astype(float),
        "uvs": np.asarray(uvs, float).reshape(-1, 2),
        "triangles": triangles,
    }


def box(width, height, depth, density=1.0, at=(0, 0, 0), faces="xXyYzZ", atlas=None):
    """A box about ``at``; ``atlas`` maps a face's letter to (u0, v0, u1, v1), else UVs are in metres."""
    half = np.array((width, height, depth)) / 2
    specs = {"x": (0, -1), "X": (0, 1), "y": (1, -1), "Y": (1, 1), "z": (2, -1), "Z": (2, 1)}
    right = {"x": (0, 0, 1), "X": (0, 0, -1), "y": (1, 0, 0), "Y": (1, 0, 0), "z": (-1, 0, 0), "Z": (1, 0, 0)}
    parts = []
    for letter in faces:
        axis, sign = specs[letter]
        normal = np.zeros(3)
        normal[axis] = sign
        u = np.array(right[letter], float)
        v = np.cross(normal, u)
        su, sv = abs(u) @ half, abs(v) @ half
        middle = normal * half[axis] + np.asarray(at, float)
        corners = np.array(
            [
                [middle - u * su + v * sv, middle + u * su + v * sv],
                [middle - u * su - v * sv, middle + u * su - v * sv],
            ]
        )
        if atlas is not None:
            u0, v0, u1, v1 = atlas[letter]
        else:
            u0, v0, u1, v1 = 0.0, 0.0, 2 * su * density, 2 * sv * density
        parts.append(grid(corners, [[(u0, v0), (u1, v0)], [(u0, v1), (u1, v1)]], np.broadcast_to(normal, (2, 2, 3))))
    return join(*parts)


def rounded_box(width, height, depth, radius, steps=3, density=1.0, at=(0, 0, 0)):
    """A box about ``at`` whose edges are rounded; UVs in metres, each side by itself."""
    half = np.array((width, height, depth)) / 2
    arc = radius * np.tan(np.linspace(0, np.pi / 4, steps + 1))
    parts = []
    for axis in range(3):
        one, two = (axis + 1) % 3, (axis + 2) % 3
        lines = [np.concatenate([-(half[k] - radius) - arc[::-1], half[k] - radius + arc]) for k in (one, two)]
        for sign in (-1, 1):
            cube = np.empty((len(lines[1]), len(lines[0]), 3))
            cube[..., axis] = sign * half[axis]
            cube[..., one], cube[..., two] = sign * lines[0][None, :], -lines[1][:, None]
            inner = np.clip(cube, radius - half, half - radius)
            normals = cube - inner
            normals /= np.linalg.norm(normals, axis=-1, keepdims=True)
            uvs = np.stack(np.broadcast_arrays(lines[0][None, :], -lines[1][::-1][:, None]), -1) * density + 0.5
            parts.append(grid(inner + radius * normals + np.asarray(at, float), uvs, normals))
    return join(*parts)


def dome(radius, height, segments=16, rings=4, density=1.0):
    """The upper half of a ball squeezed to a height, standing on the xz plane."""
    angle = np.linspace(0, 2 * np.pi, segments + 1)
    rise = np.linspace(np.pi / 2, 0, rings + 1)[:, None]
    out = np.stack([np.cos(angle) * np.cos(rise), np.sin(rise) + 0 * angle, -np.sin(angle) * np.cos(rise)], -1)
    normals = out / np.array((radius, height, radius))
    normals /= np.linalg.norm(normals, axis=-1, keepdims=True)
    points = out * np.array((radius, height, radius))
    part = grid(points, points[..., [0, 2]] * density + 0.5, normals)
    faces = part["positions"][part["triangles"]]
    whole = np.linalg.norm(np.cross(faces[:, 1] - faces[:, 0], faces[:, 2] - faces[:, 0]), axis=1) > 1e-12
    part["triangles"] = part["triangles"][whole]
    return part


def lathe(profile, segments=24, density=1.0, around=None, smooth=0.0):
    """Turn a profile of (radius, y) points about the y axis; UVs unrolled.

    It is sharp between its points that turn by more than ``smooth`` degrees. ``around`` is the number of repeats round
    the axis; None takes it from the circumference, rounded.
    """
    profile = np.asarray(profile, float)
    angle = np.linspace(0, 2 * np.pi, segments + 1)
    circle = np.stack([np.cos(angle), np.zeros_like(angle), -np.sin(angle)], -1)
    parts, along = [], 0.0
    steps = [np.array([y1 - y0, r0 - r1]) for (r0, y0), (r1, y1) in pairwise(profile)]
    slopes = [step / max(np.linalg.norm(step), 1e-9) for step in steps]

    def beside(index, other):
        if not 0 <= other < len(slopes) or slopes[index] @ slopes[other] < np.cos(np.radians(smooth)) or not smooth:
            return slopes[index]
        mean = slopes[index] + slopes[other]
        return mean / np.linalg.norm(mean)

    for index, ((r0, y0), (r1, y1)) in enumerate(pairwise(profile)):
        length = np.hypot(r1 - r0, y1 - y0)
        if length < 1e-9:
            continue
        outward = slopes[index]
        points = np.stack([circle * r0 + [0, y0, 0], circle * r1 + [0, y1, 0]])
        ends = beside(index, index - 1), beside(index, index + 1)
        normals = np.stack([circle * end[0] + [0, end[1], 0] for end in ends])
        repeats = around if around is not None else max(round(2 * np.pi * max(r0, r1) * density), 1)
        if abs(outward[1]) > 0.9:  # a disc: lay it flat instead of unrolling it
            uvs = np.stack([points[..., 0], points[..., 2]], -1) * density + 0.5
        else:
            u = np.linspace(0, repeats, segments + 1)
            uvs = np.stack(
                [
                    np.stack([u, np.full_like(u, along * density)], -1),
                    np.stack([u, np.full_like(u, (along + length) * density)], -1),
                ]
            )
        part = grid(points[::-1], uvs[::-1], normals[::-1])
        faces = part["positions"][part["triangles"]]
        whole = np.linalg.norm(np.cross(faces[:, 1] - faces[:, 0], faces[:, 2] - faces[:, 0]), axis=1) > 1e-12
        part["triangles"] = part["triangles"][whole]
        parts.append(part)
        along += length
    return join(*parts)


def rod(radius, length, segments=12, density=1.0, around=1):
    """A closed cylinder along y from 0 to length."""
    return lathe([(0, 0), (radius, 0), (radius, length), (0, length)], segments, density, around)


def tube(path, radius, segments=10, repeats_per_metre=1.0, around=1):
    """Sweep a circle along a path of points; v runs along it. Open ends."""
    path = np.asarray(path, float)
    tangent = np.gradient(path, axis=0)
    tangent /= np.linalg.norm(tangent, axis=1, keepdims=True)
    side = np.zeros_like(path)
    reference = np.array((0, 1, 0)) if abs(tangent[0, 1]) < 0.9 else np.array((1, 0, 0))
    side[0] = np.cross(reference, tangent[0])
    for i in range(1, len(path)):
        side[i] = side[i - 1] - tangent[i] * (side[i - 1] @ tangent[i])
    side /= np.linalg.norm(side, axis=1, keepdims=True)
    up = np.cross(tangent, side)
    angle = np.linspace(0, 2 * np.pi, segments + 1)
    normals = side[:, None] * np.cos(angle)[None, :, None] + up[:, None] * np.sin(angle)[None, :, None]
    points = path[:, None] + radius * normals
    along = np.concatenate([[0], np.cumsum(np.linalg.norm(np.diff(path, axis=0), axis=1))]) * repeats_per_metre
    uvs = np.stack(np.broadcast_arrays(np.linspace(0, around, segments + 1)[None, :], along[:, None]), -1)
    return grid(points, uvs, normals, flip=True)


def corrugated(width, depth, waves, amplitude, density):
    """A wavy sheet in the xz plane, both sides closed off by a flat underside."""
    columns = waves * 8 + 1
    x = np.linspace(-width / 2, width / 2, columns)
    y = amplitude * np.cos(np.linspace(0, 2 * np.pi * waves, columns))
    z = np.array((-depth / 2, depth / 2))
    points = np.stack(np.broadcast_arrays(x[None, :], y[None, :], z[:, None]), -1).astype(float)
    uvs = np.stack(np.broadcast_arrays((x + width / 2)[None, :] * density, (z + depth / 2)[:, None] * density), -1)
    slope = np.gradient(y, x)
    normal = np.stack([-slope, np.ones_like(slope), np.zeros_like(slope)], -1)
    normal /= np.linalg.norm(normal, axis=1, keepdims=True)
    top = grid(points, uvs, np.broadcast_to(normal, points.shape))
    under = box(width, 0.02, depth, density, at=(0, -amplitude - 0.02, 0))
    return join(top, under)


def wheel(radius, groove, hub, spokes, segments=48, detail=False):
    """A bull wheel lying in the xz plane: a grooved rim, spokes and a hub. ``detail`` adds bolts and ribs."""
    depth = groove * (1.0 if detail else 0.8)
    rim = lathe(
        [
            (radius - 0.22, 0.09),
            (radius - 0.22, -0.09),
            (radius, -0.09),
            (radius - depth, -0.03),
            (radius - depth, 0.03),
            (radius, 0.09),
            (radius - 0.22, 0.09),
        ][::1],
        segments,
        1.0,
        8,
    )
    centre = lathe([(0, -0.16), (hub, -0.16), (hub, 0.16), (0, 0.16)], 24, 0.4, 1)
    parts = [rim, centre]
    for index in range(spokes):
        angle = 360 / spokes * index
        parts.append(
            moved(
                box(
                    radius - 0.2 - hub * 0.8,
                    0.1,
                    0.12,
                    1.0,
                    at=((radius - 0.2 + hub * 0.8) / 2, 0, 0),
                    faces="yYzZ",
                ),
                turn_y=angle,
            )
        )
        if detail:
            parts.append(
                moved(
                    box(
                        radius - 0.3 - hub,
                        0.03,
                        0.03,
                        1.0,
                        at=((radius - 0.2 + hub) / 2, 0.06, 0),
                        faces="xXYzZ",
                    ),
                    turn_y=angle,
                )
            )
    if detail:
        for index in range(32):
            angle = np.radians(360 / 32 * index)
            bolt = lathe([(0.028, 0), (0.028, 0.02), (0.018, 0.03), (0, 0.03)], 8, 0.4, 0.1)
            parts.append(moved(bolt, ((radius - 0.11) * np.cos(angle), 0.09, (radius - 0.11) * np.sin(angle))))
    return join(*parts)
