"""Plans for generated scenes: ``./run bench plan [OBJECTS]``; seconds, and how they grow with the number of objects."""

import sys
import tempfile
import time
from pathlib import Path

import numpy as np
from tests.builders import SQUARE, SQUARE_NORMALS, SQUARE_TRIANGLES, Glb, smooth_image, square_uvs

from fasciculum.io.pixels import PixelStore
from fasciculum.model.choices import Combine
from fasciculum.model.delivery import DeliverySettings
from fasciculum.model.terms import Terms
from fasciculum.operations.gather.gather import gather
from fasciculum.operations.plan.plan import Planner


def scene_of(objects, folder):
    """A scene of so many objects with two fifths as many materials, a third of them flat and a third repeating."""
    rng = np.random.default_rng(objects)
    glb = Glb()
    meshes = []
    for number in range(max(objects * 2 // 5, 3)):
        if number % 3 == 0:
            material = glb.material(pbr={"baseColorFactor": [*rng.random(3).tolist(), 1]})
        else:
            edge = int(rng.choice([16, 32, 64]))
            material = glb.material(glb.texture(smooth_image(edge, seed=number)))
        repeats = (float(rng.uniform(2, 20)), 1.0) if number % 3 == 1 else (1.0, 1.0)
        steps = 6
        grid = np.stack(np.meshgrid(np.arange(steps), np.arange(steps), indexing="ij"), -1).reshape(-1, 2)
        places = np.concatenate([SQUARE + [*place, 0] for place in grid])
        triangles = np.concatenate([SQUARE_TRIANGLES + 4 * n for n in range(len(grid))])
        uvs = np.tile(square_uvs(repeats), (len(grid), 1))
        normals = np.tile(SQUARE_NORMALS, (len(grid), 1))
        meshes.append(glb.mesh(glb.primitive(places, triangles, material, [uvs], NORMAL=normals)))
    for number in range(objects):
        spot = (rng.random(3) * 100).tolist()
        glb.node(f"object {number}", meshes[number % len(meshes)], translation=spot)
    return gather([glb.write(folder / f"{objects}.glb")], PixelStore(folder / str(objects)))[0]


def main():
    most = int(sys.argv[1]) if len(sys.argv) > 1 else 500
    sizes = [most // 4, most // 2, most, most * 2]
    spent = []
    with tempfile.TemporaryDirectory() as name:
        for objects in sizes:
            scene = scene_of(objects, Path(name))
            settings = DeliverySettings(combine=Combine.BUNDLE, region=50.0)
            began = time.perf_counter()
            planner = Planner(scene, settings)
            measured = time.perf_counter()
            plans = planner.plans(Terms())
            ended = time.perf_counter()
            again = min(_timed(planner) for _ in range(3))
            spent.append(ended - began)
            print(
                f"{objects} objects, {len(scene.materials)} materials: {ended - began:.2f} s (measuring "
                f"{measured - began:.2f}, plans {ended - measured:.2f}), other terms {again:.2f} s; "
                f"{len(plans.front)} on the front"
            )
    for before, after, few, many in zip(spent[:-1], spent[1:], sizes[:-1], sizes[1:], strict=True):
        print(f"from {few} to {many}: exponent {np.log(after / before) / np.log(many / few):.2f}")


def _timed(planner):
    began = time.perf_counter()
    planner.plans(Terms(sharpness=0.7))
    return time.perf_counter() - began


if __name__ == "__main__":
    main()
