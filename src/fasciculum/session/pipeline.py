"""One pass from files to a delivery, as the command line runs it; each stage's time is kept."""

from __future__ import annotations

import json
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any, TypeVar

from fasciculum.io.names import file_name
from fasciculum.io.pixels import PixelStore
from fasciculum.model.bundle import BakeSettings, SheetSettings
from fasciculum.model.document import DeliverySettings, Document
from fasciculum.model.finding import Finding
from fasciculum.model.lookup import HERE, Lookup
from fasciculum.operations.bake.bake import bake
from fasciculum.operations.check.check import check_bundle
from fasciculum.operations.deliver.deliver import Delivered, deliver
from fasciculum.operations.deliver.writing import write_whole
from fasciculum.operations.gather.bundling import bundle_objects
from fasciculum.operations.gather.gather import gather
from fasciculum.operations.lay_out.lay_out import lay_out
from fasciculum.operations.projects import save_project
from fasciculum.operations.report import report_of
from fasciculum.progress import SILENT, Progress
from fasciculum.session.commands import put_check, put_layout, put_texturing
from fasciculum.session.session import all_findings
from fasciculum.session.stale import DONE, bake_state, check_state, delivery_digest, layout_state

Value = TypeVar("Value")
STAGES = ("lay-out", "bake", "check", "deliver")


@dataclass(frozen=True)
class Order:
    """What one pass should do."""

    rule: str = "auto"
    sheet: SheetSettings = field(default_factory=SheetSettings)
    bake: BakeSettings = field(default_factory=BakeSettings)
    delivery: DeliverySettings = field(default_factory=DeliverySettings)
    lookup: Lookup = HERE


class Pipeline:
    """Runs stages on a document and keeps their times, in seconds."""

    def __init__(self, document: Document, store: PixelStore, progress: Progress = SILENT) -> None:
        self.document = document
        self.store = store
        self.progress = progress
        self.seconds: dict[str, float] = {}

    def timed(self, name: str, work: Callable[[], Value]) -> Value:
        """Do something and add its time to a stage."""
        began = time.monotonic()
        try:
            return work()
        finally:
            self.seconds[name] = self.seconds.get(name, 0.0) + time.monotonic() - began

    def lay_out(self, names: Sequence[str], *, redo: bool = False) -> None:
        """Lay out the named bundles where they are stale."""
        for number, name in enumerate(names):
            bundle = self.document.bundle(name)
            if bundle.objects and (redo or layout_state(self.document, bundle) != DONE):
                part = self.progress.part(0.1 + 0.3 * number / len(names), 0.1 + 0.3 * (number + 1) / len(names))
                layout = lay_out(self.document.scene, bundle, progress=part)
                self.document = put_layout(self.document, name, layout)

    def bake(self, names: Sequence[str], *, redo: bool = False) -> None:
        """Bake the named bundles where they are stale and have a layout."""
        for number, name in enumerate(names):
            bundle = self.document.bundle(name)
            ready = bundle.layout is not None and bundle.layout.scale > 0 and bundle.layout.overlap == 0
            if ready and bundle.objects and (redo or bake_state(self.document, bundle) != DONE):
                part = self.progress.part(0.4 + 0.35 * number / len(names), 0.4 + 0.35 * (number + 1) / len(names))
                made = bake(self.document.scene, bundle, self.store, progress=part)
                self.document = put_texturing(self.document, name, made)

    def check(self, names: Sequence[str], *, redo: bool = False) -> None:
        """Check the named bundles where they are stale."""
        for number, name in enumerate(names):
            bundle = self.document.bundle(name)
            if bundle.objects and (redo or check_state(self.document, bundle) != DONE):
                part = self.progress.part(0.75 + 0.1 * number / len(names), 0.75 + 0.1 * (number + 1) / len(names))
                result = check_bundle(self.document.scene, bundle, self.store, progress=part)
                self.document = put_check(self.document, name, result)

    def deliver(self, folder: Path) -> Delivered:
        """Write the GLB, the textures and the project."""
        delivered = deliver(self.document, folder, self.store, progress=self.progress.part(0.85, 0.97))
        self.document = replace(self.document, delivered=delivery_digest(self.document), delivered_to=str(folder))
        project = folder / f"{file_name(self.document.delivery.name or self.document.name)}.fasc"
        save_project(self.document, project, self.store, progress=self.progress.part(0.97, 1.0))
        delivered.files.append(project.name)
        return delivered

    def report(self, delivered: Delivered | None = None) -> tuple[dict[str, Any], list[Finding]]:
        """Return the report and the findings it holds."""
        findings = [*all_findings(self.document), *(delivered.findings if delivered else [])]
        files = delivered.files if delivered else []
        maps = delivered.maps if delivered else {}
        return (
            report_of(self.document, findings, seconds=self.seconds, files=files, map_files=maps),
            findings,
        )


def make(
    models: Sequence[str], folder: Path, store: PixelStore, order: Order, *, progress: Progress = SILENT
) -> tuple[dict[str, Any], list[Finding]]:
    """Gather, bundle, lay out, bake, check and deliver.

    Returns
    -------
    report : dict
        Also written into the folder.
    findings : list of Finding
    """
    line = Pipeline(Document(), store, progress)
    scene, noticed = line.timed(
        "gather", lambda: gather(models, store, lookup=order.lookup, progress=progress.part(0.0, 0.1))
    )
    name = order.delivery.name or Path(models[0]).stem
    bundles, more = bundle_objects(scene, order.rule, order.sheet, order.bake)
    line.document = Document(name, scene, bundles, (*noticed, *more), order.delivery, lookup=order.lookup)
    names = [bundle.name for bundle in bundles]
    line.timed("lay_out", lambda: line.lay_out(names))
    line.timed("bake", lambda: line.bake(names))
    line.timed("check", lambda: line.check(names))
    delivered = line.timed("deliver", lambda: line.deliver(folder))
    report, findings = line.report(delivered)
    report_name = f"{file_name(name)}_report.json"
    report["files"].append(report_name)
    write_whole(folder / report_name, json.dumps(report, indent=1, ensure_ascii=False).encode())
    return report, findings
