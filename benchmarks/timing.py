"""How long something takes, for the benchmarks beside it."""

import time


def least(work, times=3):
    """Return the least time of some runs, seconds."""
    found = []
    for _ in range(times):
        began = time.perf_counter()
        work()
        found.append(time.perf_counter() - began)
    return min(found)
