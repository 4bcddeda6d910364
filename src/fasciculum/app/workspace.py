"""What the views share: the session, the worker, the selection, and what is shown how. Not a widget."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Sequence
from functools import partial
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, QSettings, QSocketNotifier, QTimer, Signal

from fasciculum.errors import FasciculumError, WorkerLost
from fasciculum.jobs.runner import CANCELLED, DONE, FAILED, Job, Runner
from fasciculum.model.bundle import Bundle
from fasciculum.model.document import Document
from fasciculum.model.layout import Layout
from fasciculum.model.lookup import Lookup
from fasciculum.model.texturing import CheckResult, Texturing
from fasciculum.operations.bake.bake import bake, bake_digest
from fasciculum.operations.check.check import check_bundle
from fasciculum.operations.deliver.deliver import deliver
from fasciculum.operations.lay_out.forecast import Ahead, look_ahead, measure_objects
from fasciculum.operations.lay_out.lay_out import lay_out, layout_digest
from fasciculum.operations.projects import open_project, save_project
from fasciculum.session import commands
from fasciculum.session.loading import add_models
from fasciculum.session.recovery import LostWork
from fasciculum.session.reloading import reload_sources
from fasciculum.session.session import Session
from fasciculum.session.stale import bundle_digest, delivery_digest
from fasciculum.uv.density import ObjectFigures

STAGES = ("gather", "lay out", "bake", "check", "deliver")
LENSES = ("colour", "checker", "object", "density", "stretch", "overlap", "moved")
RECENT = 8
LOOKING, MEASURING = "Look for twins in", "Measure UV sets"
#: answers to that which are kept: going back and forth in the history asks again for the same
MOST_AHEAD = 24
#: modules that the worker loads ahead of the first job
WARM = [
    "fasciculum.operations.bake.bake",
    "fasciculum.operations.check.check",
    "fasciculum.operations.lay_out.lay_out",
    "fasciculum.operations.gather.gather",
]


class Worker(QObject):
    """A `Runner` that is looked after by the event loop."""

    changed = Signal()

    def __init__(self, scratch: Path, warm: list[str], parent: QObject) -> None:
        super().__init__(parent)
        self._notifier: QSocketNotifier | None = None
        self.runner = Runner(scratch, warm)
        self.runner.changed = self.changed.emit
        self.runner.reconnected = self._watch
        self._watch()
        self._timer = QTimer(self, interval=50)
        self._timer.timeout.connect(self.runner.poll)
        self._timer.start()

    def _watch(self) -> None:
        if self._notifier is not None:
            self._notifier.setEnabled(False)
            self._notifier.deleteLater()
        connection = self.runner.connection
        if connection is None:
            return
        self._notifier = QSocketNotifier(connection.fileno(), QSocketNotifier.Type.Read, self)
        self._notifier.activated.connect(self.runner.poll)

    def close(self) -> None:
        self._timer.stop()
        if self._notifier is not None:
            self._notifier.setEnabled(False)
        self.runner.close()


class Workspace(QObject):
    """The window's model. Emits what changed; views compare parts of documents with ``is``."""

    document_changed = Signal(object, object)
    preview_changed = Signal()
    selection_changed = Signal()
    hover_changed = Signal()
    view_changed = Signal()
    stage_changed = Signal()
    queue_changed = Signal()
    figures_changed = Signal()
    #: a better layout of a bundle that is being packed
    live_changed = Signal()
    frame_wanted = Signal()
    said = Signal(str, str)
    #: work failed: the error, and what tries again with a file named for a missing one (or None)
    failed = Signal(object, object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.session = Session()
        self.session.listeners.append(self._document_changed)
        self.settings = QSettings("fasciculum", "fasciculum")
        self.worker = Worker(self.session.exchange, WARM, self)
        self.viewer = Worker(self.session.exchange, ["fasciculum.rendering.service"], self)
        self.worker.changed.connect(self._queue_changed)
        self.selection: frozenset[str] = frozenset()
        self.hovered = ""
        self.bundle_names: tuple[str, ...] = ()
        self.stage = "gather"
        self.lens = "colour"
        self.map = ""
        self.mip = 0
        self.side = "wipe"
        self.figures: dict[str, ObjectFigures] = {}
        #: what bundles will put on their sheets, found before they are packed, by the digest of what it was made from
        self.ahead: dict[str, Ahead] = {}
        self._looking = ""
        #: layouts in the making, by bundle
        self.live: dict[str, Layout] = {}
        #: fill of each layout in the making over the time since packing began, in seconds
        self.curves: dict[str, list[tuple[float, float]]] = {}
        self._preview: Document | None = None
        self._told: set[int] = set()
        self._again: dict[int, Callable[[str, str], None]] = {}

    # -- the document -----------------------------------------------------------------------------------------

    @property
    def document(self) -> Document:
        """The document as it is."""
        return self.session.document

    @property
    def shown(self) -> Document:
        """The document as it would be if the control that is being dragged were let go."""
        return self._preview or self.session.document

    def preview(self, document: Document | None) -> None:
        """Show what a change would lead to, without making it."""
        self._preview = document
        self.preview_changed.emit()

    def apply(self, label: str, change: Callable[[Document], Document]) -> None:
        """Change the document as one step; what goes wrong is said."""
        before, had = self.document, self._preview is not None
        self._preview = None
        try:
            self.session.apply(label, change(before))
        except FasciculumError as error:
            self.say(str(error), "broken")
        if had and self.document is before:
            self.preview_changed.emit()

    def say(self, words: str, state: str = "") -> None:
        """Show a message."""
        self.said.emit(words, state)

    def _document_changed(self, before: Document, after: Document) -> None:
        keys = {item.key for item in after.scene.objects}
        if not self.selection <= keys:
            self.select(self.selection & keys)
        names = tuple(bundle.name for bundle in after.bundles)
        kept = tuple(name for name in self.bundle_names if name in names)
        if not kept and names:
            kept = names[:1]
        if kept != self.bundle_names:
            self.bundle_names = kept
            self.selection_changed.emit()
        if before.scene is not after.scene:
            self._measure()
        self.document_changed.emit(before, after)

    def _measure(self) -> None:
        scene = self.document.scene
        if not scene.objects:
            self.figures = {}
            return

        def take(figures: dict[str, ObjectFigures]) -> None:
            if self.document.scene is scene:
                self.figures = figures
                self.figures_changed.emit()

        self.submit("Measure objects", measure_objects, scene, finished=take)

    # -- what is chosen and shown -----------------------------------------------------------------------------

    @property
    def bundles(self) -> list[Bundle]:
        """The bundles that settings apply to, the leading one first."""
        known = {bundle.name: bundle for bundle in self.shown.bundles}
        return [known[name] for name in self.bundle_names if name in known]

    @property
    def bundle(self) -> Bundle | None:
        """The bundle whose sheet is shown."""
        found = self.bundles
        return found[0] if found else None

    def select(self, keys: Iterable[str], bundles: Sequence[str] | None = None) -> None:
        """Choose objects, and the bundles that go with them."""
        keys = frozenset(keys)
        if bundles is None:
            homes = {self.document.bundle_of(key) for key in keys} - {None}
            names = tuple(bundle.name for bundle in self.document.bundles if bundle in homes)
            bundles = names or self.bundle_names
        if keys != self.selection or tuple(bundles) != self.bundle_names:
            self.selection, self.bundle_names = keys, tuple(bundles)
            self.selection_changed.emit()

    def hover(self, key: str) -> None:
        """Point at an object."""
        if key != self.hovered:
            self.hovered = key
            self.hover_changed.emit()

    def set_stage(self, stage: str) -> None:
        """Choose a stage: what the right column offers."""
        if stage != self.stage:
            self.stage = stage
            self.stage_changed.emit()

    def set_view(self, **values: Any) -> None:
        """Change the lens, map, mip level or side that is shown."""
        changed = False
        for name, value in values.items():
            if getattr(self, name) != value:
                setattr(self, name, value)
                changed = True
        if changed:
            self.view_changed.emit()

    # -- work -------------------------------------------------------------------------------------------------

    def submit(
        self,
        title: str,
        function: Callable[..., Any],
        *arguments: Any,
        finished: Callable[[Any], None] | None = None,
        **keywords: Any,
    ) -> Job:
        """Queue work for the worker process."""
        return self.worker.runner.submit(title, function, *arguments, finished=finished, **keywords)

    def _queue_changed(self) -> None:
        for job in self.worker.runner.jobs:
            if job.over and job.number not in self._told:
                self._told.add(job.number)
                if self.live.pop(job.title.removeprefix("Pack "), None) is not None and job.state != DONE:
                    self.live_changed.emit()
                if job.state == FAILED and job.error is not None:
                    crash = job.error if isinstance(job.error, FasciculumError) else FasciculumError(str(job.error))
                    words = str(crash)
                    if getattr(crash, "code", "") == "crash":
                        words = (
                            f"{job.title} failed by a fault of the program: {words.strip().splitlines()[-1]} "
                            "The queue's log holds the details."
                        )
                    elif isinstance(crash, WorkerLost):
                        words = f"{job.title}: {crash.message} {crash.hint}"
                    self.say(words, "broken")
                    again = self._again.pop(job.number, None)
                    # once the queue has been looked through: whoever listens may open a dialog
                    QTimer.singleShot(0, partial(self.failed.emit, job.error, again))
                elif job.state == CANCELLED and not job.title.startswith((LOOKING, MEASURING)):
                    self.say(f"{job.title} was cancelled; nothing of it was kept.")
        self.queue_changed.emit()

    def busy_with(self, title: str) -> bool:
        """Whether work of that title runs or waits."""
        return any(job.title == title for job in self.worker.runner.unfinished)

    def _proposal(
        self, name: str, made_from: str, now: str, change: Callable[[Document], Document], label: str
    ) -> None:
        """Apply a result if what it was made from is still so."""
        if not any(bundle.name == name for bundle in self.document.bundles) or made_from != now:
            self.say(f"{name} was changed meanwhile; the result was set aside.")
            return
        self.apply(label, change)

    def gather(self, paths: Sequence[str]) -> None:
        """Add model files to the project."""
        document = self.document

        def take(gathered: Document) -> None:
            if self.document.scene is not document.scene:
                self.say("The project was changed meanwhile; gather the files again.", "broken")
                return
            first = not document.scene.objects
            self.session.apply("Gather", gathered) if not first or document.bundles else self._begin(gathered)
            count = len(gathered.scene.objects) - len(document.scene.objects)
            self.say(f"Gathered {count} objects.", "good")

        title = f"Gather {Path(paths[0]).name}" + (f" and {len(paths) - 1} more" if len(paths) > 1 else "")
        self.submit(title, add_models, document, list(paths), str(self.session.store.folder), finished=take)

    def _begin(self, gathered: Document) -> None:
        self.session.apply("Gather", gathered)
        self.frame_wanted.emit()

    def pack(self, names: Sequence[str] | None = None, *, fresh: bool = False) -> None:
        """Lay out bundles, the chosen ones unless others are named; with ``fresh`` nothing stays but what is pinned."""
        for name in names if names is not None else self.bundle_names:
            bundle = self.document.bundle(name)
            title = f"Pack {name}"
            if not bundle.objects or self.busy_with(title):
                continue

            def take(layout: Layout, name: str = name) -> None:
                self.live.pop(name, None)
                if any(bundle.name == name for bundle in self.document.bundles):
                    now = layout_digest(self.document.scene, self.document.bundle(name))
                    self._proposal(
                        name,
                        layout.made_from,
                        now,
                        lambda d: commands.put_layout(d, name, layout),
                        f"Pack {name}",
                    )
                self.live_changed.emit()

            for other in self.worker.runner.unfinished:
                if other.title == f"{LOOKING} {name}":
                    # packing finds out by itself
                    self.worker.runner.cancel(other)
            self.curves[name] = []
            job = self.submit(title, lay_out, self.document.scene, bundle, fresh=fresh, finished=take)
            job.shown = partial(self._show_live, name, job)

    def look_ahead(self, bundle: Bundle, *, ask: bool = True) -> Ahead | None:
        """Return what a bundle will put on its sheet, if that is known by now; else have it found, if ``ask``."""
        digest = layout_digest(self.document.scene, bundle)
        if digest in self.ahead:
            return self.ahead[digest]
        if ask and bundle.objects and not (digest == self._looking and self.busy_with(f"{LOOKING} {bundle.name}")):
            self._looking = digest

            def take(found: Ahead) -> None:
                while len(self.ahead) >= MOST_AHEAD:
                    self.ahead.pop(next(iter(self.ahead)))
                self.ahead[found.made_from] = found
                self.figures_changed.emit()

            self.submit(f"{LOOKING} {bundle.name}", look_ahead, self.document.scene, bundle, finished=take)
        return None

    def _show_live(self, name: str, job: Job, layout: Layout) -> None:
        self.live[name] = layout
        self.curves[name].append((self.seconds() - job.started, layout.fill))
        self.live_changed.emit()

    def enough(self) -> None:
        """End the running packing with the best layout so far."""
        job = self.worker.runner.running
        if job is not None:
            self.worker.runner.enough(job)

    @property
    def packing(self) -> bool:
        """Whether a layout is being made."""
        job = self.worker.runner.running
        return job is not None and job.title.startswith("Pack ")

    def bake(self, names: Sequence[str] | None = None) -> None:
        """Bake the maps of bundles that have a layout."""
        for name in names if names is not None else self.bundle_names:
            bundle = self.document.bundle(name)
            title = f"Bake {name}"
            if not bundle.objects or self.busy_with(title):
                continue
            if bundle.layout is None:
                self.say(f"{name} has no layout yet: pack it first.", "broken")
                continue
            if bundle.layout.overlap > 0:
                self.say(f"{name} has islands that overlap: move them apart or pack them again.", "broken")
                continue

            def take(made: Texturing, name: str = name) -> None:
                if any(bundle.name == name for bundle in self.document.bundles):
                    now = bake_digest(self.document.scene, self.document.bundle(name))
                    self._proposal(
                        name,
                        made.made_from,
                        now,
                        lambda d: commands.put_texturing(d, name, made),
                        f"Bake {name}",
                    )

            self.submit(title, bake, self.document.scene, bundle, self.session.store, finished=take)

    def check(self, names: Sequence[str] | None = None) -> None:
        """Compare bundles with their source."""
        wanted = names if names is not None else [bundle.name for bundle in self.document.bundles]
        some = False
        for name in wanted:
            bundle = self.document.bundle(name)
            title = f"Check {name}"
            if bundle.texturing is None or self.busy_with(title):
                continue
            some = True

            def take(result: CheckResult | None, name: str = name, made: Texturing | None = bundle.texturing) -> None:
                now = next((b for b in self.document.bundles if b.name == name), None)
                if now is None or now.texturing is not made:
                    self.say(f"{name} was changed meanwhile; the check was set aside.")
                    return
                self.apply(f"Check {name}", lambda d: commands.put_check(d, name, result))

            self.submit(title, check_bundle, self.document.scene, bundle, self.session.store, finished=take)
        if not some:
            self.say("There is nothing baked to check yet.")

    def deliver(self, folder: str) -> None:
        """Write the results into a folder."""
        document = self.document
        digest = delivery_digest(document)

        def take(delivered: Any) -> None:
            self.session.delivered(digest, folder)
            self.say(f"Delivered {len(delivered.files)} files to {folder}.", "good")

        self.submit("Deliver", deliver, document, Path(folder), self.session.store, finished=take)

    def save(self, path: Path, then: Callable[[], None] | None = None) -> None:
        """Save the project; ``then`` is called once it is on disk."""
        document = self.document

        def take(written: Path) -> None:
            self.session.saved(document, written)
            self.remember(written)
            self.say(f"Saved {written.name}.", "good")
            if then is not None:
                then()

        self.submit("Save", save_project, document, path, self.session.store, finished=take)

    def open(self, path: Path, instead: dict[str, str] | None = None) -> None:
        """Open a project in place of the present one; ``instead`` names files for sources that are gone."""
        instead = instead or {}

        def take(document: Document) -> None:
            self.bundle_names, self.selection = (), frozenset()
            self.session.open(document, path)
            self.remember(path)
            self.say(f"Opened {path.name}.", "good")
            self.frame_wanted.emit()

        job = self.submit(f"Open {path.name}", open_project, path, self.session.store, instead=instead, finished=take)
        self._again[job.number] = lambda missing, chosen: self.open(path, instead | {missing: chosen})

    def recover(self, work: LostWork, then: Callable[[], None]) -> None:
        """Open the unsaved work of a session that ended by itself; it stays unsaved. ``then`` takes its copy over."""

        def take(document: Document) -> None:
            self.bundle_names, self.selection = (), frozenset()
            self.session.recover(document, Path(work.project) if work.project else None)
            then()
            self.say(f"Recovered {work.name}. Save it to keep it.", "good")
            self.frame_wanted.emit()

        self.submit(f"Recover {work.name}", open_project, work.kept, self.session.store, finished=take)

    def reload(self, lookup: Lookup | None = None, done: str = "Reloaded") -> None:
        """Read the sources again, looking for files where ``lookup`` says."""
        document = self.document
        if not document.scene.sources or self.busy_with("Reload sources"):
            return

        def take(found: Document) -> None:
            if self.document is not document:
                self.say("The project was changed meanwhile; reload once more.", "broken")
                return
            missing = sum(image.missing for image in found.scene.images)
            changed = [
                bundle.name
                for before, bundle in zip(document.bundles, found.bundles, strict=True)
                if bundle_digest(document, before) != bundle_digest(found, bundle)
            ]
            self.apply("Reload sources", lambda _: found)
            words = f"Stale: {', '.join(changed)}." if changed else "Nothing that is laid out or baked changed."
            self.say(f"{done}. {words}" + (f" {missing} images are missing still." if missing else ""), "good")

        self.submit("Reload sources", reload_sources, document, str(self.session.store.folder), lookup, finished=take)

    def new(self) -> None:
        """Start over with nothing."""
        self.bundle_names, self.selection = (), frozenset()
        self.session.open(Document(), None)

    def remember(self, path: Path) -> None:
        """Put a project on the list of recent ones."""
        others = [other for other in self.recent() if other != str(path)]
        self.settings.setValue("recent", [str(path), *others][:RECENT])

    def recent(self) -> list[str]:
        """Return the recent projects that are still there."""
        stored = self.settings.value("recent", [])
        names = [stored] if isinstance(stored, str) else list(stored or [])
        return [name for name in names if Path(name).exists()]

    def close(self) -> None:
        """End the processes and delete the session's files."""
        self.worker.close()
        self.viewer.close()
        self.session.close()

    def seconds(self) -> float:
        """Return the clock that jobs are timed by."""
        return time.monotonic()
