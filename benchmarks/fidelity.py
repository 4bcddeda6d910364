"""How like its source a delivery is: on the surface, and rendered from six sides. ``./run bench fidelity [MODEL...]``

The delivered GLB is gathered again and drawn by the product's renderer beside the source, textures whole, 960 x 720.
"""

import json
import math
import sys
import tempfile
from dataclasses import replace
from pathlib import Path

import numpy as np
from scipy.ndimage import uniform_filter

from fasciculum.io.pixels import PixelStore
from fasciculum.model.bake_settings import BakeSettings
from fasciculum.model.sheet import SheetSettings
from fasciculum.operations.gather.gather import gather
from fasciculum.rendering.camera import Camera
from fasciculum.rendering.draws import source_draws
from fasciculum.rendering.previews import mip_chain
from fasciculum.rendering.renderer import Renderer, View
from fasciculum.session.pipeline import Order, make

SIDES = {"front": (0, 8), "right": (90, 8), "back": (180, 8), "left": (270, 8), "above": (35, 80), "below": (215, -60)}
SIZE = 960, 720


def psnr(error):
    return -10 * math.log10(float(np.mean(error))) if np.mean(error) > 0 else math.inf


def load(renderer, side, path, store):
    scene, _ = gather([str(path)], store)
    draws = [draw for item in scene.objects for draw in source_draws(scene, item)]
    renderer.set_side(side, draws)
    for draw in draws:
        for key, _, _ in draw.textures.values():
            if not renderer.has_texture(key):
                renderer.add_texture(key, mip_chain(store.get(key), 1 << 14))
    while renderer.uploading:
        renderer.upload()


def render(source, delivered, store, pictures=None):
    """Return for each side the PSNR over covered pixels and the worst 16 x 16 block, in dB."""
    renderer = Renderer(anisotropy=8.0)
    load(renderer, "source", source, store)
    load(renderer, "result", delivered, store)
    box = renderer.bounds()
    results = {}
    for name, (yaw, pitch) in SIDES.items():
        camera = replace(Camera(yaw=yaw, pitch=pitch).framing(*box, aspect=SIZE[0] / SIZE[1]))
        one, ids = renderer.render(camera, *SIZE, [View("source")]).astype(float) / 255, renderer.ids >= 0
        two, more = renderer.render(camera, *SIZE, [View("result")]).astype(float) / 255, renderer.ids >= 0
        covered = ids | more
        error = ((one - two)[..., :3] ** 2).mean(axis=2)
        blocks = uniform_filter(error, 16, mode="constant")[8:-8, 8:-8]
        worst = np.unravel_index(blocks.argmax(), blocks.shape)
        results[name] = (psnr(error[covered]), psnr(blocks[worst]), (worst[1] + 8, worst[0] + 8))
        if pictures:
            import cv2

            cv2.imwrite(f"{pictures}_{name}.png", (np.hstack([one, two])[..., [2, 1, 0]] * 255).astype(np.uint8))
    renderer.release()
    return results


def main():
    models = sys.argv[1:] or [str(Path(__file__).parents[1] / "src" / "fasciculum" / "station" / "station.glb")]
    for model in models:
        folder = Path(tempfile.mkdtemp())
        store = PixelStore(folder / "pixels")
        order = Order("alpha", SheetSettings(4096, 4096, seconds=0), BakeSettings())
        report, _ = make([model], folder / "out", store, order)
        print(f"== {model}: {json.dumps({k: round(v, 1) for k, v in report['seconds'].items()})} s")
        for bundle in report["bundles"]:
            entries = bundle["fidelity"]

            def least(key, entries=entries, low=0.0, high=math.inf):
                values = [
                    e[key]
                    for e in entries
                    if e[key] is not None and low <= (99 if e["yield"] is None else e["yield"]) < high
                ]
                return f"{min(values):.1f}" if values else "-"

            angles = [e["normal_p95_degrees"] for e in entries if e["normal_p95_degrees"] is not None]
            print(
                f"{bundle['name']}: worst object, base colour {least('base_color_db', low=0.9)} dB "
                f"(yield 0.9 and more), {least('base_color_db', high=0.9)} dB (less); ORM {least('orm_db')} dB, "
                f"emission {least('emissive_db')} dB, normals {max(angles, default=0):.2f} degrees"
            )
        for name, (whole, block, place) in render(
            model, folder / "out" / report["files"][0], store, "/tmp/six"
        ).items():
            print(f"  {name:<6} {whole:5.1f} dB, worst block {block:5.1f} dB at {place}")


if __name__ == "__main__":
    main()
