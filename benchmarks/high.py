"""Whole bakes from a detailed model against tracing the same rays alone: ``./run bench high [TRIANGLES]``.

A ball with bumps is read into one of two thousand triangles: normals at 2048, occlusion with 64 rays at 1024.
"""

import resource
import sys
import tempfile
import time
from dataclasses import replace
from pathlib import Path

import numpy as np
from rays import bumpy
from timing import least

from fasciculum.baking.bakers import Conditions, MapBaker, MapPlan
from fasciculum.baking.high import HighPolyProjector
from fasciculum.baking.occlusion import Rays
from fasciculum.baking.target import build_target
from fasciculum.baking.tiling import Tiles
from fasciculum.io.pixels import PixelStore
from fasciculum.model.bake_settings import BakeSettings
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import AlphaMode, Reads
from fasciculum.model.detail import Detail, Pairing
from fasciculum.model.maps import AO, NORMAL
from fasciculum.model.scene import Mesh, Node, Object, Primitive, Scene
from fasciculum.model.sheet import SheetSettings
from fasciculum.operations.gather.pairing import pair_up
from fasciculum.operations.lay_out.lay_out import lay_out
from fasciculum.progress import SILENT
from fasciculum.threads import in_pieces


def ball(name, count):
    triangles = bumpy(count)
    points, numbers = np.unique(triangles.reshape(-1, 3), axis=0, return_inverse=True)
    normals = points / np.linalg.norm(points, axis=1, keepdims=True)
    turn = np.arctan2(-points[:, 2], points[:, 0]) / (2 * np.pi) + 0.5
    uvs = np.stack([turn, np.arccos(np.clip(normals[:, 1], -1, 1)) / np.pi], 1)
    primitive = Primitive(
        points.astype(np.float32),
        numbers.reshape(-1, 3).astype(np.int32),
        normals.astype(np.float32),
        None,
        (uvs.astype(np.float32),),
        None,
        -1,
    )
    return Scene(
        nodes=(Node(name, -1, np.eye(4), 0, 0, 0),),
        meshes=(Mesh(name, (primitive,)),),
        objects=(Object(name, 0, (0,), AlphaMode.OPAQUE),),
    )


def measure(scene, store, kind, size):
    """Return how long a whole bake takes, and casting its rays alone, seconds."""
    sheet = SheetSettings(size, size, padding=4, seconds=0.0)
    bundle = Bundle("ball", ("ball_low",), AlphaMode.OPAQUE, sheet, BakeSettings(maps=(kind.name,)))
    layout = lay_out(scene, bundle)
    target = build_target(scene, layout)
    plan = MapPlan(kind, size, size, bundle.bake.wish(kind.name), kind.channels)
    leading = (scene, layout, target, (0.0, 0.0), Reads.PARTNERS, lambda image: store.get(image.pixels))
    baking = MapBaker(scene, layout, target, Conditions(rays=Rays(64)), leading[5])
    baking._high = HighPolyProjector(*leading, roles=frozenset())
    baking.bake([plan])
    whole = least(lambda: baking.bake([plan]), 2)
    reader = baking._high.on(target, size, size)
    tiles = Tiles(target, size, size)
    kept = [(piece, tiles.ids(piece)) for piece in tiles.pieces()]
    if kind is NORMAL:
        return whole, least(lambda: in_pieces(lambda one: reader._cast(one[0], tiles.across, one[1]), kept), 2)
    source = baking._sources([plan], target, reader, SILENT)["rays"]
    read = (reader.hits(one[0], tiles.across, one[1]) for one in kept)
    cast = [(hits, reader.places(hits)) for hits in read if hits is not None]
    results = [np.zeros((len(place), 6), np.float32) for _, place in cast]

    def trace(number):
        hits, place = cast[number]
        source.source.trace(hits, place, target.surface[hits.low], results[number])

    return whole, least(lambda: in_pieces(trace, range(len(cast))), 2)


def main():
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 500_000
    began = time.perf_counter()
    scene = replace(ball("ball_low", 2000), detail=Detail(ball("ball_high", count)))
    scene = pair_up(scene, Pairing())
    print(
        f"{count} triangles, paired and measured in {time.perf_counter() - began:.1f} s; {scene.detail.pairs[0].span}"
    )
    store = PixelStore(Path(tempfile.mkdtemp()))
    for kind, size, most in ((NORMAL, 2048, 1.5), (AO, 1024, 1.25)):
        whole, alone = measure(scene, store, kind, size)
        part = f"{whole / alone:.2f} x (asked {most})"
        print(f"  {kind.name} at {size}: {whole:.2f} s, tracing alone {alone:.2f} s: {part}")
    print(f"  most memory: {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024:.0f} MiB")


if __name__ == "__main__":
    main()
