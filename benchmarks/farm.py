"""A farm of one and of two Dask workers, a core each: ``./run bench farm``. Forty jobs, and what a task costs."""

import functools
import heapq
import json
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
from tests.builders import Glb, box_mesh, smooth_image

from fasciculum.cli.farm import farm_of
from fasciculum.cli.jobs import Job, do_job

JOBS, CALLS = 40, 300


def crates(path, seed):
    """Twelve crates with two textures of 512 x 512."""
    glb = Glb()
    woods = [glb.material(glb.texture(smooth_image(512, seed=2 * seed + k))) for k in range(2)]
    for number in range(12):
        size = (1.0, 0.5 + 0.1 * number, 0.4)
        glb.node(f"Crate {number}", box_mesh(glb, woods[number % 2], size), translation=[2.0 * number, 0, 0])
    return str(glb.write(path))


def started(folder, count):
    """Start a scheduler and workers; return the processes and the address."""
    file = folder / f"scheduler {count}.json"
    common = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
    environment = {**os.environ, "NUMBA_NUM_THREADS": "1"}
    begin = [sys.executable, "-m", "distributed.cli.dask_scheduler", "--scheduler-file", str(file), "--port", "0"]
    processes = [subprocess.Popen([*begin, "--no-dashboard", "--host", "127.0.0.1"], env=environment, **common)]
    while not file.is_file():
        time.sleep(0.05)
    for number in range(count):
        begin = [sys.executable, "-m", "distributed.cli.dask_worker", "--scheduler-file", str(file), "--no-nanny"]
        processes.append(
            subprocess.Popen(
                [*begin, "--no-dashboard", "--nthreads", "1", "--local-directory", str(folder)],
                env=environment,
                # a job alone takes 1.4 cores (textures are written by threads): a worker is a machine of one core
                preexec_fn=functools.partial(os.sched_setaffinity, 0, {number}),
                **common,
            )
        )
    return processes, json.loads(file.read_text())["address"]


def farm_with(address, count):
    while True:
        try:
            farm = farm_of(address)
        except Exception:
            time.sleep(0.2)
            continue
        if farm.count() == count:
            return farm
        farm.close()


def measure(folder, models, count):
    """Return the seconds of all jobs, the seconds that jobs themselves say, and the seconds of an empty call."""
    processes, address = started(folder, count)
    farm = farm_with(address, count)
    try:
        options = (("size", 512), ("seconds", 0), ("padding", 4))
        jobs = [Job(f"{count} {n}", (model,), str(folder / f"out {count}"), options) for n, model in enumerate(models)]
        # each worker has compiled kernels at hand and has read them
        for future in [farm.submit(do_job, job) for job in jobs[: 2 * count]]:
            future.result()
        began = time.perf_counter()
        ended = [future.result() for future in [farm.submit(do_job, job) for job in jobs]]
        seconds = time.perf_counter() - began
        assert all(one.done for one in ended)
        began = time.perf_counter()
        for future in [farm.submit(os.getpid) for _ in range(CALLS)]:
            future.result()
        return seconds, sum(one.seconds for one in ended), (time.perf_counter() - began) / CALLS
    finally:
        farm.close()
        for process in reversed(processes):
            process.kill()
            process.wait()


def simulated(workers, jobs, call, megabytes, disk):
    """Return the seconds of jobs (seconds each) on so many workers.

    One scheduler hands out a job each ``call`` seconds; every job moves ``megabytes`` through one store that gives
    ``disk`` megabytes a second to all, one after the other.
    """
    free = [0.0] * workers
    heapq.heapify(free)
    handed = stored = last = 0.0
    for seconds in jobs:
        handed = max(handed + call, heapq.heappop(free))
        stored = max(stored, handed) + megabytes / disk
        ended = max(stored, handed) + seconds
        heapq.heappush(free, ended)
        last = max(last, ended)
    return last


def simulate(call):
    """Print how much of all workers' time 10,000 jobs use, from 1 to 1,000 workers."""
    rng = np.random.default_rng(1)
    cases = {
        "props: 1.8 s, 4 MB": (rng.lognormal(np.log(1.8) - 0.18, 0.6, 10_000), 4.0),
        "rooms: 60 s, 60 MB": (rng.lognormal(np.log(60) - 0.18, 0.6, 10_000), 60.0),
        "rooms, one of an hour": (np.append(rng.lognormal(np.log(60) - 0.18, 0.6, 9_999), 3600.0), 60.0),
        "the same, longest first": (np.append(3600.0, rng.lognormal(np.log(60) - 0.18, 0.6, 9_999)), 60.0),
    }
    for name, (jobs, megabytes) in cases.items():
        parts = []
        for workers in (1, 10, 100, 300, 1000):
            used = jobs.sum() / workers / simulated(workers, jobs, call, megabytes, 1000.0)
            parts.append(f"{workers}: {used:.0%}")
        print(f"{name}: {', '.join(parts)}")


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        models = [crates(folder / f"crates {n}.glb", n) for n in range(JOBS)]
        one, own, call = measure(folder, models, 1)
        two, both, _ = measure(folder, models, 2)
        print(f"{JOBS} jobs, one worker {one:.1f} s (the jobs themselves {own:.1f} s), two {two:.1f} s ({both:.1f} s)")
        print(f"two workers: {one / two:.2f} x; a call that does nothing {1000 * call:.1f} ms")
    simulate(call)
