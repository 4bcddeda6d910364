"""The scheduler: which work is under way, what has to wait for what, and what becomes of results.

It knows no window and no processes: whatever runs a function with progress can stand behind it.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from functools import partial
from typing import Any, Protocol

from fasciculum.io.pixels import PixelStore
from fasciculum.jobs.runner import DONE as OVER
from fasciculum.model.bundle import Bundle
from fasciculum.model.document import Document
from fasciculum.session.stale import DONE, bake_state, check_state, layout_state
from fasciculum.session.tasks import NEEDS, Kind, Task, bake_task, check_task, pack_task, verify_task
from fasciculum.treatments.resolving import resolve_bundle


class Transport(Protocol):
    """Runs functions with progress, one after the other: here, in a process of its own, or elsewhere."""

    def submit(
        self,
        title: str,
        function: Callable[..., Any],
        *arguments: Any,
        finished: Callable[[Any], None] | None = None,
        about: tuple[str, ...] = (),
        **keywords: Any,
    ) -> Any:
        """Hand work over; ``finished`` gets its value, ``about`` is kept with it.

        What comes back says by ``over`` whether nothing more will happen to it.
        """

    def cancel(self, job: Any) -> None:
        """Stop work."""


class Open(Protocol):
    """What holds the document."""

    @property
    def document(self) -> Document:
        """The document as it is now."""

    def apply(self, label: str, document: Document) -> None:
        """Make a document the present one, as one step."""

    def amend(self, change: Callable[[Document], Document]) -> None:
        """Fill in what the present step left open."""


@dataclass(frozen=True, eq=False)
class _Waiting:
    """Work that was asked for and cannot begin yet: it is made once what it needs is over."""

    kind: Kind
    bundle: str
    make: Callable[[], Task | None]
    finished: Callable[[Any], None] | None
    #: hears of what the transport knows it by, once it is handed over
    begun: Callable[[Any], None]


class Scheduler:
    """Hands tasks over and takes their results in.

    Parameters
    ----------
    session : Open
    transport : Transport
    say : callable
        Called with words when a result is set aside.
    """

    def __init__(self, session: Open, transport: Transport, say: Callable[[str], None] = lambda words: None) -> None:
        self.session, self.transport, self.say = session, transport, say
        #: called with a task, its result, and what puts that into the document; it may call the last one later
        self.prepare: Callable[[Task, Any, Callable[[], None]], None] = lambda task, result, then: then()
        self._under_way: list[tuple[Task, Any]] = []
        self._waiting: list[_Waiting] = []
        self._handing = False

    # -- what is under way ------------------------------------------------------------------------------------

    def tasks(self) -> list[tuple[Task, Any]]:
        """Return the tasks that run or wait to run, with what the transport knows them by.

        One that is done stays until its result is taken in: what waits for it needs that.
        """
        self._under_way = [(task, job) for task, job in self._under_way if not job.over or job.state == OVER]
        return list(self._under_way)

    def busy(self, kind: Kind, bundle: str | None = None, part: str | None = None) -> bool:
        """Tell whether work of a kind is under way, on a bundle or on a part of one."""
        return any(
            task.kind is kind and bundle in (None, task.bundle) and part in (None, task.part)
            for task, _ in self.tasks()
        )

    def cancel(self, kind: Kind, bundle: str | None = None, part: str | None = None) -> None:
        """Stop all work of a kind, on a bundle or on any, or on a part of one."""
        for task, job in self.tasks():
            if task.kind is kind and bundle in (None, task.bundle) and part in (None, task.part):
                self.transport.cancel(job)

    def let_go(self, task: Task) -> None:
        """Take nothing more from a task, which has been stopped."""
        self._under_way = [(other, job) for other, job in self._under_way if other is not task]

    # -- handing over -----------------------------------------------------------------------------------------

    def submit(
        self,
        task: Task,
        finished: Callable[[Any], None] | None = None,
        *,
        ended: Callable[[], None] = lambda: None,
    ) -> Any | None:
        """Hand a task over, unless the same one is under way; return what the transport knows it by.

        ``finished`` gets the result once it is in the document; ``ended`` is called after that, and also when the
        result was set aside.
        """
        if any(other.identity == task.identity for other, _ in self.tasks()):
            return None

        def take(result: Any) -> None:
            self.prepare(task, result, partial(settle, result))

        def settle(result: Any) -> None:
            self.let_go(task)
            if self._put(task, result) and finished is not None:
                finished(result)
            ended()
            self.proceed()

        # a transport may say that something has changed, or be done with it, before it returns
        outer, self._handing = self._handing, True
        try:
            about = tuple(str(part) for part in task.identity)
            job = self.transport.submit(
                task.title, task.function, *task.arguments, finished=take, about=about, **task.keywords
            )
            if task.shown is not None:
                job.shown = task.shown
            if not job.over:
                self._under_way.append((task, job))
        finally:
            self._handing = outer
        self.proceed()
        return job

    def want(
        self,
        kind: Kind,
        bundle: str,
        make: Callable[[], Task | None],
        finished: Callable[[Any], None] | None = None,
        *,
        begun: Callable[[Any], None] = lambda job: None,
    ) -> bool:
        """Have work done on a bundle as soon as what it needs is no longer under way; ``make`` is asked then.

        Returns whether it was taken: it is not while the same is under way or waits already. ``begun`` gets what the
        transport knows it by once it is handed over.
        """
        if self.busy(kind, bundle) or any(one.kind is kind and one.bundle == bundle for one in self._waiting):
            return False
        self._waiting.append(_Waiting(kind, bundle, make, finished, begun))
        self.proceed()
        return True

    def wanted(self, kind: Kind, bundle: str) -> bool:
        """Tell whether work on a bundle is under way or waits for what it needs."""
        return self.busy(kind, bundle) or any(one.kind is kind and one.bundle == bundle for one in self._waiting)

    def forget(self, kind: Kind, bundle: str) -> None:
        """Want work no more that has not begun."""
        self._waiting = [one for one in self._waiting if not (one.kind is kind and one.bundle == bundle)]

    def proceed(self) -> None:
        """Hand over what has waited long enough."""
        if self._handing:
            return
        ready = [one for one in self._waiting if not self._blocked(one)]
        self._waiting = [one for one in self._waiting if one not in ready]
        for one in ready:
            task = one.make()
            if task is not None:
                one.begun(self.submit(task, one.finished))

    def _blocked(self, one: _Waiting) -> bool:
        needs = NEEDS.get(one.kind, ())
        earlier = self._waiting[: self._waiting.index(one)]
        return any(self.busy(kind, one.bundle or None) for kind in needs) or any(
            other.kind in needs and one.bundle in ("", other.bundle) for other in earlier
        )

    def _put(self, task: Task, result: Any) -> bool:
        """Put a result into the document; False when it belongs to another one by now."""
        if task.put is None:
            return True
        if not task.holds(self.session.document):
            if task.label:
                self.say(f"{task.title}: the project was changed meanwhile; the result was set aside.")
            return False
        put = task.put
        if task.label:
            self.session.apply(task.label, put(self.session.document, result))
        else:
            self.session.amend(lambda document: put(document, result))
        return True


def due(
    document: Document, bundle: Bundle, kind: Kind, store: PixelStore, *, redo: bool = False, only: Iterable[str] = ()
) -> Task | None:
    """Return the task that brings one stage of a bundle in order, None when it is, or cannot be.

    Parameters
    ----------
    kind : Kind
        Of PACK, VERIFY, BAKE and CHECK.
    redo : bool
        Do it even if it is in order.
    only : iterable of str
        Maps to bake alone.
    """
    if not bundle.objects:
        return None
    if resolve_bundle(document.scene, bundle).bare:
        return None
    layout = bundle.layout
    ready = layout is not None and layout.scale > 0
    if kind is Kind.PACK:
        return pack_task(document, bundle) if redo or layout_state(document, bundle) != DONE else None
    if kind is Kind.VERIFY:
        return verify_task(document, bundle) if ready and layout is not None and layout.border_gap < 0 else None
    if kind is Kind.BAKE:
        if not ready or layout is None or layout.overlap > 0:
            return None
        wanted = redo or bake_state(document, bundle) != DONE
        return bake_task(document, bundle, store, only=tuple(only)) if wanted else None
    if kind is Kind.CHECK:
        wanted = redo or check_state(document, bundle) != DONE
        return check_task(document, bundle, store) if wanted and bundle.texturing is not None else None
    raise ValueError(f"{kind} is no stage of a bundle")
