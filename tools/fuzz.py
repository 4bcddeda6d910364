"""Throw broken files at the readers for a while: ``tools/fuzz.py [SECONDS] [SEED]``; tells of every kind of fault."""

from __future__ import annotations

import random
import resource
import sys
import tempfile
import time
import traceback
import warnings
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
#: bytes that reading small files may take
LARGE = 2 << 30


def main() -> int:
    """Fuzz for a while and tell of every fault."""
    seconds = float(sys.argv[1]) if len(sys.argv) > 1 else 60.0
    first = int(sys.argv[2]) if len(sys.argv) > 2 else 0
    sys.path.insert(0, str(ROOT))
    from tests.io.fuzz import Fuzz
    from tests.io.seeds import write_seeds

    warnings.simplefilter("ignore")
    resource.setrlimit(resource.RLIMIT_AS, (8 << 30, 8 << 30))
    faults: dict[str, int] = {}
    with tempfile.TemporaryDirectory() as name:
        fuzz = Fuzz(Path(name), write_seeds(Path(name)))
        until, number = time.monotonic() + seconds, first
        while time.monotonic() < until:
            try:
                fuzz.deep = number % 4 == 0
                fuzz.once(random.Random(number))
            except Exception:
                words = traceback.format_exc().strip().splitlines()
                place = [line.strip() for line in words if line.strip().startswith("File")][-1]
                key = f"{words[-1][:160]} | {place}"
                if key not in faults:
                    print(f"seed {number}: {key}", flush=True)
                faults[key] = faults.get(key, 0) + 1
            number += 1
        peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss >> 10
        print(
            f"{number - first} files: {fuzz.counts['read']} read, {fuzz.counts['refused']} refused, "
            f"{sum(faults.values())} faults of {len(faults)} kinds; slowest {fuzz.slowest:.1f} s, peak {peak} MiB"
        )
    return 1 if faults or peak << 20 > LARGE else 0


if __name__ == "__main__":
    raise SystemExit(main())
