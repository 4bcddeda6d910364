"""What the views share: the session, the worker, the selection, and what is shown how. Not a widget."""

from __future__ import annotations

import math
import threading
import time
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, QSettings, QSocketNotifier, QTimer, Signal

from fasciculum.errors import FasciculumError, OutputError, WorkerLost
from fasciculum.jobs.runner import CANCELLED, FAILED, WAITING, QueueEntry, Runner
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import Compression
from fasciculum.model.counting import counted
from fasciculum.model.document import Document
from fasciculum.model.layout import Layout
from fasciculum.model.lookup import Lookup
from fasciculum.model.named_bakes import NamedBake
from fasciculum.model.texturing import Texturing
from fasciculum.operations.bake.light import bakes_light
from fasciculum.operations.check.check import check_digest, density_spread
from fasciculum.operations.deliver.writing import write_whole
from fasciculum.operations.lay_out.forecast import Ahead, clean_size, forecast, measure_objects
from fasciculum.operations.lay_out.lay_out import layout_digest
from fasciculum.operations.plan.plan import Point
from fasciculum.operations.projects import open_project, save_project
from fasciculum.session.commands import merge_level
from fasciculum.session.everything import Everything, not_ready, why_not_ready
from fasciculum.session.loading import add_models, use_as_high, without_objects
from fasciculum.session.pipeline import deliver_whole
from fasciculum.session.recovery import LostWork
from fasciculum.session.reloading import reload_sources
from fasciculum.session.scheduler import Scheduler, due
from fasciculum.session.session import Session
from fasciculum.session.stale import DONE as IN_ORDER
from fasciculum.session.stale import bundle_digest, delivery_digest, layout_state
from fasciculum.session.tasks import (
    IMPROVING,
    QUIET,
    Kind,
    Task,
    bake_files_task,
    bake_task,
    check_task,
    deliver_task,
    look_ahead_task,
    pack_task,
    take_plan_task,
)
from fasciculum.treatments.resolving import islands_alone, resolve_bundle
from fasciculum.uv.density import ObjectFigures

#: lenses under which the sheet shows a map
MAP_LENSES = ("colour", "light", "blocks")
#: what lenses are called, where not by their names
LENS_WORDS = {
    "yield": "Sharpness",
    "way": "Treatment",
    "mixing": "Bleeding",
    "blocks": "Blocks",
    "reach": "Ray distance",
    "light density": "Lightmap px",
}
STAGES = ("gather", "lay out", "bake", "check", "deliver")
LENSES = (
    "colour",
    "checker",
    "object",
    "density",
    "yield",
    "way",
    "stretch",
    "overlap",
    "mixing",
    "blocks",
    "waste",
    "repeats",
    "moved",
    "pairs",
    "missed",
    "reach",
    "light",
    "light density",
)
RECENT = 8
#: answers to that which are kept: going back and forth in the history asks again for the same
MOST_AHEAD = 24
#: work after which the project's bundles are others: what is made of all of them waits for it
SETTLING = (Kind.GATHER, Kind.OPEN, Kind.RELOAD, Kind.PAIR, Kind.TAKE)
#: objects from which a plan is taken in beside the window
MANY = 500
#: modules that the worker loads ahead of the first job
WARM = [
    "fasciculum.operations.bake.bake",
    "fasciculum.operations.check.check",
    "fasciculum.operations.lay_out.lay_out",
    "fasciculum.operations.gather.gather",
]


@dataclass(frozen=True)
class SheetFigures:
    """What is known of a bundle's sheet: measured once it is packed, foretold until then.

    ``density`` is the median over the surface, px/m; ``fill`` a part of the sheet; ``clean`` a width in px.
    """

    density: float
    fill: float
    clean: int
    measured: bool


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
    #: light that is being baked came in, or is over
    lit_changed = Signal()
    frame_wanted = Signal()
    said = Signal(str, str)
    #: a project was saved: its path
    kept = Signal(object)
    #: the window's colours are others
    theme_changed = Signal()
    #: models were gathered: the keys of the objects that came in
    gathered = Signal(object)
    #: another project is open
    opened = Signal()
    #: work failed: the error, and what tries again with a file named for a missing one (or None)
    failed = Signal(object, object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.session = Session()
        self.session.listeners.append(self._document_changed)
        self.settings = QSettings("fasciculum", "fasciculum")
        self.worker = Worker(self.session.exchange, WARM, self)
        self.viewer = Worker(self.session.exchange, ["fasciculum.rendering.service"], self)
        self.scheduler = Scheduler(self.session, self.worker.runner, self.say)
        self.scheduler.prepare = self._prepare
        self.worker.changed.connect(self._queue_changed)
        self.selection: frozenset[str] = frozenset()
        self.hovered = ""
        self.bundle_names: tuple[str, ...] = ()
        self.stage = "gather"
        self.lens = "colour"
        self.map = ""
        self.mip = 0
        #: the channel of the map that is shown as grey, -1 for all; and stops by which a deep map is brightened
        self.channel = -1
        self.exposure = 0.0
        self.side = "wipe"
        #: whether maps are shown as an engine reads them, where the delivery compresses them
        self.as_compressed = True
        self._decoded: dict[str, tuple[tuple[object, ...], Texturing]] = {}
        #: whether high-poly models are drawn in the place of what they are read into
        self.high = False
        self.figures: dict[str, ObjectFigures] = {}
        #: what bundles will put on their sheets, found before they are packed, by the digest of what it was made from
        self.ahead: dict[str, Ahead] = {}
        self._looking = ""
        self._spread: tuple[Layout | None, float] = None, 0.0
        #: layouts in the making, by the identity of their bundle
        self.live: dict[str, Layout] = {}
        #: fill of each layout in the making over the time since packing began, in seconds, likewise
        self.curves: dict[str, list[tuple[float, float]]] = {}
        #: maps of bundles whose light is being baked, as they are so far, likewise
        self.lit: dict[str, Texturing] = {}
        #: whether the first models of a project are bundled by the balanced plan
        self.proposes = True
        #: whether what is previewed is a plan that is pointed at
        self.pointing = False
        self._preview: Document | None = None
        #: the run that makes everything, the last one once it is over
        self.everything: Everything | None = None
        self._read_since = 0
        self._once_idle: list[Callable[[], None]] = []
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

    def write(self, place: Path, data: bytes) -> bool:
        """Write a file beside the project; say why where that is not possible, and return whether it was."""
        try:
            write_whole(place, data)
        except OutputError as error:
            self.say(str(error), "broken")
            return False
        return True

    def say(self, words: str, state: str = "") -> None:
        """Show a message."""
        self.said.emit(words, state)

    def _document_changed(self, before: Document, after: Document) -> None:
        self._end_lit()
        keys = {item.key for item in after.scene.objects}
        if not self.selection <= keys:
            self.select(self.selection & keys)
        names = tuple(bundle.name for bundle in after.bundles)
        # a bundle that was renamed stays chosen
        was = {bundle.name: bundle.identity for bundle in before.bundles}
        now = {bundle.identity: bundle.name for bundle in after.bundles}
        kept = tuple(now[was[name]] for name in self.bundle_names if was.get(name) in now)
        if not kept and names:
            kept = names[:1]
        if kept != self.bundle_names:
            self.bundle_names = kept
            self.selection_changed.emit()
        if not before.scene.same_surfaces(after.scene):
            self._measure()
        self.document_changed.emit(before, after)

    def _measure(self) -> None:
        scene = self.document.scene
        if not scene.objects:
            self.figures = {}
            return

        def take(figures: dict[str, ObjectFigures]) -> None:
            if self.document.scene.same_surfaces(scene):
                self.figures = figures
                self.figures_changed.emit()

        self.run(Task(Kind.MEASURE, "Measure objects", measure_objects, (scene,), part="objects"), take, anew=True)

    # -- what is chosen and shown -----------------------------------------------------------------------------

    @property
    def bundles(self) -> list[Bundle]:
        """The bundles that settings apply to, the leading one first."""
        known = {bundle.name: bundle for bundle in self.shown.bundles}
        return [known[name] for name in self.bundle_names if name in known]

    @property
    def bundle(self) -> Bundle | None:
        """The bundle whose sheet is shown."""
        result = self.bundles
        return result[0] if result else None

    def select(self, keys: Iterable[str], bundles: Sequence[str] | None = None) -> None:
        """Choose objects, and the bundles that go with them."""
        # patches on a sheet are no objects
        keys = frozenset(key for key in keys if self.document.scene.has(key))
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

    def decoded_levels(self, bundle: Bundle) -> dict[str, tuple[str, ...]]:
        """Return by map the keys of its levels as an engine reads them; empty while that is not known or not shown."""
        delivery, check = self.document.delivery, bundle.check
        if not self.as_compressed or delivery.compress is Compression.NONE or check is None:
            return {}
        if check.made_from != check_digest(bundle, delivery):
            return {}
        return {name: keys for name, keys in check.decoded if keys and self.session.store.has(keys[0])}

    def shown_texturing(self, bundle: Bundle) -> Texturing | None:
        """Return a bundle's maps as the views show them, the same record as long as they are the same."""
        levels, made = self.decoded_levels(bundle), bundle.texturing
        if made is None or not levels:
            return made
        about = (id(made), *(keys[0] for keys in levels.values()))
        if self._decoded.get(bundle.identity, ((),))[0] != about:
            maps = tuple(replace(one, pixels=levels[one.name][0]) if one.name in levels else one for one in made.maps)
            self._decoded[bundle.identity] = about, replace(made, maps=maps)
        return self._decoded[bundle.identity][1]

    # -- work -------------------------------------------------------------------------------------------------

    def run(
        self,
        task: Task,
        finished: Callable[[Any], None] | None = None,
        *,
        ended: Callable[[], None] = lambda: None,
        anew: bool = False,
    ) -> QueueEntry | None:
        """Hand a task to the worker, unless the same one is under way; with ``anew`` this one takes its place."""
        if anew:
            for other, job in self.scheduler.tasks():
                if other.identity == task.identity:
                    if job.state == WAITING:
                        self.worker.runner.cancel(job)
                    self.scheduler.let_go(other)
        if task.kind in (Kind.GATHER, Kind.OPEN, Kind.RELOAD, Kind.PAIR):
            self._read_since = time.time_ns()
        submitted: QueueEntry | None = self.scheduler.submit(task, finished, ended=ended)
        return submitted

    @property
    def light_layout(self) -> Layout | None:
        """The layout of the light sheet, where a map that lies on it is shown, or the lens of its density is on."""
        made = self.bundle.texturing if self.bundle is not None else None
        if made is None or made.light_layout is None:
            return None
        baked = made.map(self.map or "base_color")
        shown = self.lens == "light density" or (baked is not None and baked.tex_coord > 0 and self.lens in MAP_LENSES)
        return made.light_layout if shown else None

    @property
    def running(self) -> tuple[str, str]:
        """The kind of the task that the worker is at, and the identity of the bundle that it is about."""
        job = self.worker.runner.running
        return (job.about[0], job.about[1]) if job is not None and job.about else ("", "")

    def _queue_changed(self) -> None:
        for job in self.worker.runner.jobs:
            if job.over and job.number not in self._told:
                self._told.add(job.number)
                self._tell_end(job)
        self.scheduler.proceed()
        self._end_lit()
        self.queue_changed.emit()
        if self.everything is not None or self._once_idle:
            # results are taken in a moment after their work has ended
            QTimer.singleShot(0, self._look_at_everything)

    def _tell_end(self, job: QueueEntry) -> None:
        """Say how a piece of work ended, where that is not plain."""
        kind, bundle, _ = job.about or ("", "", "")
        if kind == Kind.PACK:
            # a layout that is done is put in a moment after its work has ended
            QTimer.singleShot(0, partial(self._end_live, bundle))
        if job.state == FAILED and job.error is not None:
            crash = job.error if isinstance(job.error, FasciculumError) else FasciculumError(str(job.error))
            words = str(crash)
            if getattr(crash, "code", "") == "crash":
                words = (
                    f"{job.title} failed by a fault of the program: {words.strip().splitlines()[-1]} "
                    "Details are in the queue's log."
                )
            elif isinstance(crash, WorkerLost):
                words = f"{job.title}: {crash.message} {crash.hint}"
            self.say(words, "broken")
            again = self._again.pop(job.number, None)
            # once the queue has been looked through: whoever listens may open a dialog
            QTimer.singleShot(0, partial(self.failed.emit, job.error, again))
        elif job.state == CANCELLED and kind not in QUIET:
            self.say(f"{job.title} was cancelled. Nothing changed.")

    def gather(self, paths: Sequence[str]) -> None:
        """Add model files to the project."""
        document = self.document

        def take(gathered: Document) -> None:
            if self.document.scene is not document.scene:
                self.say("The project changed meanwhile. Please add the files again.", "broken")
                return
            first = not document.scene.objects
            # what was made or changed meanwhile stays, such as a layout that has ended
            now = self.document
            gathered = replace(
                now,
                name=gathered.name if now.name == document.name else now.name,
                scene=gathered.scene,
                gathered=gathered.gathered,
            )
            self.session.apply("Gather", gathered) if not first or document.bundles else self._begin(gathered)
            came = [item.key for item in gathered.scene.objects if not document.scene.has(item.key)]
            self.say(f"Gathered {counted(len(came), 'object')}.", "good")
            self.gathered.emit(came)

        title = f"Gather {Path(paths[0]).name}" + (f" and {len(paths) - 1} more" if len(paths) > 1 else "")
        arguments = (document, list(paths), str(self.session.store.folder))
        self.run(Task(Kind.GATHER, title, add_models, arguments, part="\n".join(paths)), take)

    def _begin(self, gathered: Document) -> None:
        self.session.apply("Gather", merge_level(gathered) if self.proposes else gathered)
        if self.proposes:
            self.take_plan("balanced")
        self.frame_wanted.emit()

    def _named(self, names: Sequence[str] | None) -> list[Bundle]:
        """Return the bundles of those names, the chosen ones without any, those that are empty left out."""
        wanted = self.bundle_names if names is None else names
        return [bundle for bundle in map(self.document.bundle, wanted) if bundle.objects]

    def pack(self, names: Sequence[str] | None = None, *, fresh: bool = False) -> None:
        """Lay out bundles, the chosen ones unless others are named; with ``fresh`` nothing stays but what is pinned."""
        for bundle in self._named(names):
            if resolve_bundle(self.document.scene, bundle).bare:
                self.say(f"{bundle.name} needs no sheet: all its materials are kept apart.")
                continue
            self.run(self._pack_task(bundle, fresh=fresh))

    def sheet_figures(self, bundle: Bundle) -> SheetFigures | None:
        """Return the figures of a bundle's sheet as every part of the window shows them, None until they are known."""
        document, layout = self.shown, bundle.layout
        work = resolve_bundle(document.scene, bundle)
        if work.bare or not bundle.objects:
            return None
        if layout is not None and layout.scale > 0 and layout_state(document, bundle) == IN_ORDER:
            if self._spread[0] is not layout:
                median = density_spread(*islands_alone(document.scene, bundle)).median
                self._spread = layout, median if math.isfinite(median) else layout.scale
            clean = bundle.check.clean_down_to if bundle.check else clean_size(layout.width, layout.padding)
            return SheetFigures(self._spread[1], layout.fill, clean, True)
        ahead = self.ahead.get(layout_digest(document.scene, bundle))
        result = forecast(work.bundle, self.figures, ahead)
        return None if result is None else SheetFigures(result.density, result.fill, result.clean_down_to, False)

    def look_ahead(self, bundle: Bundle, *, ask: bool = True) -> Ahead | None:
        """Return what a bundle will put on its sheet, if that is known by now; else have it found, if ``ask``."""
        digest = layout_digest(self.document.scene, bundle)
        if digest in self.ahead:
            return self.ahead[digest]
        under_way = digest == self._looking and self.scheduler.busy(Kind.LOOK_AHEAD, bundle.identity)
        if ask and bundle.objects and not under_way:
            self._looking = digest

            def take(ahead: Ahead) -> None:
                while len(self.ahead) >= MOST_AHEAD:
                    self.ahead.pop(next(iter(self.ahead)))
                self.ahead[ahead.made_from] = ahead
                self.figures_changed.emit()

            self.run(look_ahead_task(self.document, bundle), take, anew=True)
        return None

    def _pack_task(self, bundle: Bundle, *, fresh: bool = False) -> Task:
        """Return the task that packs a bundle and shows its layout as it gets better."""
        # packing finds out by itself what would be looked up
        self.scheduler.cancel(Kind.LOOK_AHEAD, bundle.identity)
        self.curves[bundle.identity] = []
        return replace(pack_task(self.document, bundle, fresh=fresh), shown=partial(self._show_live, bundle.identity))

    def _show_live(self, identity: str, layout: Layout) -> None:
        self.live[identity] = layout
        job = self.worker.runner.running
        began = self.seconds() if job is None else job.started
        self.curves.setdefault(identity, []).append((self.seconds() - began, layout.fill))
        self.live_changed.emit()

    def _end_live(self, identity: str) -> None:
        if self.live.pop(identity, None) is not None:
            self.live_changed.emit()

    def stop_early(self) -> None:
        """End the running packing with the best layout so far, or the gathering of light with what there is."""
        job = self.worker.runner.running
        if job is not None and self.improving:
            self.worker.runner.stop_early(job)

    @property
    def packing(self) -> bool:
        """Whether a layout is being made, of a whole bundle or of chosen islands."""
        return self.improving and self.running[0] != Kind.BAKE

    @property
    def improving(self) -> bool:
        """Whether something is being made whose best so far can be kept: a layout, or light."""
        kind, identity = self.running
        if kind == Kind.BAKE:
            # light refines in passes; the other maps are there or not
            bundle = self.document.known(identity)
            return bundle is not None and bakes_light(bundle)
        return kind in IMPROVING

    def bake(self, names: Sequence[str] | None = None, *, only: Sequence[str] = ()) -> None:
        """Bake the maps of bundles that have a layout, or some of their maps alone."""
        for bundle in self._named(names):
            work = resolve_bundle(self.document.scene, bundle)
            if work.bare:
                continue
            coming = self.scheduler.busy(Kind.PACK, bundle.identity)
            if bundle.layout is None and not coming:
                self.say(f"{bundle.name} has no layout yet. Pack it first.", "broken")
            elif not work.fits and not coming:
                # a map that is computed gives texels to what lay on lanes and swatches
                self.say(f"{bundle.name} was packed before its treatments changed. Pack it again.", "broken")
            elif bundle.layout is not None and bundle.layout.overlap > 0 and not coming:
                self.say(f"{bundle.name} has overlapping islands. Move them apart or pack again.", "broken")
            else:
                make = partial(self._bake_task, bundle.identity, tuple(only))
                self.scheduler.want(Kind.BAKE, bundle.identity, make)

    def pack_and_bake(self, names: Sequence[str] | None = None) -> None:
        """Bake bundles, the chosen ones unless others are named; those without a layout in order are packed first."""
        bundles = [bundle for bundle in self._named(names) if not resolve_bundle(self.document.scene, bundle).bare]
        unpacked = [bundle.name for bundle in bundles if layout_state(self.document, bundle) != IN_ORDER]
        if unpacked:
            self.pack(unpacked)
        self.bake([bundle.name for bundle in bundles])

    def take_plan(self, name: str, point: Point = (0, 0, 0.0)) -> None:
        """Bundle everything as a plan says: that of a name, or the one with these figures."""
        document = self.document
        self.run(take_plan_task(document, document.terms, name, point), anew=True)

    def _prepare(self, task: Task, result: Any, then: Callable[[], None]) -> None:
        """Have the bundles of a large plan resolved beside the window before it is taken in, which then finds them."""
        document = self.document
        if task.kind is not Kind.TAKE or task.put is None or len(document.scene.objects) < MANY:
            then()
            return
        after = task.put(document, result)
        thread = threading.Thread(
            target=lambda: [resolve_bundle(after.scene, bundle) for bundle in after.bundles], name="plan", daemon=True
        )
        thread.start()
        timer = QTimer(self, interval=20)

        def look() -> None:
            if not thread.is_alive():
                timer.stop()
                timer.deleteLater()
                then()

        timer.timeout.connect(look)
        timer.start()

    def bake_files(self, wanted: Sequence[tuple[NamedBake, Bundle]], folder: Path) -> None:
        """Bake bundles by named bakes into files, one after the other, on the document as it is now."""
        for named, bundle in wanted:
            layout = bundle.layout
            if layout is None or layout.scale <= 0:
                self.say(f"{bundle.name} has no layout yet. Pack it first.", "broken")
                continue
            task = bake_files_task(self.document, bundle, named, folder, self.session.store)
            self.run(task, partial(self._say_files, named, folder))

    def _say_files(self, named: NamedBake, folder: Path, files: list[str]) -> None:
        if not files:
            self.say(f"{named.title}: none of its maps is one that this bundle has, so no file was written.", "broken")
            return
        self.say(f"{named.title}: {counted(len(files), 'file')} in {folder / Path(files[0]).parent}.", "good")

    def _bake_task(self, identity: str, only: tuple[str, ...]) -> Task | None:
        bundle = self.document.known(identity)
        if bundle is None or bundle.layout is None or bundle.layout.scale <= 0:
            return None
        shown = partial(self._show_lit, identity) if bakes_light(bundle) else None
        return bake_task(self.document, bundle, self.session.store, only=only, shown=shown)

    def _show_lit(self, identity: str, texturing: Texturing) -> None:
        """Take in the light of a bundle as it is so far."""
        self.lit[identity] = texturing
        self.lit_changed.emit()

    def _end_lit(self) -> None:
        """Forget the light of bundles that are no longer being baked."""
        over = [identity for identity in self.lit if not self.scheduler.busy(Kind.BAKE, identity)]
        for identity in over:
            del self.lit[identity]
        if over:
            self.lit_changed.emit()

    def check(self, names: Sequence[str] | None = None) -> None:
        """Compare bundles with their source."""
        some = False
        for bundle in self._named([bundle.name for bundle in self.document.bundles] if names is None else names):
            if bundle.texturing is not None or self.scheduler.busy(Kind.BAKE, bundle.identity):
                some = True
                self.scheduler.want(Kind.CHECK, bundle.identity, partial(self._check_task, bundle.identity))
        if not some:
            self.say("Nothing is baked yet. Bake a bundle before checking it.")

    def _check_task(self, identity: str) -> Task | None:
        bundle = self.document.known(identity)
        if bundle is None or bundle.texturing is None:
            return None
        return check_task(self.document, bundle, self.session.store)

    def not_ready(self) -> list[tuple[Bundle, str]]:
        """Return the bundles that are not up to date and are not being brought up to date, each with why."""
        stages = Kind.PACK, Kind.PLACE, Kind.VERIFY, Kind.BAKE
        result = not_ready(self.document)
        return [
            (bundle, why)
            for bundle, why in result
            if not any(self.scheduler.wanted(kind, bundle.identity) for kind in stages)
        ]

    def deliver(self, folder: str, *, as_it_is: bool = False) -> None:
        """Write the results into a folder; what is not up to date is written only with ``as_it_is``."""
        make, take = self._delivering(folder, as_it_is=as_it_is)
        self.scheduler.want(Kind.DELIVER, "", make, take)

    def _delivering(
        self, folder: str, *, as_it_is: bool = False
    ) -> tuple[Callable[[], Task | None], Callable[[Any], None]]:
        """Return what makes the task that delivers, once what it needs is over, and what takes its result."""
        digest = ""

        def make() -> Task | None:
            nonlocal digest
            left = [] if as_it_is else not_ready(self.document)
            if left:
                text = "; ".join(f"{bundle.name}: {why}" for bundle, why in left)
                self.say(f"Nothing was delivered, since not everything is up to date. {text}.", "broken")
                return None
            digest = delivery_digest(self.document)
            task = deliver_task(self.document, Path(folder), self.session.store)
            return replace(task, function=deliver_whole, keywords={"keep": self.session.path})

        def take(delivered: Any) -> None:
            self.session.delivered(digest, folder)
            lost = f" {delivered.compression.words()}" if delivered.compression is not None else ""
            self.say(f"Delivered {counted(len(delivered.files), 'file')} to {folder}.{lost}", "good")

        return make, take

    # -- everything -------------------------------------------------------------------------------------------

    @property
    def making_everything(self) -> bool:
        """Whether everything is being made."""
        return self.everything is not None and not self.everything.over

    def make_everything(self, folder: str) -> None:
        """Bring all bundles up to date, whatever is missing or stale, and deliver into a folder."""
        if self.making_everything or not self.document.scene.objects:
            return
        if any(self.scheduler.busy(kind) for kind in SETTLING):
            self.say("Everything will be made as soon as the models are read and bundled.")
            self._once_idle = [partial(self.make_everything, folder)]
            return
        if not any(bundle.objects for bundle in self.document.bundles):
            self.take_plan("balanced")
            self._once_idle = [partial(self.make_everything, folder)]
            return
        make, take = self._delivering(folder)
        self.everything = run = Everything(self.scheduler, self._stage_task, make, take)
        run.start(self.document, self.seconds())
        self.queue_changed.emit()
        QTimer.singleShot(0, self._look_at_everything)

    def _stage_task(self, kind: Kind, identity: str) -> Task | None:
        """Return the task of a stage of a bundle as the document is now, None when it cannot be done or is in order."""
        bundle = self.document.known(identity)
        if bundle is None:
            return None
        if kind is Kind.PACK:
            return self._pack_task(bundle) if layout_state(self.document, bundle) != IN_ORDER else None
        if kind is Kind.CHECK:
            return self._check_task(identity) if not why_not_ready(self.document, bundle) else None
        return due(self.document, bundle, kind, self.session.store) and self._bake_task(identity, ())

    def _look_at_everything(self) -> None:
        """Go on once the project has settled, and say how a run that is over went."""
        if self._once_idle and not any(self.scheduler.busy(kind) for kind in SETTLING):
            calls, self._once_idle = self._once_idle, []
            for call in calls:
                call()
        run = self.everything
        if run is None or run.told or not run.over or self.scheduler.busy(Kind.DELIVER):
            return
        run.told = True
        if run.state == CANCELLED:
            self.say(f"Making everything was cancelled. {run.summary()}")
        elif run.problems:
            self.say(f"{run.summary()} Not done: {'; '.join(run.problems)}.", "broken")
        else:
            where = f" Delivered to {self.document.delivered_to}." if self.document.delivered_to else ""
            self.say(f"Everything is up to date. {run.summary()}{where}", "good")
        self.queue_changed.emit()

    def save(self, path: Path, then: Callable[[], None] | None = None) -> None:
        """Save the project; ``then`` is called once it is on disk."""
        document = self.document

        def take(written: Path) -> None:
            self.session.saved(document, written)
            self.remember(written)
            self.say(f"Saved {written.name}.", "good")
            self.kept.emit(written)
            if then is not None:
                then()

        # what is saved is the document as it was asked for, so that no two of these are the same
        part = f"{path} {id(document)}"
        self.run(Task(Kind.SAVE, "Save", save_project, (document, path, self.session.store), part=part), take)

    def open(self, path: Path, instead: dict[str, str] | None = None) -> None:
        """Open a project in place of the present one; ``instead`` names files for sources that are gone."""
        instead = instead or {}

        def take(document: Document) -> None:
            self.bundle_names, self.selection = (), frozenset()
            self.session.open(document, path)
            self.show_afresh()
            self.remember(path)
            self.say(f"Opened {path.name}.", "good")
            self.frame_wanted.emit()

        task = Task(
            Kind.OPEN,
            f"Open {path.name}",
            open_project,
            (path, self.session.store),
            {"instead": instead},
            part=f"{path} {instead}",
        )
        job = self.run(task, take)
        if job is not None:
            self._again[job.number] = lambda missing, chosen: self.open(path, instead | {missing: chosen})

    def recover(self, work: LostWork, then: Callable[[], None]) -> None:
        """Open the unsaved work of a session that ended by itself; it stays unsaved. ``then`` takes its copy over."""

        def take(document: Document) -> None:
            self.bundle_names, self.selection = (), frozenset()
            self.session.recover(document, Path(work.project) if work.project else None)
            self.show_afresh()
            then()
            self.say(f"Recovered {work.name}. Save it to keep it.", "good")
            self.frame_wanted.emit()

        arguments = (work.kept, self.session.store)
        self.run(Task(Kind.OPEN, f"Recover {work.name}", open_project, arguments, part=str(work.kept)), take)

    def reload(self, lookup: Lookup | None = None, done: str = "Reloaded") -> None:
        """Read the sources again, looking for files where ``lookup`` says."""
        document = self.document
        if not document.scene.sources:
            return

        def take(reloaded: Document) -> None:
            if self.document is not document:
                self.say("The project changed meanwhile. Please reload again.", "broken")
                return
            missing = sum(image.missing for image in reloaded.scene.images)
            changed = [
                bundle.name
                for before, bundle in zip(document.bundles, reloaded.bundles, strict=True)
                if bundle_digest(document, before) != bundle_digest(reloaded, bundle)
            ]
            self.apply("Reload sources", lambda _: reloaded)
            words = f"Stale: {', '.join(changed)}." if changed else "No layout or map is affected."
            self.say(
                f"{done}. {words}"
                + (f" {counted(missing, 'image is', 'images are')} missing still." if missing else ""),
                "good",
            )

        arguments = (document, str(self.session.store.folder), lookup)
        self.run(Task(Kind.RELOAD, "Reload sources", reload_sources, arguments), take)

    def remove_objects(self, keys: Iterable[str]) -> None:
        """Remove objects from the project; their files stay as they are."""
        keys = [key for key in keys if self.document.scene.has(key)]
        if keys:
            label = f"Remove {keys[0] if len(keys) == 1 else counted(len(keys), 'object')}"
            self.apply(label, lambda document: without_objects(document, keys))
            self.say(f"{label.replace('Remove', 'Removed')} from the project; the files were not changed.", "good")

    def remove_files(self, paths: Sequence[str]) -> None:
        """Remove models, with all of their objects, from the project; the files stay as they are."""
        name = Path(paths[0]).name + (f" and {len(paths) - 1} more" if len(paths) > 1 else "")

        def done(document: Document) -> None:
            self.say(f"Removed {name} from the project; the file was not changed.", "good")

        arguments = (self.document, str(self.session.store.folder))
        self._change_sources(f"Remove {name}", reload_sources, arguments, {"without": tuple(paths)}, done)

    def use_as_high(self, keys: Iterable[str]) -> None:
        """Read objects into the others as high-poly ones, instead of delivering them."""
        keys = tuple(key for key in keys if self.document.scene.has(key))
        name = keys[0] if len(keys) == 1 else counted(len(keys), "object")

        def done(document: Document) -> None:
            detail = document.scene.detail
            pairs = len(detail.pairs) if detail is not None else 0
            if self.proposes and document.bundles and all(bundle.layout is None for bundle in document.bundles):
                # what was proposed weighed them as objects of their own
                self.take_plan("balanced")
            self.say(f"{name} used as high-poly: {counted(pairs, 'pair')}, listed under Pairing.", "good")

        if keys:
            arguments = (self.document, keys, str(self.session.store.folder))
            self._change_sources(f"Use {name} as high-poly", use_as_high, arguments, {}, done)

    @property
    def read_since(self) -> int:
        """When what is open was begun to be read, nanoseconds of the clock that files are stamped by."""
        return self._read_since

    def _change_sources(
        self,
        label: str,
        function: Callable[..., Document],
        arguments: tuple[Any, ...],
        keywords: dict[str, Any],
        done: Callable[[Document], None],
    ) -> None:
        """Have a document made of the present one with other sources, as one step."""
        document = self.document

        def take(changed: Document) -> None:
            if self.document is not document:
                self.say("The project changed meanwhile. Please do it again.", "broken")
                return
            self.apply(label, lambda _: changed)
            done(changed)

        self.run(Task(Kind.RELOAD, label, function, arguments, keywords), take)

    def new(self) -> None:
        """Close this project and start an empty one."""
        self.bundle_names, self.selection = (), frozenset()
        self.session.open(Document(), None)
        self.show_afresh()

    def show_afresh(self) -> None:
        """Show another project as one is shown at first: nothing of the last one's view stays."""
        self.everything = None
        self.set_stage(STAGES[0])
        self.set_view(lens="colour", map="", mip=0, channel=-1, exposure=0.0, side="wipe", high=False)
        self.opened.emit()

    def remember(self, path: Path) -> None:
        """Put a project on the list of recent ones."""
        others = [other for other in self.recent() if other != str(path)]
        self.settings.setValue("recent", [str(path), *others][:RECENT])

    def recent(self) -> list[str]:
        """Return the recent projects that are still there."""
        stored = self.settings.value("recent", [])
        names = [stored] if isinstance(stored, str) else list(stored) if isinstance(stored, list) else []
        return [name for name in names if Path(name).exists()]

    def close(self) -> None:
        """End the processes and delete the session's files."""
        self.worker.close()
        self.viewer.close()
        self.session.close()

    def seconds(self) -> float:
        """Return the clock that jobs are timed by."""
        return time.monotonic()
