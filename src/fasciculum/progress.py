"""How long work says how far it is, and how it is asked to stop."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from typing import Any, TypeVar

Item = TypeVar("Item")


class Cancelled(Exception):
    """The artist asked for the work to stop; nothing of it is kept."""


class Progress:
    """Passed to everything that may take longer than a moment.

    Parameters
    ----------
    report : callable, optional
        Called with the fraction done (0 to 1) and a few words.
    cancelled : callable, optional
        Returns True once the work should stop.
    show : callable, optional
        Called with what there is so far, whenever it is worth seeing.
    stop_early : callable, optional
        Returns True once the best so far should be kept and the work ended.
    """

    def __init__(
        self,
        report: Callable[[float, str], None] | None = None,
        cancelled: Callable[[], bool] | None = None,
        *,
        show: Callable[[Any], None] | None = None,
        stop_early: Callable[[], bool] | None = None,
        low: float = 0.0,
        high: float = 1.0,
    ) -> None:
        self._report = report
        self._cancelled = cancelled
        self._show = show
        self._stop_early = stop_early
        self._low = low
        self._high = high

    def update(self, fraction: float, words: str = "") -> None:
        """Tell how much is done, and raise `Cancelled` when that was asked for."""
        self.check()
        if self._report is not None:
            self._report(self._low + (self._high - self._low) * min(max(fraction, 0.0), 1.0), words)

    def check(self) -> None:
        """Raise `Cancelled` when the work should stop."""
        if self._cancelled is not None and self._cancelled():
            raise Cancelled

    def part(self, low: float, high: float) -> Progress:
        """Return a progress whose whole is the given part of this one."""
        span = self._high - self._low
        return Progress(
            self._report,
            self._cancelled,
            show=self._show,
            stop_early=self._stop_early,
            low=self._low + span * low,
            high=self._low + span * high,
        )

    def unseen(self) -> Progress:
        """Return a progress that tells how far it is, and shows nothing of what there is so far."""
        return Progress(self._report, self._cancelled, stop_early=self._stop_early, low=self._low, high=self._high)

    def quiet(self) -> Progress:
        """Return a progress that tells nothing and still hears that the work should stop."""
        return Progress(None, self._cancelled)

    def show(self, value: Any) -> None:
        """Let whoever waits see what there is so far."""
        if self._show is not None:
            self._show(value)

    def stop_early(self) -> bool:
        """Tell whether the best so far is good enough for whoever waits."""
        return self._stop_early is not None and self._stop_early()

    def over(self, items: Iterable[Item], words: Callable[[Item], str], *, total: int) -> Iterator[Item]:
        """Yield the items, reporting before each."""
        for number, item in enumerate(items):
            self.update(number / max(total, 1), words(item))
            yield item


SILENT = Progress()
