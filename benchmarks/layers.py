"""Layers against the plain carried bake of the same texels: ``./run bench layers``. 200 rocks, five layers, at 512."""

import tempfile
import time
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np
from timing import least

from fasciculum.io.pixels import PixelStore
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import AlphaMode
from fasciculum.model.layers import Axis, Blend, Layer, LayerProjection, Mask, MaskKind
from fasciculum.model.scene import Mesh, Node, Object, Primitive, Scene, Source
from fasciculum.model.sheet import SheetSettings
from fasciculum.operations.bake.bake import bake
from fasciculum.operations.bake.layers import layer_image
from fasciculum.operations.lay_out.lay_out import lay_out, measured

ROCKS, SIZE = 200, 512


def rock(seed):
    """A dented ball of some 200 triangles with its UVs."""
    rng = np.random.default_rng(seed)
    u, v = np.meshgrid(np.linspace(0, 2 * np.pi, 13), np.linspace(0, np.pi, 9))
    swell = 1 + 0.15 * rng.normal(size=u.shape)
    swell[:, -1] = swell[:, 0]
    points = np.stack([np.sin(v) * np.sin(u), np.cos(v), np.sin(v) * np.cos(u)], -1) * swell[..., None]
    grid = np.arange(u.size).reshape(u.shape)
    a, b, c, d = grid[:-1, :-1], grid[1:, :-1], grid[1:, 1:], grid[:-1, 1:]
    triangles = np.concatenate([np.stack([a, b, c], -1).reshape(-1, 3), np.stack([a, c, d], -1).reshape(-1, 3)])
    uvs = np.stack([u / (2 * np.pi), v / np.pi], -1).reshape(-1, 2)
    flat = points.reshape(-1, 3).astype(np.float32)
    return Primitive(flat, triangles.astype(np.int32), None, None, (uvs.astype(np.float32),), None, -1)


def rocks():
    nodes, meshes, objects = [], [], []
    for number in range(ROCKS):
        world = np.eye(4)
        world[:3, 3] = number % 20 * 3, 0, number // 20 * 3
        nodes.append(Node(f"rock {number}", -1, world, number, 0, number))
        meshes.append(Mesh(f"rock {number}", (rock(number),)))
        objects.append(Object(f"rock {number}", number, (0,), AlphaMode.OPAQUE))
    return Scene((Source("s", "s", "s"),), tuple(nodes), tuple(meshes), (), (), tuple(objects))


def stack(folder):
    rng = np.random.default_rng(2)
    images = []
    for name in ("stone", "moss", "dirt", "lichen", "relief"):
        picture = cv2.GaussianBlur(rng.integers(0, 255, (512, 512, 3)).astype(np.uint8), (0, 0), 3)
        if name == "relief":
            picture[:] = (255, 128, 128)
        cv2.imwrite(str(folder / f"{name}.png"), picture)
        images.append(layer_image(str(folder / f"{name}.png")))
    stone, moss, dirt, lichen, relief = images
    return (
        Layer("stone", ("*",), stone, metres=2.0, normal=relief, seed=1),
        Layer("dirt", ("*",), dirt, metres=1.0, mask=Mask(MaskKind.HEIGHT, Axis.Y, 1.0, 0.2), seed=2),
        Layer("moss", ("*",), moss, metres=0.7, mask=Mask(MaskKind.FACING, Axis.Y, 0.3, 0.8), seed=3),
        Layer("lichen", ("*",), lichen, projection=LayerProjection.SPHERE, amount=0.3, blend=Blend.SCREEN),
        Layer("snow", ("*",), (0.8, 0.8, 0.85), mask=Mask(MaskKind.GRADIENT, Axis.Y, 0.8, 1.0)),
    )


def main():
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        store = PixelStore(folder / "pixels")
        plain = rocks()
        covered = plain.layered(stack(folder))
        sheet = SheetSettings(SIZE, SIZE, padding=2, seconds=0.0, twins=False)
        bundle = Bundle("Rocks", tuple(item.key for item in plain.objects), AlphaMode.OPAQUE, sheet)
        began = time.perf_counter()
        bundle = replace(bundle, layout=measured(lay_out(covered, bundle)))
        print(f"laid out in {time.perf_counter() - began:.1f} s, fill {bundle.layout.fill:.0%}")
        named = replace(bundle, bake=replace(bundle.bake, maps=("base_color", "normal")))
        bake(plain, named, store)
        base = least(lambda: bake(plain, named, store, whole=True), 3)
        bake(covered, named, store)
        over = least(lambda: bake(covered, named, store, whole=True), 3)
        print(f"{ROCKS} rocks, 5 layers, {SIZE} x {SIZE}, colour and normals: {over:.2f} s, carried alone {base:.2f} s")
        print(f"ratio {over / base:.1f}")


if __name__ == "__main__":
    main()
