"""Make a level: ``python demo/make_level.py LEVEL.glb --objects 1000`` writes a whole valley below the ropeway station.

Huts, crates, posts, boulders and masts stand in hamlets along a valley. A third of the objects are copies of others.
One material in ten is of one colour, one in ten repeats four times across a side, one in twenty is cut out. Meshes of
one hamlet share its materials and read overlapping parts of the same textures, as kits of parts do. The same seed gives
the same bytes.
"""

from __future__ import annotations

import argparse
from pathlib import Path

import cv2
import numpy as np
from make_station import Builder

#: metres between hamlets along the valley
APART = 90.0
#: texels that surfaces of the valley have a metre, about
DENSITY = 256.0
KINDS = ("crate", "hut", "post", "boulder", "mast", "trough")


class Level(Builder):
    """A file with pictures that are quick to write."""

    def picture(self, name, pixels):
        """Add an image, (H, W, 3 or 4) bytes, and a texture of it."""
        order = cv2.COLOR_RGBA2BGRA if pixels.shape[2] == 4 else cv2.COLOR_RGB2BGR
        _, data = cv2.imencode(".png", cv2.cvtColor(pixels, order), [cv2.IMWRITE_PNG_COMPRESSION, 1])
        self.json["images"].append({"bufferView": self.view(data.tobytes()), "name": name, "mimeType": "image/png"})
        return self.texture(name, image=len(self.json["images"]) - 1)


def cloud(rng, size, cells):
    """Return smooth noise that repeats, (size, size), 0 to 1."""
    coarse = rng.random((cells, cells), np.float32)
    wide = cv2.resize(np.tile(coarse, (3, 3)), (3 * size, 3 * size), interpolation=cv2.INTER_CUBIC)
    return np.clip(wide[size : 2 * size, size : 2 * size], 0, 1)


def surface(rng, size, cut_out):
    """Return base colour, normal and occlusion-roughness-metallic of a made-up material, bytes."""
    large, small = cloud(rng, size, 6), cloud(rng, size, 48)
    boards = np.sin(np.arange(size) / size * 2 * np.pi * rng.integers(3, 9))[:, None] * 0.5 + 0.5
    height = 0.5 * large + 0.25 * small + 0.25 * boards.astype(np.float32)
    dark, bright = rng.uniform(0.1, 0.4, 3), rng.uniform(0.5, 0.95, 3)
    color = dark + (bright - dark) * height[..., None]
    if cut_out:
        color = np.concatenate([color, (large > 0.42).astype(np.float64)[..., None]], axis=2)
    across, down = (np.roll(height, -1, axis) - np.roll(height, 1, axis) for axis in (1, 0))
    normal = np.stack([-4 * across, 4 * down, np.ones_like(height)], axis=2)
    normal = normal / np.linalg.norm(normal, axis=2, keepdims=True) * 0.5 + 0.5
    orm = np.stack([0.6 + 0.4 * height, 0.4 + 0.5 * small, np.full_like(height, float(rng.random() < 0.2))], axis=2)
    return [np.round(part * 255).astype(np.uint8) for part in (color, normal, orm)]


def add_materials(b, rng, count, sizes):
    """Add the materials; return for each its name, how often it repeats, and its size in texels, 0 for plain ones."""
    results = []
    for number in range(count):
        name = f"surface {number:03d}"
        if number % 10 == 3:
            b.material(name, factor=rng.uniform(0.1, 0.9, 3).tolist(), roughness=float(rng.uniform(0.3, 0.9)))
            results.append((name, 1, 0))
            continue
        cut_out, size = number % 20 == 7, int(rng.choice(sizes))
        for suffix, pixels in zip(("", " normal", " orm"), surface(rng, size, cut_out), strict=True):
            b.picture(name + suffix, pixels)
        more = {"alphaMode": "MASK", "alphaCutoff": 0.5, "doubleSided": True} if cut_out else {}
        b.material(name, color=name, normal=f"{name} normal", orm=f"{name} orm", **more)
        results.append((name, 4 if number % 10 == 5 else 1, size))
    return results


def sheet_of(rng, points, metres, texels, repeats):
    """Return a surface over a grid of points, (H, W, 3), that reads a part of a texture as large as it is.

    Parameters
    ----------
    metres : tuple of float
        Its width and height.
    texels : int
        Edge of the texture; 0 for none.
    """
    high, wide = points.shape[:2]
    part = np.array(metres) * DENSITY / max(texels, 1)
    if repeats > 1:
        part = np.full(2, float(repeats)) * rng.uniform(0.6, 1.0, 2)
        start = np.zeros(2)
    else:
        # what is larger than the texture is stretched to it
        part = np.minimum(part, rng.uniform(0.7, 1.0))
        start = np.round(rng.uniform(0, 1 - part, 2) * 16) / 16
        start = np.minimum(start, 1 - part)
    u, v = np.meshgrid(np.linspace(0, 1, wide), np.linspace(0, 1, high))
    uvs = np.stack([u * part[0] + start[0], v * part[1] + start[1]], axis=2)
    along, down = np.gradient(points, axis=1), np.gradient(points, axis=0)
    normals = np.cross(down, along)
    normals /= np.maximum(np.linalg.norm(normals, axis=2, keepdims=True), 1e-9)
    corner = np.arange(high * wide).reshape(high, wide)
    a, b, c, d = corner[:-1, :-1], corner[1:, :-1], corner[1:, 1:], corner[:-1, 1:]
    triangles = np.concatenate([np.stack([a, b, c], -1).reshape(-1, 3), np.stack([a, c, d], -1).reshape(-1, 3)])
    return {
        "positions": points.reshape(-1, 3),
        "normals": normals.reshape(-1, 3),
        "uvs": uvs.reshape(-1, 2),
        "triangles": triangles,
    }


def joined(parts):
    """Return several surfaces as one."""
    first = np.cumsum([0, *[len(part["positions"]) for part in parts]])
    result = {key: np.concatenate([part[key] for part in parts]) for key in ("positions", "normals", "uvs")}
    result["triangles"] = np.concatenate(
        [part["triangles"] + start for part, start in zip(parts, first[:-1], strict=True)]
    )
    return result


def sides(rng, size, steps, texels, repeats):
    """Return the six sides of a box that stands on the ground, each a grid of ``steps``."""
    x, y, z = size
    frames = [
        ((-x / 2, y, z / 2), (x, 0, 0), (0, -y, 0)),
        ((x / 2, y, -z / 2), (-x, 0, 0), (0, -y, 0)),
        ((x / 2, y, z / 2), (0, 0, -z), (0, -y, 0)),
        ((-x / 2, y, -z / 2), (0, 0, z), (0, -y, 0)),
        ((-x / 2, y, -z / 2), (x, 0, 0), (0, 0, z)),
        ((-x / 2, 0, z / 2), (x, 0, 0), (0, 0, -z)),
    ]
    s, t = np.meshgrid(np.linspace(0, 1, steps + 1), np.linspace(0, 1, steps + 1))
    parts = []
    for origin, right, down in frames:
        points = np.array(origin) + s[..., None] * np.array(right) + t[..., None] * np.array(down)
        metres = float(np.linalg.norm(right)), float(np.linalg.norm(down))
        parts.append(sheet_of(rng, points, metres, texels, repeats))
    return joined(parts)


def around(rng, radius, height, steps, texels, repeats, bulge=0.0):
    """Return a wall about an upright axis: a post, or with ``bulge`` a boulder."""
    angle = np.linspace(0, 2 * np.pi, 2 * steps + 1)
    up = np.linspace(1, 0, steps + 1)
    profile = np.sqrt(np.maximum(1 - (2 * up - 1) ** 2, 0.0025)) if bulge else np.ones_like(up)
    rough = 1 + bulge * (rng.random((steps + 1, 2 * steps + 1)) - 0.5)
    rough[:, -1] = rough[:, 0]
    out = radius * profile[:, None] * rough
    points = np.stack([out * np.sin(angle), np.broadcast_to(up[:, None] * height, out.shape), out * np.cos(angle)], -1)
    return sheet_of(rng, points, (2 * np.pi * radius, height), texels, repeats)


def shape(rng, kind, texels, repeats, steps):
    """Return a thing of the valley."""
    if kind == "post":
        return around(rng, rng.uniform(0.1, 0.4), rng.uniform(1.5, 3), 2 * steps, texels, repeats)
    if kind == "boulder":
        return around(rng, rng.uniform(0.5, 1.2), rng.uniform(0.7, 1.8), 2 * steps, texels, repeats, 0.2)
    low, high = {"crate": (0.6, 1.4), "hut": (2.5, 4.0), "mast": (0.3, 0.6), "trough": (0.8, 2.5)}[kind]
    size = rng.uniform(low, high, 3)
    if kind == "mast":
        size[1] = rng.uniform(3, 5)
    return sides(rng, size, steps, texels, repeats)


def make_level(objects=1000, materials=200, sizes=(512, 1024), seed=1, steps=9):
    """Return the file of a level, bytes."""
    rng = np.random.default_rng(seed)
    b = Level()
    b.json["scenes"][0]["name"] = "Valley"
    b.json["asset"]["generator"] = "Fasciculum demo level"
    del b.json["extensionsUsed"], b.json["extensions"]
    looks = add_materials(b, rng, materials, sizes)
    hamlets = max(1, materials // 10)
    own = [looks[hamlet::hamlets] for hamlet in range(hamlets)]
    meshes = []
    for number in range(max(1, objects - objects // 3)):
        hamlet = number % hamlets
        name, repeats, texels = own[hamlet][int(rng.integers(len(own[hamlet])))]
        kind = KINDS[int(rng.integers(len(KINDS)))]
        made = shape(rng, kind, texels, repeats, steps)
        meshes.append((b.mesh(f"{kind} {number:04d}", b.primitive(made, name)), hamlet, kind))
    for number in range(objects):
        copy = number >= len(meshes)
        mesh, hamlet, kind = meshes[int(rng.integers(len(meshes)))] if copy else meshes[number]
        at = np.array([hamlet * APART, 0.0, 8 * np.sin(hamlet)]) + rng.uniform(-30, 30, 3) * (1, 0, 1)
        turn = float(rng.integers(4) * 90)
        b.node(f"{kind} {number:04d}{' copy' if copy else ''}", mesh, at, turn_y=turn)
    return b.glb()


def main():
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("file", type=Path)
    parser.add_argument("--objects", type=int, default=1000)
    parser.add_argument("--materials", type=int, default=200)
    parser.add_argument("--sizes", type=int, nargs="+", default=[512, 1024], help="edges of textures, texels")
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--steps", type=int, default=9, help="parts into which sides are divided")
    given = parser.parse_args()
    data = make_level(given.objects, given.materials, tuple(given.sizes), given.seed, given.steps)
    given.file.write_bytes(data)


if __name__ == "__main__":
    main()
