"""One pass from files to a delivery, as the command line runs it; each stage's time is kept."""

from __future__ import annotations

import json
import time
from collections.abc import Callable, Sequence
from dataclasses import asdict, dataclass, field, replace
from pathlib import Path
from typing import Any, TypeVar

from fasciculum.errors import UsageError
from fasciculum.io.formats.table import WRITTEN_FORMATS
from fasciculum.io.names import file_name
from fasciculum.io.pixels import PixelStore
from fasciculum.jobs.runner import InlineRunner
from fasciculum.memory import memory_figures
from fasciculum.model.bake_settings import BakeSettings
from fasciculum.model.budget import Budget
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import Repeats, Rule
from fasciculum.model.delivery import DeliverySettings
from fasciculum.model.detail import Pairing
from fasciculum.model.document import Document
from fasciculum.model.finding import WARNING, Finding
from fasciculum.model.given import Given
from fasciculum.model.layers import Layer
from fasciculum.model.lighting import PLAIN_LIGHTING, Lighting
from fasciculum.model.lookup import HERE, Lookup
from fasciculum.model.named_bakes import NamedBake
from fasciculum.model.scene import BLEND, MASK, OPAQUE, Scene
from fasciculum.model.sheet import SheetSettings
from fasciculum.model.terms import Terms
from fasciculum.operations.deliver.deliver import Delivered
from fasciculum.operations.deliver.page import page_bytes
from fasciculum.operations.deliver.writing import write_whole
from fasciculum.operations.gather.bundling import bundle_objects
from fasciculum.operations.gather.gather import gather
from fasciculum.operations.gather.high import gather_high
from fasciculum.operations.gather.palettes import made_palette
from fasciculum.operations.plan.plan import NAMES, Planner
from fasciculum.operations.plan.sizing import low_yield, smallest_size, surface_yields
from fasciculum.operations.plan.take import planned_bundles, ruled_ways
from fasciculum.operations.projects import open_project, save_project
from fasciculum.operations.report import report_of
from fasciculum.progress import SILENT, Progress
from fasciculum.session.remote import RemoteRunner, WorkerPool
from fasciculum.session.scheduler import Scheduler, due
from fasciculum.session.session import all_findings
from fasciculum.session.stale import delivery_digest
from fasciculum.session.tasks import Kind, bake_files_task, deliver_task
from fasciculum.trace import STAGE, span

Value = TypeVar("Value")
#: the parts of all progress that the stages take
SPANS = {Kind.PACK: (0.1, 0.4), Kind.BAKE: (0.4, 0.75), Kind.CHECK: (0.75, 0.85), Kind.DELIVER: (0.85, 0.97)}


@dataclass(frozen=True)
class Order:
    """What one pass should do."""

    rule: Rule = Rule.AUTO
    sheet: SheetSettings = field(default_factory=SheetSettings)
    bake: BakeSettings = field(default_factory=BakeSettings)
    delivery: DeliverySettings = field(default_factory=DeliverySettings)
    lookup: Lookup = HERE
    #: the plan that is taken, empty for none, and what plans are to keep
    plan: str = ""
    terms: Terms = field(default_factory=Terms)
    repeats: Repeats = Repeats.AUTO
    #: whether sheets are as large as the terms ask
    size_follows: bool = False
    #: models that are read into the gathered ones, and those blown up by hand; how they find theirs
    high: tuple[str, ...] = ()
    cages: tuple[str, ...] = ()
    pairing: Pairing = field(default_factory=Pairing)
    pairs_file: str = ""
    #: what shines beside the models' own lights
    lighting: Lighting = PLAIN_LIGHTING
    layers: tuple[Layer, ...] = ()
    #: the sheet that exists and that everything is laid onto, None when sheets are made
    given: Given | None = None
    #: whether each bundle is laid onto a palette made of its flat colours
    palette_made: bool = False
    #: which objects go together, in the place of the rule: names of bundles with their objects
    groups: Callable[[Scene], list[tuple[str, tuple[str, ...]]]] | None = None
    #: limits that the result keeps
    budget: Budget = field(default_factory=Budget)
    #: what is done with the document once it is bundled
    change: Callable[[Document], Document] | None = None


class Pipeline:
    """Brings stages of a document in order, one task after the other, and keeps their times, in seconds."""

    def __init__(
        self, document: Document, store: PixelStore, progress: Progress = SILENT, pool: WorkerPool | None = None
    ) -> None:
        self.document = document
        self.store = store
        self.progress = progress
        self.seconds: dict[str, float] = {}
        #: the plan by which it was bundled, empty for none
        self.plan = ""
        #: what does not keep the sharpness that was asked for
        self.missed: tuple[Finding, ...] = ()
        self._runner = InlineRunner()
        self._scheduler = Scheduler(self, self._runner)
        #: who does the tasks of bundles, and how results come back from there; all here without anybody
        self._many = self._runner if pool is None else RemoteRunner(pool, store)
        self._spread = Scheduler(self, self._many)

    def apply(self, label: str, document: Document) -> None:
        """Make a document the present one; nobody undoes anything here."""
        self.document = document

    def amend(self, change: Callable[[Document], Document]) -> None:
        """Fill in what was left open."""
        self.document = change(self.document)

    def timed(self, name: str, work: Callable[[], Value]) -> Value:
        """Do something and add its time to a stage."""
        began = time.monotonic()
        try:
            with span(name, STAGE):
                return work()
        finally:
            self.seconds[name] = self.seconds.get(name, 0.0) + time.monotonic() - began

    def size(self, terms: Terms) -> None:
        """Make sheets as small as the sharpness to keep allows."""
        sized = []
        for number, bundle in enumerate(self.document.bundles):
            part = self.progress.part(*SPANS[Kind.PACK]).part(number / len(self.document.bundles), 1.0)
            wide, high = smallest_size(self.document.scene, bundle, terms, progress=part)
            sized.append(replace(bundle, sheet=replace(bundle.sheet, width=wide, height=high)))
        self.document = replace(self.document, bundles=tuple(sized))

    def below(self, wanted: float) -> tuple[Finding, ...]:
        """Return a finding for each bundle that does not keep a yield over nine tenths of its surface, by how much."""
        results = []
        for bundle in self.document.bundles:
            if bundle.layout is None or bundle.layout.scale <= 0:
                continue
            kept = low_yield(*surface_yields(self.document.scene, bundle, bundle.layout))
            if kept < wanted - 0.005:
                results.append(
                    Finding(
                        "yield_missed",
                        WARNING,
                        f"{bundle.name}: nine tenths of its surface keep {kept:.2f} of their sharpness, of "
                        f"{wanted:.2f} asked for.",
                        "Give it a larger sheet, or ask for less.",
                        bundle=bundle.name,
                    )
                )
        return tuple(results)

    def bring(
        self, stage: str, kind: Kind, names: Sequence[str], *, redo: bool = False, only: Sequence[str] = ()
    ) -> None:
        """Bring one stage of bundles in order, where it is not; ``stage`` is what its time is kept under."""
        first, last = SPANS[kind]
        parts = (Kind.VERIFY, kind) if kind is not Kind.PACK else (kind, Kind.VERIFY)
        step = (last - first) / max(len(names) * len(parts), 1)
        for turn, part in enumerate(parts):
            begun = first + turn * len(names) * step
            for number, name in enumerate(names):
                self._many.progress = self.progress.part(begun + number * step, begun + (number + 1) * step)
                bundle = self.document.bundle(name)
                again = redo and part is kind
                task = due(self.document, bundle, part, self.store, redo=again, only=only if part is kind else ())
                if task is not None:
                    self.timed(stage, lambda task=task: self._spread.submit(task))  # type: ignore[misc]
            # what is done elsewhere comes in before the next step asks what is still to be done
            self._many.progress = self.progress.part(begun, begun + len(names) * step)
            self.timed(stage, self._many.drain)

    def lay_out(self, names: Sequence[str], *, redo: bool = False) -> None:
        """Lay out the named bundles where they are stale."""
        self.bring("lay_out", Kind.PACK, names, redo=redo)

    def bake(self, names: Sequence[str], *, redo: bool = False, only: Sequence[str] = ()) -> None:
        """Bake the named bundles, or some of their maps alone, where they are stale and have a layout."""
        self.bring("bake", Kind.BAKE, names, redo=redo, only=only)

    def bake_files(self, name: str, named: NamedBake, folder: Path) -> list[str]:
        """Bake a bundle by a named bake into files; return them, relative to the folder.

        Raises
        ------
        UsageError, OutputError
        """
        results: list[list[str]] = []
        self._runner.progress = self.progress.part(*SPANS[Kind.BAKE])
        task = bake_files_task(self.document, self.document.bundle(name), named, folder, self.store)
        self.timed("bake", lambda: self._scheduler.submit(task, results.append))
        return results[0]

    def check(self, names: Sequence[str], *, redo: bool = False) -> None:
        """Check the named bundles where they are stale."""
        self.bring("check", Kind.CHECK, names, redo=redo)

    def deliver(
        self,
        folder: Path,
        *,
        only: Sequence[str] = (),
        keep: Path | None = None,
        within: tuple[float, float] = SPANS[Kind.DELIVER],
    ) -> Delivered:
        """Write the models and the textures, those of some maps alone, and the project unless it is these alone.

        A project at ``keep`` is left as it is. ``within`` is the part of the progress that models and textures take.
        """
        results: list[Delivered] = []
        self._runner.progress = self.progress.part(*within)
        task = deliver_task(self.document, folder, self.store, only=only)
        self.timed("deliver", lambda: self._scheduler.submit(task, results.append))
        (delivered,) = results
        if only:
            return delivered
        self.document = replace(self.document, delivered=delivery_digest(self.document), delivered_to=str(folder))
        name = written_beside(self.document, folder, keep)[0]
        if name.endswith(".fasc"):
            progress = self.progress.part(within[1], 1.0)
            self.timed("deliver", lambda: save_project(self.document, folder / name, self.store, progress=progress))
            delivered.files.append(name)
        return delivered

    def report(self, delivered: Delivered | None = None) -> tuple[dict[str, Any], list[Finding]]:
        """Return the report and the findings it holds."""
        with span("report", STAGE):
            findings = [*all_findings(self.document), *self.missed, *(delivered.findings if delivered else [])]
            files = delivered.files if delivered else []
            maps = delivered.maps if delivered else {}
            report = report_of(self.document, findings, seconds=self.seconds, files=files, map_files=maps)
            lost = {"compression": asdict(delivered.compression)} if delivered and delivered.compression else {}
            return report | lost | {"plan": self.plan or None} | memory_figures(), findings


def _grouped(scene: Scene, order: Order, groups: Sequence[tuple[str, tuple[str, ...]]]) -> tuple[Bundle, ...]:
    """Return bundles of the objects that were told to go together.

    Raises
    ------
    UsageError
        When an object is not there, or in two of them.
    """
    result, taken = [], dict[str, str]()
    for name, keys in groups:
        for key in keys:
            if not scene.has(key):
                raise UsageError(f"there is no object {key} to put into {name}.", hint="Return names that were given.")
            if key in taken:
                raise UsageError(f"{key} is in {taken[key]} and in {name}.", hint="Put each object into one bundle.")
            taken[key] = name
        modes = [scene.object(key).alpha_mode for key in keys]
        mode = next((one for one in (BLEND, MASK) if one in modes), OPAQUE)
        if keys:
            result.append(Bundle(name, tuple(keys), mode, order.sheet, order.bake))
    return tuple(result)


def _bundled(scene: Scene, order: Order, progress: Progress = SILENT) -> tuple[tuple[Bundle, ...], tuple[Finding, ...]]:
    """Return the bundles of a scene, by a plan or by a rule.

    Raises
    ------
    UsageError
        When there is no plan of that name.
    """
    if order.groups is not None:
        return _grouped(scene, order, order.groups(scene)), ()
    if not order.plan:
        bundles, findings = bundle_objects(scene, order.rule, order.sheet, order.bake)
        ruled = [
            replace(
                bundle,
                ways=ruled_ways(
                    scene,
                    bundle,
                    order.repeats,
                    swatches=order.terms.swatches,
                    most_repeats=order.terms.most_repeats,
                    share=order.terms.share,
                ),
            )
            for bundle in bundles
        ]
        return tuple(ruled), findings
    if order.plan not in NAMES:
        raise UsageError(f"there is no plan {order.plan!r}.", hint=f"There are: {', '.join(NAMES)}.")
    groups = None
    if order.rule is not Rule.AUTO:
        groups = [
            (bundle.name, bundle.alpha_mode, bundle.objects)
            for bundle in bundle_objects(scene, order.rule, order.sheet, order.bake)[0]
        ]
    plans = Planner(scene, order.delivery, groups).plans(order.terms, progress)
    if not plans.named:
        return (), ()
    return planned_bundles(scene, plans.plan(order.plan), order.sheet, order.bake), ()


def gathered(line: Pipeline, models: Sequence[str], order: Order) -> None:
    """Gather models, and what is read into them, as the document of a line.

    Raises
    ------
    InputError
    """
    progress = line.progress
    scene, noticed = line.timed(
        "gather", lambda: gather(models, line.store, lookup=order.lookup, progress=progress.part(0.0, 0.1))
    )
    name = order.delivery.name or Path(models[0]).stem
    pairing = order.pairing
    if order.high:
        told = (order.high, order.cages, pairing, order.pairs_file, line.store)
        # told as the end of gathering, so that progress never goes back
        part = progress.part(0.1, 0.1)
        scene, pairing, about = line.timed(
            "gather", lambda: gather_high(scene, *told, lookup=order.lookup, progress=part)
        )
        noticed = (*noticed, *about)
    scene = scene.lit_by(order.lighting).layered(order.layers)
    line.document = Document(
        name, scene, (), noticed, order.delivery, lookup=order.lookup, pairing=pairing, budget=order.budget
    )


def bundled(line: Pipeline, order: Order) -> None:
    """Put the objects of a line's document into bundles, in the place of those that it has.

    Raises
    ------
    UsageError
    """
    scene = line.document.scene.layered(order.layers) if order.layers else line.document.scene
    line.plan = "" if order.groups is not None else order.plan
    bundles, more = line.timed("gather", lambda: _bundled(scene, order, line.progress.part(0.1, 0.1)))
    if order.palette_made:
        every = made_palette(scene, [item.key for item in scene.objects])
        bundles = tuple(replace(bundle, given=every, ways=()) for bundle in bundles)
    elif order.given is not None:
        bundles = tuple(replace(bundle, given=order.given, ways=()) for bundle in bundles)
    noticed = tuple(one for one in line.document.gathered if one not in more)
    line.document = replace(line.document, scene=scene, bundles=bundles, gathered=(*noticed, *more))
    if order.change is not None:
        line.document = order.change(line.document)


def begin(models: Sequence[str], store: PixelStore, order: Order, *, progress: Progress = SILENT) -> Document:
    """Return the document that a pass begins with: gathered and bundled, nothing laid out.

    Raises
    ------
    InputError, UsageError
    """
    line = Pipeline(Document(), store, progress)
    gathered(line, models, order)
    bundled(line, order)
    return line.document


def finish(line: Pipeline, folder: Path, order: Order) -> Delivered:
    """Deliver what a line has made.

    Raises
    ------
    OutputError
    """
    delivered = line.deliver(folder)
    if order.plan or order.size_follows:
        line.missed = line.below(order.terms.sharpness)
    return _with_report(line, folder, delivered)


def written_beside(document: Document, folder: Path, keep: Path | None = None) -> tuple[str, ...]:
    """Return the names of what is written beside a document's models: the project, a page, and the report last.

    A project at ``keep`` is not written over, and not named.
    """
    name = file_name(document.delivery.name or document.name)
    project, report = f"{name}.fasc", f"{name}_report.json"
    kept = keep is not None and (folder / project).resolve() == keep.resolve()
    page = [f"{name}_page.html"] if document.delivery.page else []
    return tuple([*([] if kept else [project]), *page, report])


def deliver_whole(
    document: Document, folder: Path, store: PixelStore, *, keep: Path | None = None, progress: Progress = SILENT
) -> Delivered:
    """Write a document's models and textures with the project and the report beside them, as `make` does.

    Parameters
    ----------
    keep : Path, optional
        The project that is open: it is not written over, since saving it is up to whoever has it open.

    Raises
    ------
    OutputError
    """
    line = Pipeline(document, store, progress)
    return _with_report(line, folder, line.deliver(folder, keep=keep, within=(0.0, 0.9)))


def _with_report(line: Pipeline, folder: Path, delivered: Delivered) -> Delivered:
    report, _ = line.report(delivered)
    beside = written_beside(line.document, folder)
    report_name = beside[-1]
    page = next((name for name in beside if name.endswith(".html")), None)
    delivered.files += [page, report_name] if page else [report_name]
    report["files"] = list(delivered.files)
    if page:
        data = line.timed("deliver", lambda: _page_of(line, folder, delivered, report))
        write_whole(folder / page, data)
    write_whole(folder / report_name, json.dumps(report, indent=1, ensure_ascii=False).encode())
    return delivered


def _page_of(line: Pipeline, folder: Path, delivered: Delivered, report: dict[str, Any]) -> bytes:
    """Return the page that shows what was delivered."""
    suffixes = {entry.suffix for entry in WRITTEN_FORMATS}
    model = next((name for name in delivered.files if Path(name).suffix in suffixes), None)
    if model is None:
        raise UsageError("a page shows a model, and none is delivered.", hint="Choose a kind of model, such as .glb.")
    pictures = {}
    for bundle in line.document.bundles:
        for baked in bundle.texturing.maps if bundle.texturing is not None else ():
            file = delivered.maps.get((bundle.name, baked.name), "")
            if file:
                pictures[file] = line.store.get(baked.pixels)
    progress = line.progress.part(0.98, 1.0)
    return page_bytes(line.document, report, folder / model, pictures, line.store, progress=progress)


def make(
    models: Sequence[str],
    folder: Path,
    store: PixelStore,
    order: Order,
    *,
    progress: Progress = SILENT,
    heard: Callable[[Scene], None] = lambda _: None,
    pool: WorkerPool | None = None,
) -> tuple[dict[str, Any], list[Finding]]:
    """Gather, bundle, lay out, bake, check and deliver.

    ``heard`` is told of the scene as soon as it is gathered; bundles are worked on by ``pool`` where there is one.

    Returns
    -------
    report : dict
        Also written into the folder.
    findings : list of Finding
    """
    line = Pipeline(Document(), store, progress, pool)
    gathered(line, models, order)
    heard(line.document.scene)
    bundled(line, order)
    if order.size_follows and not order.plan:
        line.timed("lay_out", lambda: line.size(order.terms))
    return _through(line, folder, order)


def _through(line: Pipeline, folder: Path, order: Order) -> tuple[dict[str, Any], list[Finding]]:
    """Lay out, bake and check what is stale of all bundles, and deliver it; return the report and its findings."""
    names = [bundle.name for bundle in line.document.bundles]
    line.lay_out(names)
    line.bake(names)
    line.check(names)
    return line.report(finish(line, folder, order))


def bring_up(
    project: Path,
    folder: Path,
    store: PixelStore,
    *,
    name: str = "",
    progress: Progress = SILENT,
    pool: WorkerPool | None = None,
) -> tuple[dict[str, Any], list[Finding]]:
    """Redo what is stale in a saved project, check and deliver it; the project itself is left as it is.

    Returns
    -------
    report : dict
        Also written into the folder.
    findings : list of Finding

    Raises
    ------
    InputError, OutputError
    """
    line = Pipeline(open_project(project, store, progress=progress.part(0.0, 0.1)), store, progress, pool)
    if name:
        line.document = replace(line.document, delivery=replace(line.document.delivery, name=name))
    return _through(line, folder, Order())
