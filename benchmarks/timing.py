"""How long something takes, for the benchmarks beside it."""

import time


def least(work, times=3):
    """Return the least time of some runs, seconds."""
    results = []
    for _ in range(times):
        began = time.perf_counter()
        work()
        results.append(time.perf_counter() - began)
    return min(results)
