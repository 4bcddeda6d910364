"""Paths of light against embreex tracing the same rays in the same run, and how light grows: ``./run bench light``.

``whole`` bakes the demo's light sheet at 1024 with 64 rays too. Wants ``embreex`` (PyPI); paths are of one thread.
"""

import inspect
import math
import sys
import time
from dataclasses import replace
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np
from embreex.mesh_construction import TriangleMesh
from embreex.rtcore_scene import EmbreeScene
from numba import njit
from timing import least

from fasciculum.baking.casting import casting_items, triangles_of
from fasciculum.baking.light.passes import LightPasses, LightTerms, shining_of
from fasciculum.baking.target import build_target
from fasciculum.io.pixels import PixelStore
from fasciculum.kernels.light import gathering as lighting
from fasciculum.kernels.light import paths
from fasciculum.kernels.light.gathering import SUMS, light_places
from fasciculum.kernels.rays.bvh import ROOM
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import AlphaMode
from fasciculum.model.sheet import SheetSettings
from fasciculum.operations.bake.bake import bake
from fasciculum.operations.lay_out.lay_out import lay_out, measured
from fasciculum.session.loading import demo_document, demo_models

PLACES, RAYS, BOUNCES = 1500, 16, 3
#: steps that coordinates are kept in, and numbers of a ray
FINE, NUMBERS = 1e8, 8
KEYS = ("Platform", "Foundation", "Hut walls", "Bench", "Hull")

LOGGED = """
@njit
def logged(kind, ox, oy, oz, dx, dy, dz, far, stack):
    place = stack[ROOM]
    for value in (float(kind), ox, oy, oz, dx, dy, dz, min(far, 1e4)):
        stack[ROOM + 1 + place] = int(value * FINE)
        place += 1
    stack[ROOM] = place

@njit
def any_logged(tree, ox, oy, oz, dx, dy, dz, near, far, stack):
    logged(0, ox, oy, oz, dx, dy, dz, far, stack)
    return any_hit(tree, ox, oy, oz, dx, dy, dz, near, far, stack)

@njit
def closest_logged(tree, ox, oy, oz, dx, dy, dz, near, far, stack):
    logged(1, ox, oy, oz, dx, dy, dz, 1e4, stack)
    return closest_hit(tree, ox, oy, oz, dx, dy, dz, near, far, stack)
"""


def logged_rays(places, seeds, told):
    """Return each ray that the paths of places cast: 0 for any hit and 1 for the closest, origin, direction, reach."""
    room = ROOM + 2 + len(places) * RAYS * 14 * NUMBERS
    names = dict(vars(paths)) | dict(vars(lighting)) | {"njit": njit, "FINE": FINE}
    exec(LOGGED, names)
    for kernel in (paths.cast_shots, paths.cast_ways, paths.follow, paths.room_for_paths, lighting.light_places):
        text = inspect.getsource(kernel.py_func).replace("cache=True, ", "")
        text = text.replace(" any_hit(", " any_logged(").replace("= closest_hit(", "= closest_logged(")
        text = text.replace("np.empty(ROOM, np.int64)", f"np.zeros({room}, np.int64)")
        exec(text + ("    return batch.stack\n" if kernel is lighting.light_places else ""), names)
    stack = names["light_places"](places, seeds, *told, np.zeros((len(places), SUMS)))
    return stack[ROOM + 1 : ROOM + 1 + stack[ROOM]].reshape(-1, NUMBERS) / FINE


def shone(document, store):
    scene = document.scene
    shining = shining_of(scene, lambda image: store.get(image.pixels))
    return scene, shining


def passes_on(scene, shining, size, rays):
    sheet = SheetSettings(size, size, padding=2, twins=False, seconds=0)
    layout = measured(lay_out(scene, Bundle("b", KEYS, AlphaMode.OPAQUE, sheet)))
    return LightPasses(shining, scene, layout, build_target(scene, layout), size, size, LightTerms(rays, BOUNCES))


def against_embreex(scene, shining):
    result = passes_on(scene, shining, 96, RAYS)
    corners = result.corners
    rng = np.random.default_rng(5)
    chosen = np.sort(rng.integers(0, len(corners), PLACES))
    places = np.zeros((PLACES, 10))
    places[:, :9] = corners[chosen].mean(axis=1)
    seeds = (np.arange(PLACES) * 977 + 13).astype(np.uint32)
    told = (shining.world, shining.lamps, shining.sky, 0, RAYS, BOUNCES, shining.step, False)
    sums = np.zeros((PLACES, SUMS))
    rays = logged_rays(places, seeds, told)
    solid = [
        triangles_of(part, part.object(key), primitive)
        for part, key in casting_items(scene, [item.key for item in scene.objects], everything=True)
        for primitive in part.primitives_of(part.object(key))
        if part.material_of(primitive).alpha_mode is not AlphaMode.BLEND
    ]
    theirs = EmbreeScene()
    TriangleMesh(theirs, np.concatenate(solid))
    light_places(places, seeds, *told, sums)
    mine = least(lambda: light_places(places, seeds, *told, sums), 5)
    parts = []
    for kind, query in ((0, "OCCLUDED"), (1, "INTERSECT")):
        of = rays[rays[:, 0] == kind]
        origins, ways = (np.ascontiguousarray(of[:, a:b], np.float32) for a, b in ((1, 4), (4, 7)))
        far = np.ascontiguousarray(of[:, 7], np.float32)
        theirs.run(origins[:8], ways[:8], query=query)
        parts.append(
            (len(of), least(lambda o=origins, w=ways, f=far, q=query: theirs.run(o, w, dists=f.copy(), query=q), 3))
        )
    count = PLACES * RAYS
    whole = sum(seconds for _, seconds in parts)
    print(f"{count} paths, {len(rays) / count:.1f} rays each ({parts[0][0]} any, {parts[1][0]} closest)")
    print(f"own {count / mine / 1e3:.0f}k paths/s on a thread; embreex takes {whole / mine:.2f} of that for their rays")


def growth(scene, shining):
    def seconds(size, rays):
        result = passes_on(scene, shining, size, rays)
        began = time.perf_counter()
        result.run(rays)
        return time.perf_counter() - began, int(result.lit.sum())

    seconds(48, 4)
    by_size = [seconds(size, 8) for size in (64, 128, 256)]
    by_rays = [(seconds(96, rays)[0], rays) for rays in (8, 32, 128)]
    for words, result in (("texels", by_size), ("rays", by_rays)):
        part = math.log(result[-1][0] / result[0][0]) / math.log(result[-1][1] / result[0][1])
        print(f"growth in {words}: exponent {part:.2f}  {[(round(s, 2), n) for s, n in result]}")


def whole(document, store):
    bundle = document.bundles[0]
    wishes = {"maps": ("light",), "light_uv": True, "light_width": 1024, "light_height": 1024, "light_rays": 64}
    sheet = replace(bundle.sheet, seconds=0.0)
    bundle = replace(bundle, sheet=sheet, bake=replace(bundle.bake, **wishes))
    bundle = replace(bundle, layout=measured(lay_out(document.scene, bundle)))
    began = time.perf_counter()
    made = bake(document.scene, bundle, store)
    texels = round(made.light_layout.fill * 1024 * 1024)
    taken = time.perf_counter() - began
    print(f"light sheet of {bundle.name}, 1024, 64 rays, 3 bounces: {taken:.0f} s, {texels} texels, {made.light}")


def main():
    with TemporaryDirectory() as folder:
        store = PixelStore(Path(folder))
        model, high = demo_models()
        document = demo_document(str(model), str(high), folder)
        scene, shining = shone(document, store)
        against_embreex(scene, shining)
        growth(scene, shining)
        if "whole" in sys.argv[1:]:
            whole(document, store)


if __name__ == "__main__":
    main()
