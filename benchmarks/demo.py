"""The demo baked and delivered against encoding and writing the same PNGs: ``./run bench demo [SIZE]``; and one
object's change redone.
"""

import sys
import tempfile
import time
from dataclasses import replace
from pathlib import Path

from fasciculum.io.codecs import encode_png
from fasciculum.io.pixels import PixelStore
from fasciculum.model.sheet import SheetSettings
from fasciculum.operations.bake.bake import bake
from fasciculum.operations.projects import open_project
from fasciculum.session.loading import demo_models
from fasciculum.session.pipeline import Order, make
from fasciculum.threads import in_pieces


def main():
    size = int(sys.argv[1]) if len(sys.argv) > 1 else 2048
    order = Order(sheet=SheetSettings(width=size, height=size, seconds=0.0))
    model = str(demo_models()[0])
    with tempfile.TemporaryDirectory() as folder:
        store = PixelStore(Path(folder) / "warm")
        make(
            [str(demo_models()[0])], Path(folder) / "warm-out", store, Order(sheet=SheetSettings(256, 256, seconds=0.0))
        )
        store = PixelStore(Path(folder) / "pixels")
        out = Path(folder) / "out"
        report, _ = make([model], out, store, order)
        seconds = report["seconds"]
        document = open_project(out / "station.fasc", store)
        keys = [baked.pixels for bundle in document.bundles for baked in bundle.texturing.maps]
        began = time.perf_counter()
        in_pieces(lambda key: (Path(folder) / f"{key}.png").write_bytes(encode_png(store.get(key))), keys)
        alone = time.perf_counter() - began
        whole = seconds["bake"] + seconds["deliver"]
        print(f"{len(keys)} maps of {size} px: bake {seconds['bake']:.2f} s, deliver {seconds['deliver']:.2f} s")
        print(f"encoding and writing alone {alone:.2f} s: {whole / alone:.2f} x")
        print(f"check {seconds['check']:.2f} s")
        bundle = max(document.bundles, key=lambda one: len(one.objects))
        changed = bundle.objects[len(bundle.objects) // 2]
        made = bundle.texturing
        for words, before in (
            ("whole", None),
            (
                f"what {changed} shows alone",
                replace(
                    made,
                    maps=tuple(
                        replace(
                            baked,
                            made_from="",
                            surfaces=tuple(
                                "" if key == changed else digest
                                for key, digest in zip(bundle.objects, baked.surfaces, strict=True)
                            ),
                        )
                        for baked in made.maps
                    ),
                ),
            ),
        ):
            began = time.perf_counter()
            bake(document.scene, replace(bundle, texturing=before), store, only=("base_color",))
            print(f"base colour of {bundle.name}, {words}: {time.perf_counter() - began:.2f} s")


if __name__ == "__main__":
    main()
