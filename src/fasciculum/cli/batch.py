"""Batches: jobs of a list, one after the other here or side by side on a farm, and the page that sums them up."""

from __future__ import annotations

import argparse
import contextlib
import json
import logging
import sys
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, as_completed, wait
from pathlib import Path
from typing import Any

from fasciculum.cli.exits import CRASHED
from fasciculum.cli.farm import Farm, farm_of
from fasciculum.cli.jobs import Ended, Job, do_job, foretold, read_jobs
from fasciculum.cli.summary import summary_page
from fasciculum.operations.deliver.writing import write_whole
from fasciculum.progress import Cancelled, Progress

LOG = logging.getLogger(__name__)
#: seconds between two looks at whether all is to be stopped
LOOK = 0.2
#: how often a job is begun again whose process died
MOST_AGAIN = 2


def run_batch(parsed: argparse.Namespace, scratch: Path, progress: Progress) -> int:
    """Do the jobs of a list and return the exit code.

    Raises
    ------
    UsageError, InputError
        When the list cannot be read, or the farm does not exist.
    Cancelled
    """
    place = Path(parsed.jobs)
    jobs = read_jobs(place)
    if parsed.dry_run:
        return _dry_run(jobs, progress)
    farm = farm_of(parsed.farm)
    ended: dict[int, Ended] = {}
    stopping = _asks(progress)
    try:
        for number, one in _ended(jobs, farm, stopping, progress):
            ended[number] = one
            print(json.dumps(one.entry, ensure_ascii=False), flush=True)
            progress.update(len(ended) / len(jobs), f"{one.name}: {'done' if one.done else 'failed'}")
            if parsed.stop_at_first and not one.done:
                break
    finally:
        if farm is not None:
            farm.close()
    if stopping():
        raise Cancelled
    results = [ended[number] for number in sorted(ended)]
    failed = [one for one in results if not one.done]
    summary = {
        "version": 1,
        "done": len(results) - len(failed),
        "failed": len(failed),
        "jobs": [one.entry for one in results],
    }
    text = json.dumps(summary, ensure_ascii=False)
    print(text)
    stem = place.resolve().with_suffix("")
    write_whole(stem.with_name(f"{stem.name}_summary.json"), json.dumps(summary, indent=1, ensure_ascii=False).encode())
    page = stem.with_name(f"{stem.name}_summary.html")
    write_whole(page, summary_page(place.name, jobs, results).encode())
    sys.stderr.write(f"{page}\n")
    return 1 if failed else 0


def _bytes(job: Job) -> int:
    """Return how large a job's models are, as far as they are there."""
    total = 0
    for model in job.models:
        with contextlib.suppress(OSError):
            total += Path(model).stat().st_size
    return total


def _asks(progress: Progress) -> Callable[[], bool]:
    def stopped() -> bool:
        try:
            progress.check()
        except Cancelled:
            return True
        return False

    return stopped


def _dry_run(jobs: Sequence[Job], progress: Progress) -> int:
    entries = []
    for number, job in enumerate(jobs):
        progress.update(number / len(jobs), f"Looking at {job.name}")
        entries.append(foretold(job, progress.quiet()))
        print(json.dumps(entries[-1], ensure_ascii=False), flush=True)
    failed = [entry for entry in entries if entry["error"] is not None]
    summary = {"version": 1, "dry_run": True, "done": len(jobs) - len(failed), "failed": len(failed), "jobs": entries}
    print(json.dumps(summary, ensure_ascii=False))
    return 1 if failed else 0


def _parted(jobs: Sequence[Job], farm: Farm, stopping: Callable[[], bool]) -> Iterator[tuple[int, Ended]]:
    """Yield how jobs end that are fewer than workers: they are led from here, and their bundles handed out."""
    with ThreadPoolExecutor(len(jobs)) as leading:
        waiting = {leading.submit(do_job, job, stopping, pool=farm): number for number, job in enumerate(jobs)}
        for future in as_completed(waiting):
            if stopping():
                return
            yield waiting[future], future.result()


def _ended(
    jobs: Sequence[Job], farm: Farm | None, stopping: Callable[[], bool], progress: Progress
) -> Iterator[tuple[int, Ended]]:
    """Yield how jobs end, as they do."""
    if farm is None:
        for number, job in enumerate(jobs):
            if stopping():
                return
            part = progress.part(number / len(jobs), (number + 1) / len(jobs))

            def told(words: str, part: Progress = part, job: Job = job) -> None:
                part.update(0.0, f"{job.name}: {words}" if words else "")

            yield number, do_job(job, stopping, told)
        return
    if farm.count() > len(jobs):
        yield from _parted(jobs, farm, stopping)
        return
    # the largest first, so that no worker is left alone with it at the end
    order = sorted(range(len(jobs)), key=lambda number: (-_bytes(jobs[number]), number))
    waiting: dict[Future[Any], tuple[int, int]] = {farm.submit(do_job, jobs[n]): (n, 0) for n in order}
    while waiting:
        done, _ = wait(waiting, timeout=LOOK, return_when=FIRST_COMPLETED)
        if stopping():
            farm.stop()
            return
        for future in done:
            number, again = waiting.pop(future)
            error = future.exception()
            if error is None:
                yield number, future.result()
            elif again < MOST_AGAIN:
                # a process that died takes nothing with it: whoever is left, or comes anew, does the job
                LOG.warning("%s is handed over again: %r", jobs[number].name, error)
                waiting[farm.submit(do_job, jobs[number])] = number, again + 1
            else:
                lost = {"code": "worker_lost", "message": f"Its process died {again + 1} times ({error}).", "file": ""}
                yield number, Ended(jobs[number].name, CRASHED, 0.0, None, lost)
