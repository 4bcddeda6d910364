"""Work in many small pieces, on as many threads as there are cores; the pieces let go of the interpreter themselves."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from itertools import islice
from typing import TypeVar

from fasciculum.progress import SILENT, Progress

Item = TypeVar("Item")
#: threads that a piece of work takes at most, whatever the machine has
MOST = 16
#: seconds between two looks at whether the work was cancelled
LOOK = 0.05


_share = [min(os.cpu_count() or 1, MOST)]


def thread_count() -> int:
    """Return how many threads a piece of work takes: one for each core, or this process's share of them."""
    return _share[0]


def share_cores(threads: int) -> None:
    """Have this process take so many threads, where several share the machine's cores."""
    _share[0] = max(min(threads, MOST), 1)


def in_pieces(
    work: Callable[[Item], object],
    pieces: Sequence[Item],
    *,
    words: str = "",
    progress: Progress = SILENT,
) -> None:
    """Do something with every piece, in any order; nothing is under way any more when this returns or raises.

    Parameters
    ----------
    work : callable
        Safe to call from several threads at once.

    Raises
    ------
    Cancelled
        Within the time that one piece takes.
    """
    count, done, threads = len(pieces), 0, thread_count()
    if threads == 1 or count <= 1:
        for piece in pieces:
            progress.update(done / count, words)
            work(piece)
            done += 1
        return
    with ThreadPoolExecutor(threads) as pool:
        left = iter(pieces)
        waiting: set[Future[object]] = set()
        try:
            # no more are handed out than are soon begun, so that to cancel is to wait for few
            while True:
                waiting |= {pool.submit(work, piece) for piece in islice(left, 2 * threads - len(waiting))}
                if not waiting:
                    break
                over, waiting = wait(waiting, timeout=LOOK, return_when=FIRST_COMPLETED)
                for one in over:
                    one.result()
                done += len(over)
                progress.update(done / count, words)
        except BaseException:
            pool.shutdown(wait=True, cancel_futures=True)
            raise
