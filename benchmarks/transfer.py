"""Reading textures onto a sheet: ``./run bench transfer [SIZE]``. Three maps against three `cv2.remap` calls over the
same coordinates, wrapped beforehand, on as many threads; and the whole bake from stored sources to finished maps.
"""

import sys
import tempfile
import time
from pathlib import Path

import cv2
import numpy as np
from boards import boards

from fasciculum.baking.bakers import Conditions, MapBaker, MapPlan
from fasciculum.baking.materials import MaterialSource
from fasciculum.baking.pyramids import forget_pyramids
from fasciculum.baking.target import build_target
from fasciculum.baking.tiling import Tiles, write_maps
from fasciculum.io.pixels import PixelStore
from fasciculum.kernels.sampling.textures import affine_of
from fasciculum.model.map_overrides import MapOverride
from fasciculum.model.maps import BASE_COLOR, NORMAL, ORM
from fasciculum.threads import THREADS

CASES = (("bilinear", (0.62, 0.62)), ("filtered, 4 x along one axis", (4.0, 1.0)), ("at the source's size", (1.0, 1.0)))


class Nothing:
    """A writer that only has values worked out."""

    source = "materials"

    def write(self, tiles, across, ids, values):
        """Leave them."""


def timed(work, times=3):
    """Return the least wall and CPU time of some runs, seconds."""
    results = []
    for _ in range(times):
        wall, cpu = time.perf_counter(), time.process_time()
        work()
        results.append((time.perf_counter() - wall, time.process_time() - cpu))
    return np.min(results, axis=0)


def coordinates(target, tiles, size, source):
    """Return where each texel reads, in source texels, wrapped: shape (H, W) twice."""
    ids = tiles.whole()
    affine = np.zeros((len(target.corners), 6))
    for t in range(len(affine)):
        affine_of(target.maps, target.uvs, t, 0, affine[t])
    y, x = np.mgrid[0:size, 0:size].astype(np.float32) + np.float32(0.5)
    own = affine[np.maximum(ids, 0)].astype(np.float32)
    u = own[..., 0] * x + own[..., 1] * y + own[..., 2]
    v = own[..., 3] * x + own[..., 4] * y + own[..., 5]
    inner = source - 2
    return np.mod(u * source - 0.5, inner).astype(np.float32), np.mod(v * source - 0.5, inner).astype(np.float32)


def main():
    size = int(sys.argv[1]) if len(sys.argv) > 1 else 4096
    cv2.setNumThreads(THREADS)
    print(f"{size} px, {THREADS} threads; wall and CPU time over three cv2.remap calls")
    with tempfile.TemporaryDirectory() as folder:
        store = PixelStore(Path(folder))
        for name, stretch in CASES:
            scene, layout = boards(store, size, stretch=stretch)
            target = build_target(scene, layout)
            tiles = Tiles(target, size, size)

            def pixels(image):
                return store.get(image.pixels)

            source = MaterialSource(scene, target, pixels)
            x, y = coordinates(target, tiles, size, 2048)
            pictures = [np.ascontiguousarray(pixels(image)) for image in scene.images]

            def remap(pictures=pictures, x=x, y=y):
                for picture in pictures:
                    cv2.remap(picture, x, y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)

            def shade(tiles=tiles, source=source):
                write_maps(tiles, {"materials": source}, [Nothing()], np.zeros((size, size), bool))

            plans = [
                MapPlan(kind, size, size, MapOverride(kind.name, "", 8, "png", 1), 3)
                for kind in (BASE_COLOR, NORMAL, ORM)
            ]
            baking = MapBaker(scene, layout, target, Conditions(), pixels)

            def whole(baking=baking, plans=plans):
                forget_pyramids()
                baking.bake(plans)

            shade(), whole()
            reference = timed(remap)
            for what, work in (("raster and shading", shade), ("whole bake", whole)):
                result = timed(work, 2)
                ratio = result / reference
                print(
                    f"{name:<30} {what:<20} {result[0]:6.2f} s  {ratio[0]:5.2f} wall {ratio[1]:5.2f} CPU"
                    f"   (remap {reference[0]:.2f} s)",
                    flush=True,
                )


if __name__ == "__main__":
    main()
