"""What each command does, and what it prints."""

from __future__ import annotations

import argparse
import json
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from fasciculum.cli.arguments import refuse_later
from fasciculum.cli.words import inspection_words, report_words
from fasciculum.errors import UsageError
from fasciculum.io.pixels import PixelStore
from fasciculum.model.bundle import BakeSettings, SheetSettings
from fasciculum.model.document import MODEL_KINDS, DeliverySettings
from fasciculum.model.finding import ERROR, Finding
from fasciculum.model.lookup import Lookup
from fasciculum.model.unwrapping import PRESETS, UnwrapSettings
from fasciculum.operations.check.inspect_delivered import inspect_delivered
from fasciculum.operations.deliver.conventions import find_delivery
from fasciculum.operations.gather.gather import gather
from fasciculum.operations.projects import open_project, save_project
from fasciculum.operations.report import inspection_of
from fasciculum.progress import Progress
from fasciculum.session.commands import choose_delivery
from fasciculum.session.loading import demo_model
from fasciculum.session.pipeline import Order, Pipeline, make


def run_verb(parsed: argparse.Namespace, scratch: Path, progress: Progress) -> int:
    """Run the command that was asked for and return the exit code."""
    store = PixelStore(scratch / "pixels")
    verbs = {"inspect": _inspect, "make": _make, "run": _run, "check": _check, "demo": _demo}
    return verbs[parsed.command](parsed, store, progress)


def _code(findings: Sequence[Finding]) -> int:
    return 1 if any(finding.severity == ERROR for finding in findings) else 0


def _print(value: dict[str, Any], as_json: bool, words: str) -> None:
    print(json.dumps(value, ensure_ascii=False) if as_json else words)


def _inspect(parsed: argparse.Namespace, store: PixelStore, progress: Progress) -> int:
    scene, findings = gather(parsed.models, store, lookup=_lookup(parsed), progress=progress)
    found = inspection_of(scene, findings)
    _print(found, parsed.json, inspection_words(found))
    return _code(findings)


def _order(parsed: argparse.Namespace) -> Order:
    width, height = parsed.size
    sheet = SheetSettings(
        width=width,
        height=height,
        padding=parsed.padding,
        margin=parsed.margin,
        turns=parsed.turns,
        mirror=parsed.mirror,
        density=parsed.density,
        uv=parsed.uv,
        twins=parsed.twins,
        seconds=parsed.seconds,
        seed=parsed.seed,
        alike=parsed.alike,
        tiles=parsed.tiles,
        align=parsed.align,
        smallest=parsed.smallest,
        wanted=parsed.wanted,
        grows=parsed.grows,
        unwrap=_unwrap(parsed),
    )
    if 2 * sheet.border + 8 >= min(width, height):
        raise UsageError("the margin leaves no room on the sheet.", hint="Choose a larger sheet or a smaller margin.")
    bake = BakeSettings(parsed.maps, parsed.samples, parsed.bleed, parsed.bits, parsed.edges, parsed.edge_angle)
    return Order(parsed.bundle, sheet, bake, _delivery(parsed), _lookup(parsed))


def _unwrap(parsed: argparse.Namespace) -> UnwrapSettings:
    given = {
        "sharp": parsed.sharp,
        "stretch": parsed.stretch,
        "smallest": parsed.smallest_chart,
        "fewer": parsed.fewer,
        "keep_seams": parsed.keep_seams or None,
    }
    return replace(PRESETS[parsed.shapes], **{name: value for name, value in given.items() if value is not None})


def _lookup(parsed: argparse.Namespace) -> Lookup:
    for folder in parsed.allow:
        if not Path(folder).is_dir():
            raise UsageError("there is no such folder to allow.", file=folder, hint="Check its path.")
    return Lookup(tuple(str(Path(folder).resolve()) for folder in parsed.allow))


def _delivery(parsed: argparse.Namespace) -> DeliverySettings:
    """Return the delivery that was named, with what was asked for beside it."""
    named = find_delivery(parsed.delivery) if parsed.delivery else DeliverySettings()
    kinds = tuple(kind for kind in MODEL_KINDS if getattr(parsed, kind))
    return replace(
        named,
        name=parsed.name,
        external_textures=parsed.external_textures or (named.external_textures and parsed.delivery is not None),
        keep_source_uvs=parsed.keep_source_uvs,
        models=kinds or named.models,
        combine=parsed.combine == "bundle",
        region=parsed.region,
    )


def _make(parsed: argparse.Namespace, store: PixelStore, progress: Progress) -> int:
    refused = refuse_later(parsed)
    if refused:
        raise UsageError(refused)
    report, findings = make(parsed.models, Path(parsed.out), store, _order(parsed), progress=progress)
    _print(report, parsed.json, report_words(report))
    return _code(findings)


def _demo(parsed: argparse.Namespace, store: PixelStore, progress: Progress) -> int:
    if parsed.out is None:
        raise UsageError("demo --headless needs a folder.", hint="Add --out DIR.")
    width, height = parsed.size
    order = Order(sheet=SheetSettings(width=width, height=height, seconds=5.0))
    out = Path(parsed.out)
    report, findings = make([str(demo_model())], out, store, order, progress=progress)
    print(report_words(report))
    print(out / report["files"][-1])
    return _code(findings)


def _run(parsed: argparse.Namespace, store: PixelStore, progress: Progress) -> int:
    path = Path(parsed.project)
    line = Pipeline(open_project(path, store, progress=progress.part(0.0, 0.1)), store, progress)
    names = [bundle.name for bundle in line.document.bundles]
    if parsed.bundle is not None:
        if parsed.bundle not in names:
            raise UsageError(
                f"there is no bundle {parsed.bundle}.", file=str(path), hint=f"There are: {', '.join(names)}."
            )
        names = [parsed.bundle]
    stage = "bake" if parsed.map and not parsed.stage else parsed.stage
    if parsed.map:
        _only_known_map(line, names, parsed.map)
    if stage in (None, "lay-out"):
        line.timed("lay_out", lambda: line.lay_out(names, redo=stage == "lay-out"))
    if stage in (None, "bake"):
        line.timed("bake", lambda: line.bake(names, redo=stage == "bake"))
    if stage in (None, "check"):
        line.timed("check", lambda: line.check(names, redo=stage == "check"))
    delivered = None
    if parsed.delivery:
        chosen = find_delivery(parsed.delivery, line.document.deliveries)
        line.document = choose_delivery(line.document, chosen)
    if stage == "deliver" or (stage is None and parsed.out):
        folder = parsed.out or line.document.delivered_to
        if folder and not parsed.out and not Path(folder).resolve().is_relative_to(path.parent.resolve()):
            raise UsageError(
                f"the project was delivered to {folder}, outside its own folder.",
                file=str(path),
                hint="Name the folder with --out, so that no project decides by itself where files are written.",
            )
        if not folder:
            raise UsageError("the project has not been delivered yet.", file=str(path), hint="Add --out DIR.")
        delivered = line.timed("deliver", lambda: line.deliver(Path(folder)))
    save_project(line.document, path, store)
    report, findings = line.report(delivered)
    _print(report, parsed.json, report_words(report))
    return _code(findings)


def _only_known_map(line: Pipeline, names: list[str], wanted: str) -> None:
    for name in names:
        made = line.document.bundle(name).texturing
        if made is not None and made.map(wanted) is not None:
            return
    raise UsageError(f"no map {wanted} has been baked.", hint="Bake the bundle first, or name one of its maps.")


def _check(parsed: argparse.Namespace, store: PixelStore, progress: Progress) -> int:
    findings: list[Finding] = []
    reports = []
    for number, file in enumerate(parsed.files):
        part = progress.part(number / len(parsed.files), (number + 1) / len(parsed.files))
        if Path(file).suffix.lower() == ".fasc":
            line = Pipeline(open_project(Path(file), store, progress=part.part(0, 0.3)), store, part)
            line.timed("check", lambda line=line: line.check([b.name for b in line.document.bundles]))  # type: ignore[misc]
            report, noticed = line.report()
        else:
            report, noticed = inspect_delivered(file, store, progress=part)
        reports.append(report)
        findings += noticed
    whole = reports[0] if len(reports) == 1 else {"version": 1, "reports": reports}
    _print(whole, parsed.json, "\n\n".join(report_words(report) for report in reports))
    return _code(findings)
