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
from fasciculum.kernels.placing import too_near
from fasciculum.kernels.polygons import triangulate
from fasciculum.kernels.separating import exact_near, move_all, move_some
from fasciculum.model.bundle import Bundle, SheetSettings
from fasciculum.model.scene import Image, Material, Mesh, Node, Object, Primitive, Scene, Source, TextureSlot
from fasciculum.operations.arrange import conflicts
from fasciculum.operations.bake import bake
from fasciculum.operations.check import check_bundle
from fasciculum.operations.lay_out import lay_out
from fasciculum.packing.borders import borders
from fasciculum.packing.engine import Packer
from fasciculum.packing.shapes import Rules

#: seconds after which compiling is left to whoever packs first
MOST_WAITED = 120.0


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


def warm_packing() -> None:
    """Pack a few triangles every way."""
    rng = np.random.default_rng(1)
    islands = [rng.random((2, 3, 2)) * [1.0, 0.3] for _ in range(8)]
    for padding in (0, 1):
        packer = Packer(islands, Rules(96, 96, padding, 1, "any", True))
        packer.construct()
        packer.improve(MOST_WAITED, enough=Patience(padding))
        lines = borders(islands[0] * 9.0 + 30.0, np.zeros(2, np.int32), 1)
        Packer(islands[1:3], Rules(96, 96, padding, 1), held=lines).construct(scale=9.0)


class Patience:
    """Says enough once all kernels of separating have run."""

    def __init__(self, padding: int) -> None:
        self._kernels = (move_some, move_all, too_near if padding else exact_near)
        self._until = time.monotonic() + MOST_WAITED

    def __call__(self) -> bool:
        """Tell whether everything has been compiled, or has had its time."""
        compiled = all(kernel.signatures for kernel in self._kernels)
        return compiled or time.monotonic() > self._until


def main() -> int:
    """Compile, telling what is done."""
    began = time.monotonic()
    angle = np.arange(5) * 2 * np.pi / 5
    pentagon = np.stack([np.cos(angle), np.sin(angle), np.zeros(5)], axis=1)
    triangulate(pentagon, np.array([0, 5]), np.zeros((3, 3), np.int64))
    sys.stderr.write("[kernels] 1 of 5: packing\n")
    warm_packing()
    folder = Path(tempfile.mkdtemp(prefix="fasciculum-warm-"))
    try:
        store = PixelStore(folder)
        for number, (kind, bits) in enumerate(((np.uint8, 8), (np.uint16, 16))):
            for words, uv in (("keeping", "auto"), ("projecting", "unwrap")):
                sys.stderr.write(f"[kernels] {number * 2 + (uv == 'unwrap') + 2} of 5: {bits} bits, {words} UVs\n")
                scene = small_scene(store, kind)
                sheet = SheetSettings(64, 64, padding=2, uv=uv, twins=False, seconds=0)
                bundle = Bundle("b", ("n0", "n1"), "OPAQUE", sheet)
                bundle = replace(bundle, bake=replace(bundle.bake, bits=bits))
                layout = lay_out(scene, bundle)
                bundle = replace(bundle, layout=layout)
                lay_out(scene, replace(bundle, sheet=replace(sheet, twins=True)))
                conflicts(layout)
                bundle = replace(bundle, texturing=bake(scene, bundle, store))
                check_bundle(scene, bundle, store, points=100)
    finally:
        shutil.rmtree(folder, ignore_errors=True)
    sys.stderr.write(f"[kernels] ready after {time.monotonic() - began:.0f} s\n")
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
