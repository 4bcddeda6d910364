"""Compile every kernel once, so that nobody waits for a compiler: ``python -m fasciculum.operations.warm [PART ...]``.

A small scene goes through the whole path, its arrays read-only as those of documents are.
"""

from __future__ import annotations

import contextlib
import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.compression.bc6h import encode_bc6h
from fasciculum.compression.choosing import quality_of
from fasciculum.compression.levels import Meaning, blocks_clean_down_to, mip_levels
from fasciculum.io.pixels import PixelStore
from fasciculum.kernels.packing.exact_distance import exact_near
from fasciculum.kernels.packing.masks import too_near
from fasciculum.kernels.packing.separation import move_all, propose
from fasciculum.kernels.unwrapping.halfedges import smooth_normals
from fasciculum.kernels.unwrapping.polygons import triangulate
from fasciculum.kernels.unwrapping.unwrap import dart, peel, split_chart
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import AlphaMode, PairBy, UvPolicy
from fasciculum.model.detail import Detail, Pairing
from fasciculum.model.lighting import Lamp, LampKind, Lighting, Sky, SkyKind
from fasciculum.model.scene import Image, Material, Mesh, Node, Object, Primitive, Scene, Source, TextureSlot
from fasciculum.model.sheet import SheetSettings
from fasciculum.model.unwrapping import UnwrapSettings
from fasciculum.operations.bake.bake import bake
from fasciculum.operations.bake.progressive_render import look
from fasciculum.operations.check.check import check_bundle
from fasciculum.operations.check.missed import missed_parts, missed_texels
from fasciculum.operations.gather.pairing import pair_up
from fasciculum.operations.lay_out.arrange import conflicts
from fasciculum.operations.lay_out.lay_out import lay_out, measured
from fasciculum.operations.plan.dividing import Divisible, divide
from fasciculum.operations.preparing import tell
from fasciculum.packing.engine import Packer
from fasciculum.packing.shapes import Rules
from fasciculum.rendering.camera import Camera
from fasciculum.treatments.reading import Read
from fasciculum.treatments.sharing import share_texels
from fasciculum.uv.islands import find_islands
from fasciculum.uv.unwrap.charts import Charts, CutCosts, Limits
from fasciculum.uv.unwrap.reshape import Island
from fasciculum.uv.unwrap.surface import mesh_of
from fasciculum.uv.unwrap.unwrap import unwrap

#: seconds after which compiling is left to whoever packs first
MOST_WAITED = 120.0
#: seconds between two looks at what is done
LOOK = 0.2


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
    objects = tuple(Object(f"n{index}", index, (0,), AlphaMode.OPAQUE) for index in range(2))
    return Scene((Source("s", "s", "s"),), nodes, (Mesh("m", (primitive,)),), (material,), (image,), objects)


def warm_packing() -> None:
    """Pack a few triangles every way."""
    rng = np.random.default_rng(1)
    islands = [rng.random((2, 3, 2)) * [1.0, 0.3] for _ in range(8)]
    for padding in (0, 1):
        packer = Packer(islands, Rules(96, 96, padding, 1, "any", True))
        packer.construct()
        packer.stop_early = Patience(padding)
        packer.improve(MOST_WAITED)
        Packer(islands[1:3], Rules(96, 96, padding, 1), held=[islands[0] * 9.0 + 30.0]).construct(scale=9.0)


def warm_plans() -> None:
    """Join what reads one part of a texture, and divide objects over sheets."""
    corners = np.array([[[0, 0], [1, 0], [1, 1]], [[0, 0], [1, 1], [0, 1]]], np.float64) * 0.5
    piece = np.zeros(2, np.int32)
    reads = [Read(corners + shift, piece, np.full((1, 2), shift), np.full((1, 2), 0.5 + shift)) for shift in (0.0, 0.1)]
    share_texels(reads, (64, 64))
    find_islands(np.zeros((2, 3, 3)), corners)
    divide(Divisible([(0,), (0, 1), (1,)], np.array([4.0, 5.0]), np.eye(3)), [1.0, 1.0])


def warm_unwrapping() -> None:
    """Unwrap a surface that needs every way of cutting: closed, bent, rough, with parts that are alike."""
    u, v = np.meshgrid(np.linspace(0, 2 * np.pi, 41), np.linspace(0.05, np.pi - 0.05, 30))
    swell = 1 + 0.3 * np.sin(3 * u) * np.sin(2 * v) + 0.02 * np.random.default_rng(1).normal(size=u.shape)
    swell[:, -1] = swell[:, 0]
    points = np.stack([np.sin(v) * np.cos(u), np.cos(v), np.sin(v) * np.sin(u)], -1) * swell[..., None]
    a, b, c, d = points[:-1, :-1], points[:-1, 1:], points[1:, 1:], points[1:, :-1]
    ball = np.concatenate([np.stack([a, c, b], 2).reshape(-1, 3, 3), np.stack([a, d, c], 2).reshape(-1, 3, 3)])
    both = np.concatenate([ball, ball + 5.0])
    for settings in (UnwrapSettings(fewer=1.0), UnwrapSettings(stretch=0.002)):
        unwrap(both, settings)
    mesh = mesh_of(ball)
    none, plain = np.zeros(len(mesh.across), bool), np.zeros(len(mesh.across))
    charts = Charts(CutCosts(mesh, mesh.normals, none, none, plain + 1.0), Limits(1.01, 0.01), bend=1.0)
    faces = np.arange(len(mesh))
    charts.where[faces] = faces
    smooth_normals(mesh.normals, mesh.areas, mesh.across, 1)
    dart(faces, charts.where, mesh.across, charts.cut, charts.grain.price, charts.rest, charts.place)
    peel(faces, charts.where, mesh.across, charts.cut, charts.place, 0, np.zeros(len(mesh), bool))
    split_chart(faces, charts.where, mesh.across, charts.cut, charts.middles, charts.grain.normals, mesh.areas)
    square = np.array([[[0, 0, 0], [1, 0, 0], [1, 1, 0.1]], [[0, 0, 0], [1, 1, 0.1], [0, 1, 0]]])
    Island(square, square[..., :2] * [1.0, 0.8]).relax()


def warm_high(scene: Scene, bundle: Bundle, store: PixelStore) -> None:
    """Read a scene into itself, as a detailed model, and look for what is missed."""
    detailed = replace(scene, detail=Detail(scene, (), scene))
    paired = pair_up(detailed, Pairing(PairBy.NONE))
    held = pair_up(detailed, Pairing(PairBy.NEAREST, spans=(("n0", (0.0, 0.1)),)))
    maps = (*bundle.bake.named, "height", "vertex_color")
    bundle = replace(bundle, texturing=None, bake=replace(bundle.bake, maps=("auto", *maps), smooth=1.0))
    for read in (paired, held):
        laid = replace(bundle, layout=measured(lay_out(read, bundle)))
        bake(read, laid, store)
        missed_texels(read, laid, store)
        missed_parts(read, laid)


def warm_light(scene: Scene, bundle: Bundle, store: PixelStore) -> None:
    """Gather light on a sheet of its own from all that can shine, of a detailed model too, and look at it."""
    lamps = tuple(Lamp(str(kind), kind, size=0.1, place=(0.0, 0.0, 2.0)) for kind in LampKind)
    lit = scene.lit_by(Lighting(Sky(SkyKind.GRADIENT), lamps))
    maps = ("lit", "light", "light_bounced", "shadow")
    settings = replace(bundle.bake, maps=maps, light_uv=True, light_width=64, light_height=64, light_rays=3)
    plain = replace(bundle, texturing=None, bake=settings)
    detailed = pair_up(replace(lit, detail=Detail(scene, (), scene)), Pairing(PairBy.NONE))
    for one in (lit, detailed):
        bake(one, replace(plain, layout=measured(lay_out(one, plain))), store)
    look(lit, store, Camera(), (16, 16), 0)


class Patience:
    """Says enough once all kernels of separating have run."""

    def __init__(self, padding: int) -> None:
        self._kernels = (move_all, propose, too_near if padding else exact_near)
        self._until = time.monotonic() + MOST_WAITED

    def __call__(self) -> bool:
        """Tell whether everything has been compiled, or has had its time."""
        compiled = all(kernel.signatures for kernel in self._kernels)
        return compiled or time.monotonic() > self._until


def warm_outlines() -> None:
    """Cut faces of many corners into triangles, as readers of models do."""
    angle = np.arange(5) * 2 * np.pi / 5
    pentagon = np.stack([np.cos(angle), np.sin(angle), np.zeros(5)], axis=1)
    triangulate(pentagon, np.array([0, 5]), np.zeros((3, 3), np.int64))


@contextlib.contextmanager
def _laid(kind: type, bits: int, uv: UvPolicy, maps: tuple[str, ...]) -> Iterator[tuple[Scene, Bundle, PixelStore]]:
    """Yield a small scene whose bundle is laid out, and its store."""
    folder = Path(tempfile.mkdtemp(prefix="fasciculum-warm-"))
    try:
        store = PixelStore(folder)
        scene = small_scene(store, kind)
        sheet = SheetSettings(64, 64, padding=2, uv=uv, twins=False, seconds=0)
        bundle = Bundle("b", ("n0", "n1"), AlphaMode.OPAQUE, sheet)
        bundle = replace(bundle, bake=replace(bundle.bake, bits=bits, maps=maps, rays=1))
        layout = lay_out(scene, bundle)
        lay_out(scene, replace(bundle, sheet=replace(sheet, twins=True)))
        conflicts(layout)
        yield scene, replace(bundle, layout=layout), store
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def warm_baking(kind: type = np.uint8, bits: int = 8, uv: UvPolicy = UvPolicy.AUTO) -> None:
    """Bake and check carried maps."""
    with _laid(kind, bits, uv, ()) as (scene, bundle, store):
        made = replace(bundle, texturing=bake(scene, bundle, store))
        check_bundle(scene, made, store, points=100)


def warm_projecting() -> None:
    """Project what has no UVs, and bake deeper maps."""
    warm_baking(uv=UvPolicy.UNWRAP)
    warm_baking(np.uint16, 16)


def warm_compression() -> None:
    """Make mip levels and blocks of a small map."""
    owners = np.zeros((8, 8), np.int32)
    owners[:, 4:] = -1
    for texels in (np.zeros((8, 8, 4), np.uint8), np.zeros((8, 8, 3), np.uint16), np.zeros((8, 8, 3), np.float16)):
        levels = list(mip_levels(texels, owners, Meaning()))
        quality_of(levels[0].texels, levels[0], Meaning(vectors=texels.shape[2] == 3, opacity=texels.shape[2] - 4))
    blocks_clean_down_to(owners, (4, 4))
    encode_bc6h(np.zeros((8, 8, 3), np.float16))


def warm_rays() -> None:
    """Cast rays, and read detailed models."""
    with _laid(np.uint8, 8, UvPolicy.AUTO, ("auto", "ao", "thickness", "curvature", "bent_normal")) as laid:
        scene, bundle, store = laid
        bake(scene, bundle, store)
        warm_high(scene, bundle, store)


def warm_lit() -> None:
    """Gather light."""
    with _laid(np.uint8, 8, UvPolicy.AUTO, ()) as (scene, bundle, store):
        warm_light(scene, bundle, store)


#: what is compiled, in the order of the work; what the first bundle needs comes first
PARTS: dict[str, Callable[[], None]] = {
    "gathering": warm_outlines,
    "unwrapping": warm_unwrapping,
    "packing": warm_packing,
    "baking": warm_baking,
    "detailed models and rays": warm_rays,
    "projecting": warm_projecting,
    "light": warm_lit,
    "compression": warm_compression,
    "plans": warm_plans,
}
#: what the first two processes do, side by side; the first that is done goes on with the rest
FIRST = (("gathering", "plans", "unwrapping"), ("baking", "packing"))
#: what a process does beside one that begins to work at once: what that one comes to last
BESIDE = (
    "baking",
    "detailed models and rays",
    "packing",
    "unwrapping",
    "projecting",
    "light",
    "compression",
    "plans",
    "gathering",
)


def _beside() -> None:
    """Compile all parts one after the other, beside whoever works."""
    os.nice(1)
    try:
        for number, name in enumerate(BESIDE):
            tell(BESIDE[number:])
            PARTS[name]()
    finally:
        tell(())


def _side_by_side() -> int:
    """Compile all parts in two processes, telling what is done; return how many failed."""
    began = time.monotonic()
    left, failed = list(PARTS), 0
    later = [name for name in PARTS if name not in (*FIRST[0], *FIRST[1])]
    queues = [list(names) for names in FIRST]
    running: list[tuple[subprocess.Popen[bytes], list[str]] | None] = [None, None]
    try:
        while left:
            for at, queue in enumerate(queues):
                job = running[at]
                if job is not None and job[0].poll() is not None:
                    failed += job[0].returncode != 0
                    left = [name for name in left if name not in job[1]]
                    sys.stderr.write(f"[kernels] {time.monotonic() - began:4.0f} s  {', '.join(job[1])}\n")
                    running[at] = None
                if running[at] is None and (queue or later):
                    names = [queue.pop(0)] if queue else [later.pop(0)]
                    running[at] = (
                        subprocess.Popen([sys.executable, "-m", "fasciculum.operations.warm", *names]),
                        names,
                    )
            tell(left)
            time.sleep(LOOK)
    finally:
        tell(())
        for job in running:
            if job is not None and job[0].poll() is None:
                job[0].terminate()
    sys.stderr.write(f"[kernels] ready after {time.monotonic() - began:.0f} s\n")
    return failed


def main(names: Sequence[str]) -> int:
    """Compile some parts by their names, all of them side by side, or ``--beside`` others; return the exit code."""
    if list(names) == ["--beside"]:
        _beside()
        return 0
    if not names:
        return 1 if _side_by_side() else 0
    for name in names:
        PARTS[name]()
    return 0


if __name__ == "__main__":
    raise SystemExit(main(sys.argv[1:]))
