"""One run for everything: what is missing or stale is packed, baked and checked, bundle by bundle, then delivered."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any, Protocol

from fasciculum.jobs.runner import CANCELLED, DONE, FAILED, RUNNING, WAITING
from fasciculum.model.bundle import Bundle
from fasciculum.model.counting import counted
from fasciculum.model.document import Document
from fasciculum.session.scheduler import Scheduler
from fasciculum.session.stale import DONE as IN_ORDER
from fasciculum.session.stale import NONE, bake_state, check_state, layout_state
from fasciculum.session.tasks import Kind, Task
from fasciculum.treatments.resolving import resolve_bundle

#: stages of a bundle in the order of the work
STAGES = (Kind.PACK, Kind.BAKE, Kind.CHECK)
DONE_WORDS = {Kind.PACK: "packed", Kind.BAKE: "baked", Kind.CHECK: "checked"}
#: a part that did not have to be done, or could not be
SKIPPED = "skipped"
OVER = (DONE, FAILED, CANCELLED, SKIPPED)


def outstanding(document: Document) -> dict[Kind, list[str]]:
    """Return the names of the bundles that have to be packed, baked and checked for everything to be up to date."""
    judges = {Kind.PACK: layout_state, Kind.BAKE: bake_state, Kind.CHECK: check_state}
    filled = [bundle for bundle in document.bundles if bundle.objects]
    return {kind: [one.name for one in filled if judge(document, one) != IN_ORDER] for kind, judge in judges.items()}


def why_not_ready(document: Document, bundle: Bundle) -> str:
    """Return why a bundle is not to be delivered as it is, empty when it is up to date."""
    if not bundle.objects or resolve_bundle(document.scene, bundle).bare:
        return ""
    layout = bundle.layout
    if layout is None:
        return "not packed"
    if layout.scale <= 0:
        return "its islands do not fit on the sheet"
    if layout_state(document, bundle) != IN_ORDER:
        return "its layout is stale"
    if layout.overlap > 0:
        return "its islands overlap"
    state = bake_state(document, bundle)
    return "" if state == IN_ORDER else "not baked" if state == NONE else "its maps are stale"


def not_ready(document: Document) -> list[tuple[Bundle, str]]:
    """Return the bundles that would be delivered stale or as they came, each with why."""
    results = [(bundle, why_not_ready(document, bundle)) for bundle in document.bundles]
    return [(bundle, why) for bundle, why in results if why]


class Running(Protocol):
    """What a transport knows a task by, as far as a run looks at it."""

    state: str
    fraction: float
    error: Exception | None

    @property
    def over(self) -> bool:
        """Whether nothing more will happen to it."""


@dataclass
class Step:
    """One stage of one bundle, or the delivery, in a run.

    ``why`` says why it was skipped where it could not be done.
    """

    kind: Kind
    bundle: str
    title: str
    job: Running | None = None
    ended: str = ""
    why: str = ""

    @property
    def state(self) -> str:
        """How it stands: waiting, running, done, failed, cancelled or skipped."""
        return self.ended or (WAITING if self.job is None else self.job.state)

    @property
    def fraction(self) -> float:
        """How much of it is done, 0 to 1."""
        if self.state in OVER:
            return 1.0
        return 0.0 if self.job is None else min(self.job.fraction, 1.0)


@dataclass
class Everything:
    """A run over all bundles.

    Parameters
    ----------
    scheduler : Scheduler
    make : callable
        Returns the task of a stage of the bundle of an identity, or None when it cannot be done.
    deliver : callable
        Returns the task that delivers, or None; its result goes to ``delivered``.
    """

    scheduler: Scheduler
    make: Callable[[Kind, str], Task | None]
    deliver: Callable[[], Task | None] | None = None
    delivered: Callable[[Any], None] = lambda _: None
    parts: list[Step] = field(default_factory=list)
    started: float = 0.0
    title: str = "Make everything"
    told: bool = False

    def start(self, document: Document, now: float) -> None:
        """Ask for all that is outstanding in a document; ``now`` is the clock's time, seconds."""
        self.started = now
        wanted = outstanding(document)
        for bundle in document.bundles:
            first = next((kind for kind in STAGES if bundle.name in wanted[kind]), None)
            if first is None:
                continue
            # what follows a stage is stale once that is done
            for kind in STAGES[STAGES.index(first) :]:
                self._want(Step(kind, bundle.identity, f"{str(kind).capitalize()} {bundle.name}"))
        if self.deliver is not None:
            self._want(Step(Kind.DELIVER, "", "Deliver"))

    def _want(self, part: Step) -> None:
        self.parts.append(part)

        def make() -> Task | None:
            task = self.make(part.kind, part.bundle) if part.bundle else self.deliver and self.deliver()
            if task is None:
                part.ended = SKIPPED
                part.why = self._why(part)
            return task

        def begun(job: Running | None) -> None:
            part.job = job

        finished = self.delivered if part.kind is Kind.DELIVER else None
        if not self.scheduler.want(part.kind, part.bundle, make, finished, begun=begun):
            # the same is under way already
            under_way = [job for task, job in self.scheduler.tasks() if (task.kind, task.bundle) == self._about(part)]
            part.job = under_way[0] if under_way else None
            part.ended = "" if under_way else SKIPPED

    @staticmethod
    def _about(part: Step) -> tuple[Kind, str]:
        return part.kind, part.bundle

    def _why(self, part: Step) -> str:
        document = self.scheduler.session.document
        if part.kind is Kind.DELIVER:
            left = [f"{bundle.name}: {why}" for bundle, why in not_ready(document)]
            return f"not everything is up to date ({'; '.join(left)})" if left else "nothing could be delivered"
        bundle = document.known(part.bundle)
        return "the bundle is gone" if bundle is None else why_not_ready(document, bundle)

    # -- how it stands ------------------------------------------------------------------------------------------

    @property
    def over(self) -> bool:
        """Whether nothing more will happen."""
        return all(part.state in OVER for part in self.parts)

    @property
    def running(self) -> Step | None:
        """The part that is worked on."""
        return next((part for part in self.parts if part.state == RUNNING), None)

    @property
    def fraction(self) -> float:
        """How much is done, 0 to 1."""
        return sum(part.fraction for part in self.parts) / len(self.parts) if self.parts else 1.0

    @property
    def state(self) -> str:
        """How the whole stands."""
        if not self.over:
            return RUNNING
        states = {part.state for part in self.parts}
        if FAILED in states or self.problems:
            return FAILED
        return CANCELLED if CANCELLED in states else DONE

    @property
    def problems(self) -> list[str]:
        """What could not be done, each part that came first with why."""
        results: dict[str, str] = {}
        for part in self.parts:
            if part.state == FAILED and part.job is not None and part.job.error is not None:
                results.setdefault(part.bundle, f"{part.title} failed: {str(part.job.error).strip().splitlines()[-1]}")
            elif part.state == SKIPPED and part.why:
                name = part.title.partition(" ")[2]
                results.setdefault(part.bundle, f"{name}: {part.why}" if name else f"Not delivered: {part.why}")
        return list(results.values())

    @property
    def done(self) -> int:
        """How many parts are over."""
        return sum(part.state in OVER for part in self.parts)

    def cancel(self) -> None:
        """Stop all that runs and waits; what is done stays."""
        for part in reversed(self.parts):
            if part.state in OVER:
                continue
            if part.job is not None:
                self.scheduler.transport.cancel(part.job)
            else:
                self.scheduler.forget(part.kind, part.bundle)
                part.ended = CANCELLED

    def summary(self) -> str:
        """Return in words what was done."""
        counts = {kind: sum(one.kind is kind and one.state == DONE for one in self.parts) for kind in STAGES}
        parts = [f"{DONE_WORDS[kind]} {counted(count, 'bundle')}" for kind, count in counts.items() if count]
        words = ", ".join(parts)
        return f"{words[:1].upper()}{words[1:]}." if words else "Every bundle was up to date."


def will_do(document: Document, folder: str) -> str:
    """Return in words what a run would do with a document."""
    wanted = outstanding(document)
    verbs = {Kind.PACK: "pack", Kind.BAKE: "bake", Kind.CHECK: "check"}
    parts = [f"{verbs[kind]} {counted(len(names), 'bundle')}" for kind, names in wanted.items() if names]
    if not [bundle for bundle in document.bundles if bundle.objects]:
        parts = ["bundle all objects by the balanced plan", "pack, bake and check them"]
    parts.append(f"deliver to {folder}" if folder else "ask for a folder and deliver")
    return _listed(parts)


def _listed(parts: Sequence[str]) -> str:
    return ", ".join(parts[:-1]) + f" and {parts[-1]}" if len(parts) > 1 else parts[0]
