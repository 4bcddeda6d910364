"""How near light of few rays comes to light of many: ``./run bench noise [MODEL...]``, the demo without models.

The light sheet of the largest bundle is gathered with 64 rays and freed of noise, by the library and by the own filter;
one of each `APART` texels, drawn by chance, is gathered once more with 4,096 rays, none of which are the same. A model
without lamps gets a sun and a sky. PSNR is of linear light, as bright as a delivery has it (the 99th percentile is 1),
brighter texels cut off as in a PNG.
"""

import math
import sys
import time
from dataclasses import replace
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np

from fasciculum.baking.light import noise
from fasciculum.baking.light.gathering import finished
from fasciculum.baking.light.noise import Denoiser
from fasciculum.baking.light.passes import LightPasses, LightTerms, shining_of
from fasciculum.baking.target import build_target
from fasciculum.io.pixels import PixelStore
from fasciculum.kernels.light.texel_openings import CLOSED
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import AlphaMode
from fasciculum.model.lighting import Lamp, LampKind, Lighting, Sky, SkyKind
from fasciculum.model.sheet import SheetSettings
from fasciculum.operations.bake.bake import bake
from fasciculum.operations.gather.gather import gather
from fasciculum.operations.lay_out.lay_out import lay_out, measured
from fasciculum.session.loading import demo_document, demo_models

SIZE, RAYS, MANY, BOUNCES, APART = 1024, 64, 4096, 3, 100


def psnr(found, wanted):
    """Return the PSNR in dB of values of which 1 is the brightest."""
    error = float(((np.minimum(found, 1) - np.minimum(wanted, 1)) ** 2).mean())
    return -10 * math.log10(max(error, 1e-12))


def demo(store, folder):
    model, high = demo_models()
    document = demo_document(str(model), str(high), folder)
    return document.scene, max(document.bundles, key=lambda bundle: len(bundle.objects))


def foreign(store, model):
    scene, _ = gather([model], store)
    sun = Lamp("Sun", LampKind.SUN, (1.0, 0.95, 0.9), 3.0, direction=(-0.5, -0.7, -0.5), size=0.5)
    scene = replace(scene, lighting=Lighting(Sky(SkyKind.GRADIENT, (0.4, 0.5, 0.8)), added=(sun,)))
    keys = tuple(item.key for item in scene.objects)
    return scene, Bundle("model", keys, AlphaMode.OPAQUE, SheetSettings(2048, 2048, padding=4, seconds=0))


def light_sheet(scene, bundle, store):
    """Return where the texels of a bundle's light sheet lie."""
    wishes = {"maps": ("light",), "light_uv": True, "light_width": SIZE, "light_height": SIZE, "light_rays": 2}
    sheet = replace(bundle.sheet, seconds=0.0)
    bundle = replace(bundle, sheet=sheet, bake=replace(bundle.bake, **wishes))
    bundle = replace(bundle, layout=measured(lay_out(scene, bundle)))
    return bake(scene, bundle, store).light_layout


def measure(name, scene, bundle, store):
    layout = light_sheet(scene, bundle, store)
    shining = shining_of(scene, lambda image: store.get(image.pixels))

    def passes(rays):
        target = build_target(scene, layout)
        return LightPasses(shining, scene, layout, target, SIZE, SIZE, LightTerms(rays, BOUNCES))

    few = passes(RAYS)
    began = time.perf_counter()
    few.run(RAYS)
    seconds = time.perf_counter() - began
    lit = few.lit
    chosen = lit & (np.random.default_rng(3).random(lit.shape) < 1 / APART)
    many = passes(MANY)
    many.openings[~chosen] = CLOSED
    many.run(MANY)
    wanted = many.sums[chosen, :3] / MANY
    bright = finished(few, (0,), 0.0, seams=None, denoise=False).bright
    told = [f"raw {psnr(few.sums[chosen, :3] / RAYS / bright, wanted / bright):.1f}"]
    found_by = noise.available
    for library in (True, False):
        if library and not found_by():
            continue
        noise.available = lambda library=library: library
        result = finished(few, (0,), 0.0, seams=None, denoise=True)
        word = "the library" if result.denoiser is Denoiser.OIDN else "the own filter"
        told.append(f"{word} {psnr(result.light[chosen] / bright, wanted / bright):.1f}")
    noise.available = found_by
    rate = lit.sum() * RAYS / seconds
    print(
        f"{name}: {lit.sum()} texels, {chosen.sum()} of them with {MANY} rays; {', '.join(told)} dB; "
        f"{seconds:.1f} s for {RAYS} rays, {rate / 1e3:.0f}k paths/s"
    )


def main():
    with TemporaryDirectory() as folder:
        store = PixelStore(Path(folder))
        if len(sys.argv) == 1:
            measure("the demo at dusk", *demo(store, folder), store)
        for model in sys.argv[1:]:
            measure(Path(model).name, *foreign(store, model), store)


if __name__ == "__main__":
    main()
