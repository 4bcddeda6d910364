"""How baking grows: ``./run bench scale``. Seconds and peak memory by texels (1024 to 16384) and by triangles (10k to
2M), each in a process of its own, and the exponents.
"""

import math
import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from boards import boards

from fasciculum.baking.bakers import Conditions, MapBaker, MapPlan
from fasciculum.baking.target import build_target
from fasciculum.io.pixels import PixelStore
from fasciculum.model.map_overrides import MapOverride
from fasciculum.model.maps import BASE_COLOR, NORMAL, ORM, ROUGHNESS

SIZES, CUTS = (1024, 2048, 4096, 8192, 16384), (18, 40, 90, 250)


def one(size, cut):
    """Bake four maps of one sheet and tell what it took."""
    with tempfile.TemporaryDirectory() as folder:
        store = PixelStore(Path(folder))
        scene, layout = boards(store, size, cut=cut, source=1024)
        began = time.perf_counter()
        target = build_target(scene, layout)
        plans = [
            MapPlan(kind, size, size, MapOverride(kind.name, "", 8, "png", 1), min(kind.channels, 3))
            for kind in (BASE_COLOR, NORMAL, ORM, ROUGHNESS)
        ]
        MapBaker(scene, layout, target, Conditions(), lambda image: store.get(image.pixels), store.blank).bake(plans)
        took = time.perf_counter() - began
        peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
        print(f"{len(target.corners)} {took:.3f} {peak:.0f}")


def measured(size, cut):
    """Run one case by itself; return triangles, seconds, MiB."""
    done = subprocess.run([sys.executable, __file__, str(size), str(cut)], capture_output=True, text=True, check=True)
    return [float(part) for part in done.stdout.split()]


def main():
    if len(sys.argv) == 3:
        one(int(sys.argv[1]), int(sys.argv[2]))
        return
    measured(1024, 8)
    for words, cases in (
        ("texels", [(size, 8) for size in SIZES]),
        ("triangles", [(2048, cut) for cut in CUTS]),
    ):
        rows = []
        for size, cut in cases:
            triangles, seconds, peak = measured(size, cut)
            rows.append((size * size if words == "texels" else triangles, seconds))
            print(f"{size:>6} px {triangles:>9.0f} triangles {seconds:8.2f} s {peak:7.0f} MiB", flush=True)
        (a, first), (b, last) = rows[-3], rows[-1]
        print(f"  exponent in {words}, upper half: {math.log(last / first) / math.log(b / a):.2f}", flush=True)


if __name__ == "__main__":
    main()
