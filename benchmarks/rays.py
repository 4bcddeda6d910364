"""Rays a second and building of trees against embreex in the same run: ``./run bench rays [TRIANGLES]``.

Wants ``embreex`` (PyPI), which only this file uses; one thread each.
"""

import sys
from functools import partial

import numpy as np
from embreex.mesh_construction import TriangleMesh
from embreex.rtcore_scene import EmbreeScene
from numba import njit
from timing import least

from fasciculum.baking.casting import tree_over
from fasciculum.kernels.rays.bvh import ROOM, any_hit, closest_hit, opened
from fasciculum.kernels.sampling.directions import cosine_direction, frame_about, point_of

SIDE, RAYS = 256, 16


@njit(nogil=True)
def own_closest(tree, origins, ways, found):
    stack, within = np.empty(ROOM, np.int64), opened(tree)
    for n in range(len(origins)):
        hit, _, _, _, _ = closest_hit(
            within, origins[n, 0], origins[n, 1], origins[n, 2], ways[n, 0], ways[n, 1], ways[n, 2], 0.0, 1e9, stack
        )
        found[n] = hit >= 0


@njit(nogil=True)
def own_any(tree, origins, ways, found):
    stack, within = np.empty(ROOM, np.int64), opened(tree)
    for n in range(len(origins)):
        found[n] = any_hit(
            within, origins[n, 0], origins[n, 1], origins[n, 2], ways[n, 0], ways[n, 1], ways[n, 2], 0.0, 1e9, stack
        )


@njit
def hemispheres(places, normals, origins, ways):
    for n in range(len(places)):
        nx, ny, nz = normals[n]
        ax, ay, az, bx, by, bz = frame_about(nx, ny, nz)
        for ray in range(RAYS):
            a, b = point_of(ray, np.uint32(n * 977 + 13))
            x, y, z = cosine_direction(a, b)
            origins[n * RAYS + ray] = places[n] + normals[n] * 1e-4
            ways[n * RAYS + ray] = (x * ax + y * bx + z * nx, x * ay + y * by + z * ny, x * az + y * bz + z * nz)


def bumpy(count):
    """Return a ball of about ``count`` triangles with bumps, (T, 3, 3)."""
    rings = int(np.sqrt(count / 4))
    turn, rise = np.meshgrid(np.linspace(0, 2 * np.pi, 2 * rings + 1), np.linspace(0, np.pi, rings + 1))
    far = 1 + 0.05 * np.sin(23 * turn) * np.sin(17 * rise) + 0.02 * np.sin(91 * turn + 3) * np.sin(71 * rise)
    grid = np.stack([np.sin(rise) * np.cos(turn), np.cos(rise), -np.sin(rise) * np.sin(turn)], 2) * far[..., None]
    a, b, c, d = grid[:-1, :-1], grid[1:, :-1], grid[1:, 1:], grid[:-1, 1:]
    return np.concatenate([np.stack([a, b, c], 2), np.stack([a, c, d], 2)]).reshape(-1, 3, 3).astype(np.float32)


def built(triangles):
    count = len(triangles)
    return tree_over(
        triangles,
        np.full(count, -1, np.int32),
        np.zeros((count, 6), np.float32),
        np.zeros(1, np.float32),
        np.zeros((0, 4)),
        np.arange(count),
    )[0]


def theirs(triangles):
    scene = EmbreeScene()
    TriangleMesh(scene, triangles)
    # it is built when the first ray comes
    scene.run(np.zeros((1, 3), np.float32), np.ones((1, 3), np.float32), query="OCCLUDED")
    return scene


def measure(count):
    triangles = bumpy(count)
    build = least(lambda: built(triangles), 2), least(lambda: theirs(triangles), 2)
    part = build[0] / build[1]
    print(f"{len(triangles)} triangles, built in {build[0]:.2f} s, embreex {build[1]:.2f}: {part:.2f} of it")
    tree, scene = built(triangles), theirs(triangles)
    # as texels of a sheet lie and are baked: a grid over the ball, in blocks of 8 x 8
    row, column = np.divmod(np.arange(2 * SIDE * SIDE), 2 * SIDE)
    order = np.lexsort((column % 8, row % 8, column // 8, row // 8))
    turn, rise = 2 * np.pi * column[order] / (2 * SIDE), 0.1 + (np.pi - 0.2) * row[order] / SIDE
    normals = np.stack([np.sin(rise) * np.cos(turn), np.cos(rise), -np.sin(rise) * np.sin(turn)], 1)
    out, inwards = normals * 1.2, -normals
    hits = scene.run(out.astype(np.float32), inwards.astype(np.float32), query="DISTANCE")
    origins, ways = np.empty((len(out) * RAYS, 3)), np.empty((len(out) * RAYS, 3))
    hemispheres(out + inwards * hits[:, None], normals, origins, ways)
    found, shut = np.zeros(len(out), np.bool_), np.zeros(len(origins), np.bool_)
    own_closest(tree, out, inwards, found)
    own_any(tree, origins, ways, shut)
    for words, kernel, query, result, starts, along in (
        ("closest", own_closest, "DISTANCE", found, out, inwards),
        ("any", own_any, "OCCLUDED", shut, origins, ways),
    ):
        mine = least(partial(kernel, tree, starts, along, result))
        their = least(partial(scene.run, starts.astype(np.float32), along.astype(np.float32), query=query))
        print(
            f"  {words}: {len(starts) / mine / 1e6:.2f} M rays a second, embreex {len(starts) / their / 1e6:.2f}: "
            f"{their / mine:.2f} of it"
        )
    wanted = scene.run(origins.astype(np.float32), ways.astype(np.float32), query="OCCLUDED") >= 0
    print(f"  found by both alike: {(wanted == shut).mean():.5f}; all hit: {found.mean():.5f}")


def main():
    built(bumpy(1000))
    for text in sys.argv[1:] or ("500000", "2000000"):
        measure(int(text))


if __name__ == "__main__":
    main()
