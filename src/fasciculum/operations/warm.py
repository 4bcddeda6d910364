"""Compile every kernel once, so that nobody waits for a compiler: ``python -m fasciculum.operations.warm``.

A small scene goes through the whole path, its arrays read-only as those of documents are.
"""

from __future__ import annotations

import shutil
import sys
import tempfile
import time
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.io.pixels import PixelStore
from fasciculum.kernels.polygons import triangulate
from fasciculum.model.bundle import Bundle, SheetSettings
from fasciculum.model.scene import Image, Material, Mesh, Node, Object, Primitive, Scene, Source, TextureSlot
from fasciculum.operations.bake import bake
from fasciculum.operations.check import check_bundle
from fasciculum.operations.lay_out import lay_out


def small_scene(store: PixelStore, kind: type = np.uint8) -> Scene:
    """Return a scene of two textured squares, images of the given type."""
    pixels: NDArray[Any] = np.full((128, 128, 4), 100, kind)
    image = Image("grey", 128, 128, 4, pixels.dtype.itemsize * 8, store.put(pixels), "", True, False)
    slot = TextureSlot(0)
    material = Material("m", base_color=slot, metallic_roughness=slot, normal=slot, occlusion=slot, emissive=slot)
    positions = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]], np.float32)
    primitive = Primitive(
        positions, np.array([[0, 1, 2], [0, 2, 3]], np.int32), None, None, (positions[:, :2].copy(),), None, 0
    )
    nodes = tuple(Node(f"n{index}", -1, np.eye(4), 0, 0, index) for index in range(2))
    objects = tuple(Object(f"n{index}", index, (0,), "OPAQUE") for index in range(2))
    return Scene((Source("s", "s", "s"),), nodes, (Mesh("m", (primitive,)),), (material,), (image,), objects)


def main() -> int:
    """Compile, telling what is done."""
    began = time.monotonic()
    angle = np.arange(5) * 2 * np.pi / 5
    pentagon = np.stack([np.cos(angle), np.sin(angle), np.zeros(5)], axis=1)
    triangulate(pentagon, np.array([0, 5]), np.zeros((3, 3), np.int64))
    folder = Path(tempfile.mkdtemp(prefix="fasciculum-warm-"))
    try:
        store = PixelStore(folder)
        for number, (kind, bits) in enumerate(((np.uint8, 8), (np.uint16, 16))):
            for words, uv in (("keeping", "auto"), ("projecting", "unwrap")):
                sys.stderr.write(f"[kernels] {number * 2 + (uv == 'unwrap') + 1} of 4: {bits} bits, {words} UVs\n")
                scene = small_scene(store, kind)
                sheet = SheetSettings(64, 64, padding=2, uv=uv, twins=False, seconds=0)
                bundle = Bundle("b", ("n0", "n1"), "OPAQUE", sheet)
                bundle = replace(bundle, bake=replace(bundle.bake, bits=bits))
                bundle = replace(bundle, layout=lay_out(scene, bundle))
                bundle = replace(bundle, texturing=bake(scene, bundle, store))
                check_bundle(scene, bundle, store, points=100)
    finally:
        shutil.rmtree(folder, ignore_errors=True)
    sys.stderr.write(f"[kernels] ready after {time.monotonic() - began:.0f} s\n")
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
