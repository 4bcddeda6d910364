"""How densely islands are packed, and how soon.

``./run bench pack [--seconds 20] [--seeds 1 2 3] [--only WORD] [--models GLB...]``

Made-up lots of islands (benchmarks/charts.py), and those of models, on two threads; beside it, in the same run, what
bounding boxes on shelves reach with the same islands and padding. ``--growth`` measures how the time of the first
layout grows from 50 islands to 20,000.
"""

import argparse
import math
import random
import tempfile
import time
from pathlib import Path

import numpy as np
from charts import cut_square, hard, jagged_square, mixed

from fasciculum.io.pixels import PixelStore
from fasciculum.model.bundle import Bundle
from fasciculum.model.sheet import SheetSettings
from fasciculum.operations.gather.gather import gather
from fasciculum.operations.lay_out.pieces import pieces_of
from fasciculum.packing.engine import Packer
from fasciculum.packing.shapes import Rules

SIZE = 2048
DEMO = Path(__file__).resolve().parents[1] / "src" / "fasciculum" / "station" / "station.glb"
#: models whose islands make a lot, where more than these are given
TOGETHER = 6
#: seconds at which the fill is told
MARKS = (2, 10, 20)


def area_of(islands):
    total = 0.0
    for island in islands:
        one, two = island[:, 1] - island[:, 0], island[:, 2] - island[:, 0]
        total += float(np.abs(one[:, 0] * two[:, 1] - one[:, 1] * two[:, 0]).sum() / 2)
    return total


def shelves(islands, padding):
    """Return the fill that boxes on shelves reach, the reference: tallest first, lying, left to right."""
    boxes = np.array([np.sort(np.ptp(island.reshape(-1, 2), axis=0))[::-1] for island in islands])
    boxes = boxes[np.argsort(-boxes[:, 1], kind="stable")]

    def fits(scale):
        x = y = shelf = 0.0
        for wide, high in boxes * scale + padding + (1 if padding else 0):
            if x + wide > SIZE:
                x, y, shelf = 0.0, y + shelf, 0.0
            x, shelf = x + wide, max(shelf, high)
            if x > SIZE or y + shelf > SIZE:
                return False
        return True

    low, high = 0.0, SIZE * 10.0
    for _ in range(40):
        middle = (low + high) / 2
        low, high = (middle, high) if fits(middle) else (low, middle)
    return area_of(islands) * low**2 / SIZE**2


def measure(islands, padding, turns, seconds):
    """Return the fill over time as (seconds, fill)."""
    area = area_of(islands)
    began = time.monotonic()
    curve = []
    packer = Packer(
        islands,
        Rules(SIZE, SIZE, padding, (padding + 1) // 2, turns),
        show=lambda packed: curve.append((time.monotonic() - began, packed.scale**2 * area / SIZE**2)),
    )
    packer.construct()
    packer.improve(seconds - (time.monotonic() - began))
    curve.append((time.monotonic() - began, packer.best.scale**2 * area / SIZE**2))
    return curve


def at(curves, seconds):
    """Return the mean of the fills that had been reached by then."""
    reached = [[fill for when, fill in curve if when <= seconds + 0.5] for curve in curves]
    return f"{np.mean([max(fills) for fills in reached]):.3f}" if all(reached) else "-"


def model_islands(paths):
    """Return the islands of models, in metres, twins once."""
    store = PixelStore(Path(tempfile.mkdtemp()))
    scene, _ = gather([str(path) for path in paths], store)
    bundle = Bundle("b", tuple(item.key for item in scene.objects), "OPAQUE", SheetSettings(SIZE, SIZE))
    pieces = pieces_of(scene, bundle)
    return pieces.sized(pieces.leaders)


def lots(models, seed):
    yield "50 mixed charts", mixed(50, seed)
    yield "300 mixed charts", mixed(300, seed)
    yield "2,000 mixed charts", mixed(2000, seed)
    yield "50 harder charts", hard(50, seed)
    yield "300 harder charts", hard(300, seed)
    yield "square in 100 pieces", cut_square(100, seed)
    yield "square in 100 jagged", jagged_square(100, seed)
    if len(models) > TOGETHER:
        # other models for each seed
        yield f"islands of {TOGETHER} models", model_islands(random.Random(seed).sample(sorted(models), TOGETHER))
        return
    for model in models:
        yield f"islands of {Path(model).stem}", model_islands([model])


def growth():
    """Print the time of the first layout for more and more islands, and the exponent."""
    counts, times = (50, 300, 2000, 20000), []
    for count in counts:
        islands = mixed(count, 1)
        Packer(islands[:20], Rules(SIZE, SIZE, 2, 1, "quarter")).construct()
        began = time.monotonic()
        attempts = []
        packer = Packer(islands, Rules(SIZE, SIZE, 2, 1, "quarter"))
        tries = packer._tries
        packer._tries = lambda *given, tries=tries, attempts=attempts: attempts.extend(given[1]) or tries(*given)
        packer.construct()
        times.append(time.monotonic() - began)
        fill = packer.best.scale**2 * area_of(islands) / SIZE**2
        each = times[-1] / max(len(attempts) / 2, 1)
        print(f"{count:6d} islands: {times[-1]:6.1f} s, {len(attempts)} tries, {each:.2f} s a pass, fill {fill:.3f}")
        times[-1] = each
    slope = np.polyfit(np.log(counts), np.log(times), 1)[0]
    last = math.log(times[-1] / times[-2]) / math.log(counts[-1] / counts[-2])
    print(f"exponent {slope:.2f} from {counts[0]} to {counts[-1]}, {last:.2f} at the end")


def main():
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--seconds", type=float, default=20.0)
    parser.add_argument("--only", default="")
    parser.add_argument("--models", nargs="*", default=[str(DEMO)], help="more than six: islands of six of them")
    parser.add_argument("--turns", nargs="*", default=["any", "quarter"])
    parser.add_argument("--padding", nargs="*", type=int, default=[0, 4])
    parser.add_argument(
        "--seeds", nargs="*", type=int, default=[1], help="of the lots; the mean of their fills is told"
    )
    parser.add_argument("--growth", action="store_true")
    given = parser.parse_args()
    for padding in (0, 2):
        # what compiling takes is nobody's packing time
        Packer(mixed(12, 3), Rules(256, 256, padding, 1, "any")).construct()
        packer = Packer(mixed(12, 3), Rules(256, 256, padding, 1, "any"))
        packer.construct()
        packer.improve(1.0)
    if given.growth:
        growth()
        return
    marks = [mark for mark in (*MARKS, given.seconds) if mark <= given.seconds]
    marks = list(dict.fromkeys(marks))
    print(
        f"{'lot':28s} {'turns':8s} {'padding':>7s} {'shelves':>8s} {'first':>7s} "
        + " ".join(f"{m:>5.0f} s" for m in marks)
    )
    for together in zip(*(list(lots(given.models, seed)) for seed in given.seeds), strict=True):
        name = together[0][0]
        if given.only not in name:
            continue
        for turns in given.turns:
            for padding in given.padding:
                curves = [measure(islands, padding, turns, given.seconds) for _, islands in together]
                row = " ".join(f"{at(curves, mark):>7s}" for mark in marks)
                first = f"{np.mean([curve[0][0] for curve in curves]):5.1f} s"
                beside = np.mean([shelves(islands, padding) for _, islands in together])
                print(f"{name:28s} {turns:8s} {padding:7d} {beside:8.3f} {first:>7s} {row}", flush=True)


if __name__ == "__main__":
    main()
