"""A sheet of three maps into blocks with their levels, against the encoders alone: ``./run bench compress [SIZE]``.

The encoders alone are the same bands of the same levels in the same processes, in the formats that were chosen and in
those that were tried before. Also what padding costs: the fill of a sheet whose islands are aligned to blocks, and of
one whose islands are kept 6 px apart.
"""

import sys
import tempfile
import time
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np

from fasciculum.compression.blocks import candidates
from fasciculum.compression.choosing import encodable, encode_map
from fasciculum.compression.containers import dds_file
from fasciculum.compression.encoding import encode_level
from fasciculum.compression.levels import Meaning, blocks_clean_down_to, mip_levels
from fasciculum.io.pixels import PixelStore
from fasciculum.model.bake_settings import BakeSettings
from fasciculum.model.choices import Compression
from fasciculum.model.sheet import SheetSettings
from fasciculum.operations.deliver.compressing import owners_on
from fasciculum.operations.gather.bundling import bundle_objects
from fasciculum.operations.gather.gather import gather
from fasciculum.operations.lay_out.lay_out import lay_out

STATION = Path(__file__).parents[1] / "src" / "fasciculum" / "station" / "station.glb"


def sheet(size):
    """Three maps with detail of all sizes, and the islands on them."""
    random = np.random.default_rng(0)
    y, x = np.mgrid[0:size, 0:size]
    owners = (x // 173 + 41 * (y // 131)).astype(np.int32)
    owners[(x % 173 < 8) | (y % 131 < 8)] = -1
    fine = cv2.GaussianBlur(random.normal(0, 40, (size, size, 3)).astype(np.float32), (0, 0), 2.5)
    coarse = cv2.resize(random.normal(0, 45, (size // 32, size // 32, 3)).astype(np.float32), (size, size))
    color = np.clip(128 + fine * 3 + coarse, 0, 255).astype(np.uint8)
    normal = np.dstack([fine[..., :2] / 60, np.ones((size, size), np.float32)])
    normal = normal / np.linalg.norm(normal, axis=2, keepdims=True)
    return owners, {
        "base_color": (color, Meaning(srgb=True)),
        "normal": (np.round((normal * 0.5 + 0.5) * 255).astype(np.uint8), Meaning(vectors=True)),
        "orm": (np.ascontiguousarray(color[::-1]), Meaning()),
    }


def main():
    size = int(sys.argv[1]) if len(sys.argv) > 1 else 4096
    owners, maps = sheet(size)
    encode_level(np.zeros((512, 512, 3), np.uint8), candidates(Compression.BC, 3, vectors=False, floats=False)[0])
    for texels, meaning in maps.values():
        # compiled code is loaded, and processes are begun, before anything is timed
        small = list(mip_levels(np.ascontiguousarray(texels[:512, :512]), owners[:512, :512].copy(), meaning))
        encode_map(small, candidates(Compression.BC, 3, vectors=meaning.vectors, floats=False), meaning, 42)
    blocks_clean_down_to(owners[:64, :64], (4, 4))
    whole, alone = 0.0, 0.0
    for name, (texels, meaning) in maps.items():
        forms = candidates(Compression.BC, 3, vectors=meaning.vectors, floats=False)
        began = time.perf_counter()
        levels = list(mip_levels(texels, owners, meaning))
        made = encode_map(levels, forms, meaning, 42)
        dds_file(made.levels, made.form, size, size, srgb=meaning.srgb, alpha=False)
        blocks_clean_down_to(owners, made.form.edges)
        took = time.perf_counter() - began
        began = time.perf_counter()
        for form in forms[: forms.index(made.form)]:
            encode_level(encodable(levels[0].texels), form)
        for level in levels:
            encode_level(encodable(level.texels), made.form)
        bare = time.perf_counter() - began
        print(f"{size} px {name} as {made.form.name}: {took:.2f} s, {took / bare:.2f} x its encoders")
        whole, alone = whole + took, alone + bare
    print(f"three maps: {whole:.1f} s, {whole / alone:.2f} x the encoders alone ({alone:.1f} s)")
    with tempfile.TemporaryDirectory() as folder:
        store = PixelStore(Path(folder))
        scene, _ = gather([str(STATION)], store)
        bundle = bundle_objects(scene, "alpha", SheetSettings(), BakeSettings())[0][0]
        for words, settings in (
            ("padding 1", {"padding": 1}),
            ("padding 1, aligned to 4", {"padding": 1, "align": 4}),
            ("padding 1, blocks kept apart", {"padding": 1, "blocks": True}),
        ):
            settings = replace(SheetSettings(1024, 1024, seconds=10.0), **settings)
            layout = lay_out(scene, replace(bundle, sheet=settings))
            clean = blocks_clean_down_to(owners_on(layout, 1024, 1024, 0), (4, 4))
            print(f"{words}: fill {layout.fill:.3f}, {layout.scale:.0f} px/m, clean down to {clean} px")


if __name__ == "__main__":
    main()
