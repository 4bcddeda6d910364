"""How well and how fast surfaces are unwrapped. ``./run bench unwrap [--models FILE...] [--only WORD] [--growth]``

Made-up surfaces and those of models; every figure is measured here, from the flat triangles, not taken from the
unwrapping's own books. Time is set beside one ``splu`` of the surface's graph Laplacian in the same run.
"""

import argparse
import resource
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
from scipy.sparse import coo_matrix, diags
from scipy.sparse.linalg import splu

from fasciculum.io.pixels import PixelStore
from fasciculum.model.unwrapping import PRESETS
from fasciculum.operations.gather.gather import gather
from fasciculum.uv.corners import corners_of, signed_uv_areas, surface_areas
from fasciculum.uv.overlaps import self_overlap
from fasciculum.uv.stretch import measure_stretch
from fasciculum.uv.unwrap.surface import mesh_of
from fasciculum.uv.unwrap.unwrap import unwrap

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))
from tests.uv import surfaces

DEMO = Path(__file__).resolve().parents[1] / "src" / "fasciculum" / "station" / "station.glb"
#: triangles from which on time is compared with one factorisation
LARGE = 80_000
HEAD = (
    f"{'surface':34s} {'triangles':>9s} {'parts':>6s} {'s':>6s} {'flips':>5s} {'cover':>5s} {'lost':>4s} {'L2':>7s} "
    f"{'over 2':>7s} {'charts':>7s} {'seam':>6s} {'rect':>5s} {'axis':>5s}  time over one splu"
)


def knot(columns, rows):
    """A tube along a trefoil, closed."""

    def place(u, v):
        t = 2 * np.pi * u
        middle = np.stack([np.sin(t) + 2 * np.sin(2 * t), np.cos(t) - 2 * np.cos(2 * t), -np.sin(3 * t)], -1)
        step = np.stack([np.cos(t) + 4 * np.cos(2 * t), -np.sin(t) + 4 * np.sin(2 * t), -3 * np.cos(3 * t)], -1)
        step /= np.linalg.norm(step, axis=-1, keepdims=True)
        side = np.cross(step, np.array([0.0, 0.0, 1.0]))
        side /= np.linalg.norm(side, axis=-1, keepdims=True)
        up = np.cross(side, step)
        w = 2 * np.pi * v[..., None]
        return middle + 0.35 * (np.cos(w) * side + np.sin(w) * up)

    return surfaces.sheet_of(place, columns, rows)


def many_boxes(count):
    rng = np.random.default_rng(2)
    return np.concatenate([surfaces.box(rng.uniform(0.1, 1, 3)) + rng.uniform(-60, 60, 3) for _ in range(count)])


def many_tubes(count, sides):
    rng = np.random.default_rng(4)
    return np.concatenate(
        [surfaces.cylinder(sides, *rng.uniform(0.1, 1, 2)) + rng.uniform(-60, 60, 3) for _ in range(count)]
    )


def made_up():
    """The eight made-up surfaces of the table, then large ones."""
    yield "box", surfaces.box()
    yield "cylinder", surfaces.cylinder(48)
    yield "stairs", surfaces.stairs()
    yield "torus", surfaces.torus(96, 40)
    yield "ball with bumps", surfaces.ball(60, 120, 0.5)
    yield "scan with noise", surfaces.noisy(surfaces.ball(60, 120, 0.5), 0.15)
    yield "trefoil tube", knot(300, 24)
    yield "1,600 boxes, 19,200 triangles", many_boxes(1600)
    yield "180 cylinders of 14, 20,160 triangles", many_tubes(180, 14)
    yield "ball with bumps, large", surfaces.ball(200, 220, 0.5)
    yield "trefoil tube, large", knot(1000, 60)
    yield "ball with bumps, larger", surfaces.ball(400, 420, 0.5)


def model_surface(path):
    """Return the triangles of a model's objects, side by side so that none is joined to another."""
    if path.endswith(".npz"):
        return np.load(path)["w"]
    store = PixelStore(Path(tempfile.mkdtemp()))
    scene, _ = gather([path], store)
    parts, right, seen = [], 0.0, set()
    for item in scene.objects:
        if scene.nodes[item.node].mesh in seen:
            continue
        seen.add(scene.nodes[item.node].mesh)
        own = corners_of(scene, item).local
        parts.append(own - own.reshape(-1, 3).min(axis=0) + [right, 0, 0])
        right += float(np.ptp(own[..., 0])) * 1.1 + 0.01
    return np.concatenate(parts)


def factoring(mesh):
    """Return the seconds that one `splu` of the surface's graph Laplacian takes."""
    _, vertices = np.unique(mesh.vertices, return_inverse=True)
    vertices = vertices.reshape(-1, 3)
    count = int(vertices.max()) + 1
    ends = np.concatenate([vertices[:, [0, 1]], vertices[:, [1, 2]], vertices[:, [2, 0]]])
    graph = coo_matrix((np.ones(len(ends)), ends.T), shape=(count, count)).tocsr()
    graph = graph + graph.T
    graph.data[:] = -1.0
    laplacian = (graph + diags(-np.asarray(graph.sum(axis=1)).ravel() + 1e-8)).tocsc()
    began = time.perf_counter()
    splu(laplacian)
    return time.perf_counter() - began


def smallest_rectangles(corners, islands):
    order = np.argsort(islands, kind="stable")
    points = corners[order].reshape(-1, 2)
    first = 3 * np.searchsorted(islands[order], np.arange(int(islands.max()) + 1))
    best = np.full(len(first), np.inf)
    for degrees in range(90):
        c, s = np.cos(np.radians(degrees)), np.sin(np.radians(degrees))
        x, y = c * points[:, 0] + s * points[:, 1], c * points[:, 1] - s * points[:, 0]
        wide = np.maximum.reduceat(x, first) - np.minimum.reduceat(x, first)
        best = np.minimum(best, wide * (np.maximum.reduceat(y, first) - np.minimum.reduceat(y, first)))
    return float(best.sum())


def figures(world, settings):
    mesh = mesh_of(world)
    began = time.perf_counter()
    made = unwrap(world, settings)
    seconds = time.perf_counter() - began
    areas = surface_areas(world)
    longest = np.linalg.norm(np.roll(world, -1, axis=1) - world, axis=2).max(axis=1)
    solid = 2 * areas > 1e-7 * longest**2
    signed = signed_uv_areas(made.corners) * np.where(mesh.turned, -1, 1)
    flips = int((signed[solid] <= 0).sum())
    covering = int((self_overlap(made.corners, made.islands, enough=1e-7) > 1e-7).sum())
    lost = int((~np.isfinite(made.corners).all(axis=(1, 2))).sum())
    stretch = measure_stretch(world, made.corners)
    edges = np.linalg.norm(np.roll(world, -1, axis=1) - world, axis=2)
    # of each connected part over the root of its own surface, the mean weighted by that root
    roots = float(np.sqrt(np.bincount(mesh.part, areas)).sum())
    seam = float(edges[made.seams].sum() / 2 / roots)
    filled = float(areas.sum()) / smallest_rectangles(made.corners, made.islands)
    along = np.abs(np.roll(made.corners, -1, axis=1) - made.corners)
    border = made.seams | _open(mesh)
    length = np.hypot(along[..., 0], along[..., 1])
    on_axis = along.min(axis=2) < 0.02 * np.maximum(length, 1e-300)
    axis = float(length[border & on_axis].sum() / max(length[border].sum(), 1e-300)) if border.any() else 1.0
    charts = (int(made.islands.max()) + 1) / max(made.parts, 1)
    return {
        "mesh": mesh,
        "parts": made.parts,
        "seconds": seconds,
        "flips": flips,
        "cover": covering,
        "lost": lost,
        "l2": stretch.l2,
        "over": stretch.share_over_2,
        "charts": charts,
        "seam": seam,
        "rect": filled,
        "axis": axis,
    }


def _open(mesh):
    result = (mesh.across < 0).reshape(-1, 3).copy()
    result[mesh.turned] = result[mesh.turned][:, [2, 1, 0]]
    return result


def tell(name, world, settings):
    result = figures(world, settings)
    ratio = ""
    if len(world) >= LARGE:
        # the better of two runs on both sides
        seconds = min(result["seconds"], figures(world, settings)["seconds"])
        one = min(factoring(result["mesh"]) for _ in range(2))
        ratio = f"{seconds / one:5.2f} ({seconds:.2f} s / {one:.2f} s)"
    print(
        f"{name[:34]:34s} {len(world):9d} {result['parts']:6d} {result['seconds']:6.2f} {result['flips']:5d} "
        f"{result['cover']:5d} {result['lost']:4d} {result['l2']:7.4f} {result['over']:7.2%} {result['charts']:7.1f} "
        f"{result['seam']:6.1f} {result['rect']:5.2f} {result['axis']:5.2f}  {ratio}",
        flush=True,
    )
    return result


def growth(settings):
    counts, times = [], []
    for rows in (16, 50, 158, 350, 500):
        world = surfaces.ball(rows, rows, 0.5)
        unwrap(world, settings)
        began = time.perf_counter()
        unwrap(world, settings)
        times.append(time.perf_counter() - began)
        counts.append(len(world))
        peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
        print(f"{counts[-1]:8d} triangles: {times[-1]:7.2f} s, peak {peak:.0f} MiB", flush=True)
    slope = np.polyfit(np.log(counts), np.log(times), 1)[0]
    print(f"exponent {slope:.2f}")


def main():
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--models", nargs="*", default=[str(DEMO)])
    parser.add_argument("--only", default="")
    parser.add_argument("--shapes", choices=tuple(PRESETS), default="balanced")
    parser.add_argument("--growth", action="store_true")
    given = parser.parse_args()
    settings = PRESETS[given.shapes]
    unwrap(surfaces.noisy(surfaces.ball(20, 30, 0.5), 0.1), settings)
    if given.growth:
        growth(settings)
        return
    print(HEAD)
    for name, world in made_up():
        if given.only in name:
            tell(name, world, settings)
    results = []
    for path in given.models:
        name = "_".join(Path(path).with_suffix("").parts[-2:])
        if given.only in name:
            results.append(tell(name, model_surface(path), settings))
    if len(results) > 2:
        rows = np.array([[f[k] for k in ("l2", "over", "charts", "seam", "rect")] for f in results])
        middle, worst = np.median(rows, axis=0), rows.max(axis=0)
        print(f"models: L2 median {middle[0]:.4f}, worst {worst[0]:.4f}", end="; ")
        print(f"over 2 median {middle[1]:.3%}, worst {worst[1]:.2%}", end="; ")
        print(f"charts median {middle[2]:.2f}, 90th percentile {np.quantile(rows[:, 2], 0.9):.1f}", end="; ")
        print(f"seam median {middle[3]:.1f}; rectangles median {middle[4]:.2f}")


if __name__ == "__main__":
    main()
