"""What results are judged by: a plain reader of GLB files and plain texture sampling, both apart from the product."""

import io
import json
import struct
from pathlib import Path

import numpy as np
from PIL import Image

WIDTHS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT4": 16}
KINDS = {5120: "i1", 5121: "u1", 5122: "i2", 5123: "u2", 5125: "u4", 5126: "f4"}


class Model:
    """A GLB file as its JSON says."""

    def __init__(self, path):
        data = Path(path).read_bytes()
        length = struct.unpack_from("<I", data, 12)[0]
        self.json = json.loads(data[20 : 20 + length])
        self.binary = data[28 + length :]

    def accessor(self, index):
        entry = self.json["accessors"][index]
        view = self.json["bufferViews"][entry["bufferView"]]
        kind, width = np.dtype(KINDS[entry["componentType"]]), WIDTHS[entry["type"]]
        start = view.get("byteOffset", 0) + entry.get("byteOffset", 0)
        step = view.get("byteStride", kind.itemsize * width)
        rows = [np.frombuffer(self.binary, kind, width, start + step * i) for i in range(entry["count"])]
        return np.array(rows).reshape(entry["count"], width)

    def image(self, index):
        entry = self.json["images"][index]
        view = self.json["bufferViews"][entry["bufferView"]]
        start = view.get("byteOffset", 0)
        return np.asarray(Image.open(io.BytesIO(self.binary[start : start + view["byteLength"]])))

    def texture(self, info):
        return self.image(self.json["textures"][info["index"]]["source"])

    def worlds(self):
        """Return each node's world matrix, by index."""
        results = {}

        def visit(index, parent):
            node = self.json["nodes"][index]
            if "matrix" in node:
                local = np.array(node["matrix"], float).reshape(4, 4).T
            else:
                x, y, z, w = node.get("rotation", (0, 0, 0, 1))
                turn = np.array(
                    [
                        [1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
                        [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
                        [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)],
                    ]
                )
                local = np.eye(4)
                local[:3, :3] = turn @ np.diag(node.get("scale", (1, 1, 1)))
                local[:3, 3] = node.get("translation", (0, 0, 0))
            results[index] = parent @ local
            for child in node.get("children", []):
                visit(child, results[index])

        for root in self.json["scenes"][self.json.get("scene", 0)]["nodes"]:
            visit(root, np.eye(4))
        return results

    def drawn(self):
        """Yield each drawn node's name, world matrix and primitives."""
        for index, world in self.worlds().items():
            node = self.json["nodes"][index]
            if "mesh" in node:
                yield node["name"], world, self.json["meshes"][node["mesh"]]["primitives"]

    def draw_calls(self):
        return sum(
            len({p.get("material") for p in primitives if p.get("mode", 4) >= 4}) for _, _, primitives in self.drawn()
        )

    def points(self, primitive, count, seed=0):
        """Return random points of a primitive: positions, and a function that blends any vertex attribute there."""
        corners = self.accessor(primitive["indices"]).astype(int).reshape(-1, 3)
        positions = self.accessor(primitive["attributes"]["POSITION"]).astype(float)[corners]
        rng = np.random.default_rng(seed)
        area = np.linalg.norm(np.cross(positions[:, 1] - positions[:, 0], positions[:, 2] - positions[:, 0]), axis=1)
        chosen = rng.choice(len(corners), count, p=area / area.sum())
        a, b = rng.random(count), rng.random(count)
        root = np.sqrt(a)
        weights = np.stack([1 - root, root * (1 - b), root * b], 1)

        def blend(name):
            values = self.accessor(primitive["attributes"][name]).astype(float)[corners]
            return np.einsum("ni,nij->nj", weights, values[chosen])

        return np.einsum("ni,nij->nj", weights, positions[chosen]), blend

    def frame(self, primitive, count, seed=0):
        """Return the directions of u and against v at the same points, by each triangle's own corners."""
        corners = self.accessor(primitive["indices"]).astype(int).reshape(-1, 3)
        positions = self.accessor(primitive["attributes"]["POSITION"]).astype(float)[corners]
        uvs = self.accessor(primitive["attributes"]["TEXCOORD_0"]).astype(float)[corners]
        area = np.linalg.norm(np.cross(positions[:, 1] - positions[:, 0], positions[:, 2] - positions[:, 0]), axis=1)
        chosen = np.random.default_rng(seed).choice(len(corners), count, p=area / area.sum())
        edges = np.stack([positions[:, 1] - positions[:, 0], positions[:, 2] - positions[:, 0]], 1)
        steps = np.stack([uvs[:, 1] - uvs[:, 0], uvs[:, 2] - uvs[:, 0]], 1)
        along = np.linalg.solve(steps, edges)
        return along[chosen, 0], -along[chosen, 1]


def unit(vectors):
    return vectors / np.maximum(np.linalg.norm(vectors, axis=-1, keepdims=True), 1e-30)


def decode(values):
    values = np.asarray(values, float)
    return np.where(values <= 0.04045, values / 12.92, ((values + 0.055) / 1.055) ** 2.4)


def encode(values):
    values = np.clip(values, 0, 1)
    return np.where(values <= 0.0031308, values * 12.92, 1.055 * values ** (1 / 2.4) - 0.055)


def wrapped(index, size, mode):
    if mode == 33071:
        return np.clip(index, 0, size - 1)
    if mode == 33648:
        index = np.mod(index, 2 * size)
        return np.where(index < size, index, 2 * size - 1 - index)
    return np.mod(index, size)


def bilinear(image, uvs, wrap=(33071, 33071), srgb=False):
    """Return what a graphics card reads at UVs, 0 to 1: sRGB images are blended in linear light and left so."""
    image = np.asarray(image, float) / (255 if np.asarray(image).dtype == np.uint8 else 65535)
    if image.ndim == 2:
        image = np.repeat(image[..., None], 3, 2)
    if srgb:
        image = np.concatenate([decode(image[..., :3]), image[..., 3:]], axis=2)
    height, width = image.shape[:2]
    x, y = uvs[:, 0] * width - 0.5, uvs[:, 1] * height - 0.5
    x0, y0 = np.floor(x).astype(int), np.floor(y).astype(int)
    wx, wy = (x - x0)[:, None], (y - y0)[:, None]
    xs = [wrapped(x0 + i, width, wrap[0]) for i in range(2)]
    ys = [wrapped(y0 + i, height, wrap[1]) for i in range(2)]
    return (image[ys[0], xs[0]] * (1 - wx) + image[ys[0], xs[1]] * wx) * (1 - wy) + (
        image[ys[1], xs[0]] * (1 - wx) + image[ys[1], xs[1]] * wx
    ) * wy
