"""What each command does, and what it prints."""

from __future__ import annotations

import argparse
import json
import math
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from fasciculum.cli.arguments import AUTO_SIZE, NO_PLAN
from fasciculum.cli.options import with_options
from fasciculum.cli.words import compared_words, inspection_words, report_words
from fasciculum.errors import OutputError, UsageError
from fasciculum.io.formats.table import WRITTEN_FORMATS
from fasciculum.io.given_files import read_sheet
from fasciculum.io.layer_files import read_layers
from fasciculum.io.pixels import PixelStore
from fasciculum.memory import MemoryWatch, bytes_of, free_bytes, memory_figures
from fasciculum.model.bake_settings import BakeSettings
from fasciculum.model.budget import Budget
from fasciculum.model.choices import (
    Combine,
    Compression,
    DensityRule,
    FlatColorPolicy,
    PairBy,
    Repeats,
    Rule,
    Share,
    Stage,
)
from fasciculum.model.delivery import DeliverySettings
from fasciculum.model.detail import Pairing
from fasciculum.model.finding import ERROR, Finding
from fasciculum.model.given import Given
from fasciculum.model.lighting import Lamp, LampKind, Lighting, sun_direction
from fasciculum.model.lookup import Lookup
from fasciculum.model.map_overrides import MapOverride, judge_depth, read_wish
from fasciculum.model.maps import AUTO
from fasciculum.model.named_bakes import find_bakes
from fasciculum.model.sheet import SheetSettings
from fasciculum.model.terms import PLAN_PADDING, Terms
from fasciculum.model.unwrapping import PRESETS
from fasciculum.operations.bake.bake import wanted_maps
from fasciculum.operations.bake.light import read_panorama
from fasciculum.operations.check.against import compare_files
from fasciculum.operations.check.inspect_delivered import inspect_delivered
from fasciculum.operations.deliver.compressing import judge_files
from fasciculum.operations.deliver.conventions import find_delivery
from fasciculum.operations.gather.gather import gather
from fasciculum.operations.gather.palettes import read_palette
from fasciculum.operations.plan.plan import NAMES, Planner
from fasciculum.operations.plan.report import plans_report, plans_words
from fasciculum.operations.projects import open_project, save_project
from fasciculum.operations.report import finding_entry, inspection_of
from fasciculum.progress import Progress
from fasciculum.session.commands import choose_delivery
from fasciculum.session.loading import demo_models, with_demo_sheets
from fasciculum.session.pipeline import Order, Pipeline, make

#: rules of pairing that have a word
PAIR_RULES = (PairBy.NAME, PairBy.NEAREST, PairBy.NONE)


def run_verb(parsed: argparse.Namespace, scratch: Path, progress: Progress) -> int:
    """Run the command that was asked for and return the exit code."""
    store = PixelStore(scratch / "pixels")
    told = getattr(parsed, "memory", None)
    watch = MemoryWatch(bytes_of(told) if told else free_bytes() // 2, scratch)
    watch.start()
    try:
        return _run_verb(parsed, scratch, store, progress)
    finally:
        watch.stop()


def _run_verb(parsed: argparse.Namespace, scratch: Path, store: PixelStore, progress: Progress) -> int:
    if parsed.command == "batch":
        from fasciculum.cli.batch import run_batch

        return run_batch(parsed, scratch, progress)
    verbs = {"inspect": _inspect, "plan": _plan, "make": _make, "run": _run, "check": _check, "demo": _demo}
    return verbs[parsed.command](parsed, store, progress)


def _code(findings: Sequence[Finding]) -> int:
    return 1 if any(finding.severity == ERROR for finding in findings) else 0


def _print(value: dict[str, Any], as_json: bool, words: str) -> None:
    print(json.dumps(value, ensure_ascii=False) if as_json else words)


def _inspect(parsed: argparse.Namespace, store: PixelStore, progress: Progress) -> int:
    scene, findings = gather(parsed.models, store, lookup=_lookup(parsed), progress=progress)
    result = inspection_of(scene, findings) | memory_figures()
    _print(result, parsed.json, inspection_words(result))
    return _code(findings)


def _plan(parsed: argparse.Namespace, store: PixelStore, progress: Progress) -> int:
    scene, _ = gather(parsed.models, store, lookup=_lookup(parsed), progress=progress.part(0.0, 0.6))
    settings = replace(DeliverySettings(), combine=Combine(parsed.combine), region=parsed.region)
    plans = Planner(scene, settings).plans(_terms(parsed), progress.part(0.6, 1.0))
    _print(plans_report(scene, plans) | memory_figures(), parsed.json, plans_words(plans))
    return 0


def _terms(parsed: argparse.Namespace) -> Terms:
    """Return what plans are asked to keep."""
    given = getattr(parsed, "SheetSettings.padding", None)
    size = getattr(parsed, "size", None)
    return Terms(
        sharpness=parsed.sharpness,
        largest=parsed.largest,
        padding=PLAN_PADDING if given is None else given,
        repeats=str(getattr(parsed, "repeats", None) or Repeats.AUTO),
        most_repeats=getattr(parsed, "most_repeats", None),
        swatches=getattr(parsed, "flats", FlatColorPolicy.AUTO) != FlatColorPolicy.BAKE,
        size=None if size in (None, AUTO_SIZE) else size,
        share=Share(parsed.share),
        sheets=parsed.sheets,
    )


def plan_of(parsed: argparse.Namespace) -> str:
    """Return the name of the plan that ``make`` takes, empty for none.

    The balanced plan is taken unless an option says what a plan would decide; a number of sheets is decided by plans.

    Raises
    ------
    UsageError
    """
    if parsed.sheets and (parsed.plan == NO_PLAN or parsed.onto or parsed.palette):
        raise UsageError("--sheets is obeyed by plans alone.", hint="Name one by --plan, or leave --sheets out.")
    if parsed.plan is not None:
        return "" if parsed.plan == NO_PLAN else str(parsed.plan)
    given = parsed.bundle, parsed.size, parsed.repeats, getattr(parsed, "SheetSettings.pieces")
    if not parsed.sheets and (any(one is not None for one in given) or parsed.onto or parsed.palette):
        return ""
    return NAMES[0]


def order_of(parsed: argparse.Namespace) -> Order:
    """Return what one pass should do.

    Raises
    ------
    UsageError, InputError
    """
    plan = plan_of(parsed)
    free = parsed.size in (None, AUTO_SIZE)
    width, height = (SheetSettings().width, SheetSettings().height) if free else parsed.size
    plain = replace(SheetSettings(), width=width, height=height)
    unwrap = with_options(parsed, PRESETS[parsed.shapes], once=True)
    sheet = replace(with_options(parsed, plain, once=True), unwrap=unwrap)
    if plan or parsed.size == AUTO_SIZE:
        # what a plan decides unless it is told: texels that keep a quarter clean, and the same yield for all
        told = {name: getattr(parsed, f"SheetSettings.{name}") for name in ("padding", "density")}
        sheet = sheet if told["padding"] is not None else replace(sheet, padding=PLAN_PADDING)
        sheet = sheet if told["density"] is not None or not plan else replace(sheet, density=DensityRule.KEEP)
    if 2 * sheet.border + 8 >= min(width, height):
        raise UsageError("the margin leaves no room on the sheet.", hint="Choose a larger sheet or a smaller margin.")
    wishes = tuple(dict.fromkeys(parsed.map))
    bake = with_options(parsed, BakeSettings(parsed.maps, wishes=wishes, channels=tuple(parsed.channels)), once=True)
    bake = replace(bake, reach_out=parsed.reach[0], reach_in=parsed.reach[1])
    if parsed.light_size is not None:
        bake = replace(bake, light_width=parsed.light_size[0], light_height=parsed.light_size[1])
    _judge_depth(bake)
    delivery = _delivery(parsed)
    judge_files(delivery, bake)
    if delivery.compress is not Compression.NONE:
        sheet = replace(sheet, blocks=True)
    return Order(
        Rule(parsed.bundle or (Rule.ALPHA if parsed.plan == NO_PLAN else Rule.AUTO)),
        sheet,
        bake,
        delivery,
        _lookup(parsed),
        plan=plan,
        terms=_terms(parsed),
        repeats=Repeats(parsed.repeats or Repeats.AUTO),
        size_follows=parsed.size == AUTO_SIZE,
        high=tuple(parsed.high),
        cages=(parsed.cage,) if parsed.cage else (),
        pairing=_pairing(parsed),
        pairs_file="" if parsed.pair_by in PAIR_RULES else parsed.pair_by,
        lighting=_lighting(parsed),
        layers=read_layers(Path(parsed.layers)) if parsed.layers else (),
        given=_given(parsed),
        palette_made=parsed.palette == AUTO,
        budget=parsed.budget or Budget(),
    )


def _given(parsed: argparse.Namespace) -> Given | None:
    """Return the sheet that everything is laid onto.

    Raises
    ------
    UsageError, InputError
    """
    if parsed.cells and parsed.palette in ("", AUTO):
        raise UsageError("--cells goes with a palette's file.", hint="Name it with --palette FILE.png.")
    if parsed.split and not parsed.onto:
        raise UsageError("--split goes with --onto.", hint="Name a sheet with --onto SHEET.json.")
    if parsed.onto:
        return replace(read_sheet(Path(parsed.onto)), split=parsed.split)
    if parsed.palette and parsed.palette != AUTO:
        return read_palette(Path(parsed.palette), parsed.cells)
    return None


def _lighting(parsed: argparse.Namespace) -> Lighting:
    """Return what shines beside the models' own lights.

    Raises
    ------
    MissingFile, MalformedFile, UnsupportedInput
        When there is a sky picture that cannot be read.
    """
    sky = replace(parsed.sky, strength=parsed.sky_strength)
    if sky.picture:
        # read ahead, so that nothing is packed for a sky that is not there
        sky = replace(sky, picture=str(Path(sky.picture).resolve()), digest=read_panorama(sky.picture)[1])
    suns = tuple(
        Lamp(f"Sun {number + 1}", LampKind.SUN, strength=lux, direction=sun_direction(azimuth, elevation))
        for number, (azimuth, elevation, lux) in enumerate(parsed.sun)
    )
    return Lighting(sky, suns)


def _pairing(parsed: argparse.Namespace) -> Pairing:
    """Return how high-poly objects find theirs.

    Raises
    ------
    UsageError
        When something is said of high-poly models and there are none, or the rule is not known.
    """
    rule = parsed.pair_by
    if not parsed.high and (parsed.cage or rule != PairBy.NAME or parsed.reach != (0.0, 0.0)):
        raise UsageError("there are no high-poly models to read.", hint="Add --high MODEL.")
    if rule not in PAIR_RULES and not rule.lower().endswith(".json"):
        raise UsageError(f"--pair-by does not know {rule!r}.", hint="Write name, nearest, none or a FILE.json.")
    by = PairBy(rule) if rule in PAIR_RULES else PairBy.FILE
    return Pairing(by, parsed.low_suffix, parsed.high_suffix)


def _judge_depth(bake: BakeSettings) -> None:
    """Refuse depths that a format does not hold, and packed files of one name.

    Raises
    ------
    UsageError
    """
    told = [read_wish(text) for text in bake.wishes]
    for wish in [MapOverride("", bits=bake.bits, format=bake.format), *told]:
        bits = wish.bits or (0 if wish.format else bake.bits)
        judge_depth(bits, wish.format or bake.format, f"map {wish.name}" if wish.name else "--bits")
    names = [file.name for file in bake.packed]
    twice = next((name for name in names if names.count(name) > 1), None)
    if twice is not None:
        raise UsageError(f"there are two packed files {twice}.", hint="Give each a name of its own.")


def _lookup(parsed: argparse.Namespace) -> Lookup:
    for folder in parsed.allow:
        if not Path(folder).is_dir():
            raise UsageError("there is no such folder to allow.", file=folder, hint="Check its path.")
    return Lookup(tuple(str(Path(folder).resolve()) for folder in parsed.allow))


def _delivery(parsed: argparse.Namespace) -> DeliverySettings:
    """Return the delivery that was named, with what was asked for beside it."""
    named = find_delivery(parsed.delivery) if parsed.delivery else DeliverySettings()
    kinds = tuple(entry.name for entry in WRITTEN_FORMATS if getattr(parsed, entry.name))
    return replace(with_options(parsed, named, once=True), models=kinds or named.models)


def _make(parsed: argparse.Namespace, store: PixelStore, progress: Progress) -> int:
    if parsed.watch:
        from fasciculum.cli.watching import make_and_watch

        return make_and_watch(parsed, store.folder, progress)
    report, findings = make(parsed.models, Path(parsed.out), store, order_of(parsed), progress=progress)
    _print(report, parsed.json, report_words(report))
    return _code(findings)


def _demo(parsed: argparse.Namespace, store: PixelStore, progress: Progress) -> int:
    if parsed.out is None:
        raise UsageError("demo --headless needs a folder.", hint="Add --out DIR.")
    sheet = SheetSettings(padding=PLAN_PADDING, density=DensityRule.KEEP, seconds=3.0)
    delivery = DeliverySettings(combine=Combine.BUNDLE)
    model, high = demo_models()
    terms = Terms(size=parsed.size)
    order = Order(
        sheet=sheet, delivery=delivery, plan="balanced", terms=terms, high=(str(high),), change=with_demo_sheets
    )
    out = Path(parsed.out)
    report, findings = make([str(model)], out, store, order, progress=progress)
    print(report_words(report))
    print(out / report["files"][-1])
    return _code(findings)


def _run(parsed: argparse.Namespace, store: PixelStore, progress: Progress) -> int:
    path = Path(parsed.project)
    line = Pipeline(open_project(path, store, progress=progress.part(0.0, 0.1)), store, progress)
    if parsed.budget is not None:
        line.document = replace(line.document, budget=parsed.budget)
    names = [bundle.name for bundle in line.document.bundles]
    if parsed.bundle is not None:
        if parsed.bundle not in names:
            raise UsageError(
                f"there is no bundle {parsed.bundle}.", file=str(path), hint=f"There are: {', '.join(names)}."
            )
        names = [parsed.bundle]
    if parsed.bake:
        return _run_bakes(parsed, line, names, path)
    only = (parsed.map,) if parsed.map else ()
    stage = Stage(parsed.stage) if parsed.stage else Stage.BAKE if only else None
    if only:
        names = _with_map(line, names, parsed.map)
    if stage in (None, Stage.LAY_OUT):
        line.lay_out(names, redo=stage is Stage.LAY_OUT)
    if stage in (None, Stage.BAKE):
        line.bake(names, redo=stage is Stage.BAKE, only=only)
    if stage in (None, Stage.CHECK):
        line.check(names, redo=stage is Stage.CHECK)
    delivered = None
    if parsed.delivery:
        chosen = find_delivery(parsed.delivery, line.document.deliveries)
        line.document = choose_delivery(line.document, chosen)
    if stage is Stage.DELIVER or (parsed.out and (stage is None or only)):
        delivered = line.deliver(_folder(parsed, line, path), only=only)
    elif only and stage is Stage.BAKE and _delivered_here(line, path):
        # its file lies beside the project, and the model that holds it: they are rewritten, and nothing else is
        delivered = line.deliver(path.parent, only=only)
    save_project(line.document, path, store)
    report, findings = line.report(delivered)
    _print(report, parsed.json, report_words(report))
    return _code(findings)


def _run_bakes(parsed: argparse.Namespace, line: Pipeline, names: list[str], path: Path) -> int:
    """Run named bakes into files; one that fails is told, and the others are run."""
    chosen = find_bakes(parsed.bake, line.document.bakes)
    folder = Path(parsed.out or path.parent)
    files: list[str] = []
    failed: list[Finding] = []
    for name in names:
        bundle = line.document.bundle(name)
        for named in (one for one in chosen if one.suits(bundle.identity) and bundle.objects):
            try:
                files += line.bake_files(name, named, folder)
            except (UsageError, OutputError) as error:
                failed.append(Finding("bake_failed", ERROR, f"{named.title}: {error}", error.hint, bundle=name))
    if not files and not failed:
        raise UsageError("no bundle suits these bakes.", file=str(path), hint="Run a preset, or the bundle's own.")
    report, findings = line.report()
    report["files"] = files
    report["findings"] += [finding_entry(finding) for finding in failed]
    _print(report, parsed.json, "\n".join([*files, *(finding.message for finding in failed)]))
    return _code([*findings, *failed])


def _delivered_here(line: Pipeline, path: Path) -> bool:
    """Tell whether the project was last delivered into the folder where it lies."""
    folder = line.document.delivered_to
    return bool(folder) and Path(folder).resolve() == path.parent.resolve()


def _folder(parsed: argparse.Namespace, line: Pipeline, path: Path) -> Path:
    """Return the folder to deliver to."""
    folder = parsed.out or line.document.delivered_to
    if folder and not parsed.out and not Path(folder).resolve().is_relative_to(path.parent.resolve()):
        raise UsageError(
            f"the project was delivered to {folder}, outside its own folder.",
            file=str(path),
            hint="Name the folder with --out, since a project must not decide where files are written.",
        )
    if not folder:
        raise UsageError("the project has not been delivered yet.", file=str(path), hint="Add --out DIR.")
    return Path(folder)


def _with_map(line: Pipeline, names: list[str], wanted: str) -> list[str]:
    """Return the bundles that are to have a map."""
    document = line.document
    bundles = [document.bundle(name) for name in names]
    results = [bundle.name for bundle in bundles if wanted in wanted_maps(document.scene, bundle).maps]
    if not results:
        raise UsageError(
            f"no bundle has a map {wanted}.", hint="Name one of the bundle's maps, or add this one to them."
        )
    return results


def _check(parsed: argparse.Namespace, store: PixelStore, progress: Progress) -> int:
    if parsed.against is not None:
        return _check_against(parsed, store, progress)
    findings: list[Finding] = []
    reports = []
    for number, file in enumerate(parsed.files):
        part = progress.part(number / len(parsed.files), (number + 1) / len(parsed.files))
        if Path(file).suffix.lower() == ".fasc":
            line = Pipeline(open_project(Path(file), store, progress=part.part(0, 0.3)), store, part)
            if parsed.budget is not None:
                line.document = replace(line.document, budget=parsed.budget)
            line.check([bundle.name for bundle in line.document.bundles])
            report, noticed = line.report()
        else:
            report, noticed = inspect_delivered(file, store, budget=parsed.budget or Budget(), progress=part)
        reports.append(report)
        findings += noticed
    whole = reports[0] if len(reports) == 1 else {"version": 1, "reports": reports}
    _print(whole, parsed.json, "\n\n".join(report_words(report) for report in reports))
    return _code(findings)


def _check_against(parsed: argparse.Namespace, store: PixelStore, progress: Progress) -> int:
    """Compare a delivered model with an earlier one, and judge it by a budget."""
    if len(parsed.files) != 1:
        raise UsageError("--against compares one delivery with another.", hint="Name one model before --against.")
    (new,) = parsed.files
    compared = compare_files(new, parsed.against, store, progress=progress.part(0.0, 0.7))
    # what the inspection cannot tell from one file alone
    values = {"match_db": min(compared.matches.values(), default=math.inf)}
    report, findings = inspect_delivered(
        new, store, budget=parsed.budget or Budget(), known=values, progress=progress.part(0.7, 1.0)
    )
    report["against"] = compared.entry
    _print(report, parsed.json, compared_words(new, parsed.against, report))
    return _code(findings)
