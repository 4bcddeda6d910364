"""What the command line takes. Options of settings come from where the settings are declared."""

from __future__ import annotations

import argparse
import math
import re
from collections.abc import Callable, Iterable
from dataclasses import fields
from pathlib import Path
from typing import NoReturn, TypeVar

from fasciculum import __version__
from fasciculum.cli.options import add_settings, between
from fasciculum.errors import UsageError
from fasciculum.io.formats.table import WRITTEN_FORMATS
from fasciculum.logs import LEVELS
from fasciculum.memory import bytes_of
from fasciculum.model.bake_settings import BakeSettings
from fasciculum.model.budget import Budget, read_budget
from fasciculum.model.choices import Combine, FlatColorPolicy, PairBy, Repeats, Rule, Share, Stage
from fasciculum.model.delivery import BUILT_IN, DeliverySettings
from fasciculum.model.lighting import Sky, SkyKind
from fasciculum.model.map_overrides import known_kind, read_channels, read_wish
from fasciculum.model.maps import AUTO, KINDS
from fasciculum.model.sheet import LEAST_EDGE, MOST_EDGE, SheetSettings
from fasciculum.model.terms import MOST_SHEETS
from fasciculum.model.unwrapping import PRESETS, UnwrapSettings
from fasciculum.operations.plan.plan import NAMES

Value = TypeVar("Value")
#: shells that are completed in
SHELLS = ("bash", "zsh", "fish")
#: a sheet's size that follows from the sharpness to keep
AUTO_SIZE = (0, 0)
COMMANDS = ("open", "demo", "inspect", "plan", "make", "run", "batch", "completion", "desktop", "check", "find")
#: what stands for taking no plan, and the options that say what a plan would decide: with any of them none is taken
NO_PLAN = "none"
INSTEAD_OF_A_PLAN = ("--bundle", "--size", "--repeats", "--pieces", "--onto", "--palette")


def _size_or_auto(text: str) -> tuple[int, int]:
    return AUTO_SIZE if text == AUTO else _size(text)


def _size(text: str) -> tuple[int, int]:
    match = re.fullmatch(r"(\d+)(?:[xX](\d+))?", text)
    if not match:
        raise argparse.ArgumentTypeError(f"{text!r} is not a size; write 2048 or 2048x1024")
    width = int(match[1])
    height = int(match[2] or width)
    if not (LEAST_EDGE <= width <= MOST_EDGE and LEAST_EDGE <= height <= MOST_EDGE):
        raise argparse.ArgumentTypeError(f"a sheet has {LEAST_EDGE} to {MOST_EDGE} px along an edge")
    return width, height


def known_map(name: str) -> str:
    """Return the name of a map, refusing one that is not known with the nearest names."""
    try:
        return known_kind(name).name
    except UsageError as error:
        raise argparse.ArgumentTypeError(f"{error.message} {error.hint}") from error


def _maps(text: str) -> tuple[str, ...]:
    names = [name.strip() for name in text.split(",") if name.strip()]
    if names == [AUTO]:
        return ()
    return tuple(dict.fromkeys(name if name == AUTO else known_map(name) for name in names))


def _sensible(read: Callable[[str], object]) -> Callable[[str], str]:
    """Return what passes a text on that makes sense to a reader, and refuses it else."""
    return _read_by(lambda text: (read(text), text)[1])


def _read_by(read: Callable[[str], Value]) -> Callable[[str], Value]:
    """Return what reads a value, and refuses what the reader refuses."""

    def parse(text: str) -> Value:
        try:
            return read(text)
        except UsageError as error:
            raise argparse.ArgumentTypeError(f"{error.message} {error.hint}") from error

    return parse


def _words(choices: Iterable[str]) -> dict[str, object]:
    """Return the keywords of an option whose values are words."""
    names = [str(choice) for choice in choices]
    return {"choices": names, "metavar": "{" + ",".join(names) + "}"}


def _add_allow(command: argparse.ArgumentParser) -> None:
    command.add_argument(
        "--allow",
        action="append",
        default=[],
        metavar="DIR",
        help="one more folder that models may refer to and that is searched for missing files",
    )


def _add_terms(command: argparse.ArgumentParser) -> None:
    command.add_argument(
        "--yield",
        dest="sharpness",
        type=between(0.05, 1, float),
        default=0.9,
        metavar="0.9",
        help="share of the source's sharpness that nine tenths of the surface keep (default: 0.9)",
    )
    command.add_argument(
        "--max-size",
        dest="largest",
        type=between(LEAST_EDGE, MOST_EDGE),
        default=4096,
        metavar="PX",
        help="edge of the largest sheet (default: 4096)",
    )
    command.add_argument(
        "--share",
        default=str(Share.AUTO),
        help="whether islands that read overlapping parts of a texture share one place on the sheet (default: auto: "
        "where that takes less)",
        **_words(Share),  # type: ignore[arg-type]
    )
    command.add_argument(
        "--sheets",
        type=_number_or_auto,
        default=0,
        metavar="auto|N",
        help="over how many sheets plans divide the objects of each alpha mode (default: auto: as many as pays)",
    )


def _size_of_memory(text: str) -> str:
    """Read a size of memory and refuse what is none."""
    try:
        bytes_of(text)
    except UsageError as error:
        raise argparse.ArgumentTypeError(f"{error.message} {error.hint}") from error
    return text


def _number_or_auto(text: str) -> int:
    """Read a number of sheets, 0 for auto."""
    return 0 if text == AUTO else between(1, MOST_SHEETS)(text)


def _reach(text: str) -> tuple[float, float]:
    """Read a reach: auto, or metres outwards and, behind a comma, inwards."""
    if text == AUTO:
        return 0.0, 0.0
    try:
        values = [float(part) for part in text.split(",")]
    except ValueError as error:
        raise argparse.ArgumentTypeError(f"{text!r} is not a ray distance; write auto, 0.05 or 0.05,0.02") from error
    if len(values) > 2 or not all(0 < value <= 1e6 for value in values):
        raise argparse.ArgumentTypeError(f"{text!r} is not a ray distance; write one or two lengths in metres above 0")
    return values[0], values[-1]


def _add_high(make: argparse.ArgumentParser) -> None:
    make.add_argument(
        "--high",
        nargs="+",
        action="extend",
        default=[],
        metavar="MODEL",
        help="detailed models whose surface is baked into the others; they are not delivered",
    )
    make.add_argument(
        "--pair-by",
        default=str(PairBy.NAME),
        metavar="name|nearest|none|FILE.json",
        help="how high-poly objects are paired with low-poly ones: by name, by the nearest surface, not at "
        'all, or by a file of {"low name": ["high name", ...]} (default: name)',
    )
    for which in ("low", "high"):
        make.add_argument(
            f"--{which}-suffix",
            default="",
            metavar="TEXT",
            help=f"what names of {which}-poly objects end in, beside the usual endings",
        )
    make.add_argument(
        "--reach",
        type=_reach,
        default=(0.0, 0.0),
        metavar="auto|OUT[,IN]",
        help="how far along the smoothed normal rays look for the high-poly surface, in metres (default: "
        "auto, the distance between both surfaces)",
    )
    make.add_argument(
        "--cage",
        default="",
        metavar="MODEL",
        help="an inflated copy of the low-poly model with the same triangles; rays start from it",
    )


def _number_list(text: str, counts: tuple[int, ...], what: str) -> tuple[float, ...]:
    """Read numbers with commas between them, as many as one of the counts says."""
    try:
        values = tuple(float(part) for part in text.split(","))
    except ValueError as error:
        raise argparse.ArgumentTypeError(f"{text!r} is no {what}") from error
    if len(values) not in counts or not all(math.isfinite(value) for value in values):
        raise argparse.ArgumentTypeError(f"{text!r} is no {what}")
    return values


def _sky(text: str) -> Sky:
    """Read a sky: none, a colour in nits, or the name of a picture."""
    if text == SkyKind.NONE:
        return Sky(SkyKind.NONE)
    if text == AUTO:
        return Sky()
    if Path(text).suffix.lower() in (".hdr", ".exr"):
        return Sky(SkyKind.PICTURE, picture=text)
    red, green, blue = _number_list(text, (3,), "sky; write none, R,G,B or FILE.hdr or .exr")
    if min(red, green, blue) < 0:
        raise argparse.ArgumentTypeError(f"{text!r} is not a sky; its parts are 0 or more")
    return Sky(SkyKind.PLAIN, color=(red, green, blue))


def _sun(text: str) -> tuple[float, float, float]:
    azimuth, elevation, lux = _number_list(text, (3,), "sun; write AZIMUTH,ELEVATION,LUX")
    if lux < 0 or not -90 <= elevation <= 90:
        raise argparse.ArgumentTypeError(f"{text!r} is not a sun; lux are 0 or more, elevation is -90 to 90 degrees")
    return azimuth, elevation, lux


def _add_light(make: argparse.ArgumentParser) -> None:
    make.add_argument(
        "--sky",
        type=_sky,
        default=Sky(),
        metavar="none|R,G,B|FILE.hdr|FILE.exr",
        help="the sky's light, in nits; a picture is equirectangular, its middle column is north (default: "
        "white if there are no other lights, else none)",
    )
    make.add_argument(
        "--sky-strength",
        type=between(0, 1e9, float),
        default=1.0,
        metavar="N",
        help="factor on the sky's light (default: 1)",
    )
    make.add_argument(
        "--sun",
        type=_sun,
        action="append",
        default=[],
        metavar="AZIMUTH,ELEVATION,LUX",
        help="a sun: degrees clockwise from north (-Z), degrees above the horizon, lux; repeat for more",
    )
    make.add_argument(
        "--light-size",
        type=_size,
        default=None,
        metavar="512|WxH",
        help="width and height of the lightmap in px (default: 512)",
    )


def _add_given(make: argparse.ArgumentParser) -> None:
    make.add_argument(
        "--layers",
        default="",
        metavar="FILE.json",
        help="textures and colours laid over the objects' materials, projected and masked",
    )
    given = make.add_mutually_exclusive_group()
    given.add_argument(
        "--onto",
        default="",
        metavar="SHEET.json",
        help="an existing trim sheet: islands are placed on its trims, nothing is baked",
    )
    given.add_argument(
        "--palette",
        default="",
        metavar="FILE.png|auto",
        help="an existing picture of coloured cells, or one made of the scene's flat colours: each face goes "
        "to the cell nearest to its colour, nothing is baked",
    )
    make.add_argument(
        "--cells",
        default="",
        metavar="COLUMNSxROWS",
        help="how many cells the palette has, if they are not detected",
    )
    make.add_argument(
        "--split",
        action="store_true",
        help="cut islands that are longer than their trim along existing edges, instead of scaling them down",
    )


def _add_make(make: argparse.ArgumentParser) -> None:
    make.add_argument("models", nargs="+", metavar="MODEL")
    make.add_argument("--out", required=True, metavar="DIR")
    make.add_argument(
        "--bundle",
        default=None,
        help="how objects are put into bundles: all in one, each by itself, by alpha mode, or by alpha mode "
        "and cost (default: as --plan says, else auto)",
        **_words(Rule),  # type: ignore[arg-type]
    )
    make.add_argument(
        "--size",
        type=_size_or_auto,
        default=None,
        metavar="2048|WxH|auto",
        help="width and height of a sheet in px; auto is the smallest that keeps --yield, up to --max-size "
        "(default: as --plan says, else 2048)",
    )
    make.add_argument(
        "--plan",
        default=None,
        metavar="NAME",
        help="what goes together, the way of each material and the sizes as a plan says: "
        f"{', '.join(NAMES)}; `fasciculum plan` shows them; {NO_PLAN}: a bundle for each alpha mode (default: "
        f"{NAMES[0]}, unless one of {', '.join(INSTEAD_OF_A_PLAN)} is given)",
    )
    _add_terms(make)
    make.add_argument(
        "--repeats",
        default=None,
        help="what is done with textures that repeat: baked, on a lane across the sheet, kept apart, cut at the "
        "repeats, or in slices of a texture array (default: auto, which bakes, or does what --plan says)",
        **_words(Repeats),  # type: ignore[arg-type]
    )
    make.add_argument(
        "--most-repeats",
        type=between(1, 1e6, float),
        default=None,
        metavar="N",
        help="textures that repeat more often than this are not baked in by auto",
    )
    make.add_argument(
        "--flats",
        default=str(FlatColorPolicy.AUTO),
        help="whether surfaces of one colour are put on swatches (default: auto: yes if no map is computed)",
        **_words(FlatColorPolicy),  # type: ignore[arg-type]
    )
    add_settings(make, SheetSettings)
    make.add_argument(
        "--shapes",
        default="balanced",
        help="preset for unwrapping: hard shapes, soft shapes, or both; the options below change single "
        "settings (default: balanced)",
        **_words(PRESETS),  # type: ignore[arg-type]
    )
    add_settings(make, UnwrapSettings)
    make.add_argument(
        "--maps",
        type=_maps,
        default=(),
        metavar="auto|NAMES",
        help=f"maps to bake, with commas between them, of {', '.join(KINDS)} (default: automatic, as materials need)",
    )
    make.add_argument(
        "--map",
        type=_sensible(read_wish),
        action="append",
        default=[],
        metavar="NAME:KEY=VALUE,...",
        help="settings of one map that differ from the bundle's: size (px, WxH or 1/2, 1/4 of the sheet), "
        "bits, format, samples, bleed, pattern, toksvig=yes, and block (bc1, bc3, bc4, bc5, bc7, astc4x4, astc6x6, "
        "astc8x8, etc2, none); repeat for more maps",
    )
    make.add_argument(
        "--channels",
        type=_sensible(read_channels),
        action="append",
        default=[],
        metavar="FILE=R[,G[,B[,A]]]",
        help="a texture packed of channels: a map's name, MAP.r, g, b or a, 1-MAP for inverted, or a number "
        "from 0 to 1; repeat for more files",
    )
    add_settings(make, BakeSettings)
    _add_high(make)
    _add_light(make)
    _add_given(make)
    make.add_argument(
        "--delivery",
        default=None,
        metavar="NAME",
        help="naming, packing and normal direction: " + ", ".join(settings.title for settings in BUILT_IN),
    )
    for entry in WRITTEN_FORMATS:
        make.add_argument(
            f"--{entry.name}", action="store_true", help=f"write NAME{entry.suffix}; several may be asked for"
        )
    add_settings(make, DeliverySettings)
    _add_budget(make)
    _add_allow(make)
    make.add_argument(
        "--watch",
        action="store_true",
        help="do it again whenever a source changes (after one quiet second), until Ctrl+C",
    )
    make.add_argument("--json", action="store_true")


def _add_budget(command: argparse.ArgumentParser) -> None:
    names = ", ".join(field.name for field in fields(Budget))
    command.add_argument(
        "--budget",
        type=_read_by(read_budget),
        default=None,
        metavar="NAME=LIMIT,...",
        help=f"limits that the result keeps, of {names}; one that is exceeded is a finding of severity error",
    )


def _add_farm(command: argparse.ArgumentParser) -> None:
    command.add_argument(
        "--farm",
        default="",
        metavar="local:N|tcp://HOST:PORT",
        help="run jobs, or the bundles of a few jobs, in N local processes or on the workers of a Dask scheduler",
    )


class WrongUsage(SystemExit):
    """Leaves for a command line that makes no sense, and knows why."""

    def __init__(self, code: int | str | None, message: str) -> None:
        super().__init__(code)
        self.message = message


class Parser(argparse.ArgumentParser):
    """Leaves with what is wrong, for whoever tells it in another way too."""

    def error(self, message: str) -> NoReturn:
        """Tell what is wrong and leave."""
        try:
            super().error(message)
        except SystemExit as ended:
            raise WrongUsage(ended.code, message) from None


def _add_logging(to: argparse.ArgumentParser, **defaults: object) -> None:
    to.add_argument(
        "--profile",
        default=defaults["profile"],
        metavar="FILE.json",
        help="write where the time went, in the trace event format that trace viewers read",
    )
    to.add_argument(
        "-v", "--verbose", action="store_true", default=defaults["verbose"], help="log what is done to standard error"
    )
    to.add_argument(
        "--log-level",
        default=defaults["log_level"],
        help="log records of this level and above; the log file always has info and above",
        **_words(LEVELS),  # type: ignore[arg-type]
    )


def parser(kind: type[argparse.ArgumentParser] = Parser) -> argparse.ArgumentParser:
    """Return the command line's parser, of a kind that says what happens when something is wrong."""
    # no abbreviations: an option that comes later must not change what a script means
    plain = {"allow_abbrev": False}
    top = kind(prog="fasciculum", description="Many objects in, one texture set out.", **plain)  # type: ignore[arg-type]
    top.add_argument("--version", action="version", version=f"fasciculum {__version__}")
    _add_logging(top, verbose=False, log_level="", profile="")
    commands = top.add_subparsers(dest="command", metavar="COMMAND")

    def command(name: str, words: str) -> argparse.ArgumentParser:
        made = commands.add_parser(name, help=words, description=words, allow_abbrev=False)
        # behind the command as well as before it; what is said before holds unless it is said again
        _add_logging(made, verbose=argparse.SUPPRESS, log_level=argparse.SUPPRESS, profile=argparse.SUPPRESS)
        return made

    def add_memory(to: argparse.ArgumentParser) -> None:
        to.add_argument(
            "--memory",
            type=_size_of_memory,
            default=None,
            metavar="4GiB",
            help="what all processes of the command together may hold (default: half of the memory that is free)",
        )

    opened = command("open", "open the window")
    opened.add_argument("files", nargs="*", metavar="PROJECT | MODEL")
    demo = command("demo", "open the window on the demo station, or run it without a window")
    demo.add_argument("--headless", action="store_true")
    demo.add_argument("--out", default=None, metavar="DIR")
    demo.add_argument("--size", type=_size, default=None, help="of every sheet; what the balanced plan says without")
    inspect = command("inspect", "show what model files contain")
    inspect.add_argument("models", nargs="+", metavar="MODEL")
    _add_allow(inspect)
    add_memory(inspect)
    inspect.add_argument("--json", action="store_true")
    plan = command("plan", "compare plans for models and their costs; writes nothing")
    plan.add_argument("models", nargs="+", metavar="MODEL")
    plan.add_argument("--combine", default=str(Combine.NONE), **_words(Combine))  # type: ignore[arg-type]
    plan.add_argument("--region", type=between(0, 1e6, float), default=0.0, metavar="METRES")
    _add_terms(plan)
    _add_allow(plan)
    add_memory(plan)
    plan.add_argument("--json", action="store_true")
    make = command("make", "gather, bundle, lay out, bake, check and deliver in one pass")
    add_memory(make)
    _add_make(make)
    run = command("run", "redo what is stale in a project, or one stage of it")
    run.add_argument("project", metavar="PROJECT")
    run.add_argument("--bundle", default=None, metavar="NAME")
    run.add_argument(
        "--map",
        type=known_map,
        default=None,
        metavar="NAME",
        help="bake this map alone and keep the others",
    )
    run.add_argument(
        "--bake",
        action="append",
        default=[],
        metavar="TITLE",
        help="run this named bake into a folder of its name, under --out or beside the project; repeat for "
        "more, or all",
    )
    run.add_argument("--stage", default=None, **_words(Stage))  # type: ignore[arg-type]
    run.add_argument("--out", default=None, metavar="DIR")
    run.add_argument(
        "--delivery", default=None, metavar="NAME", help="use this delivery preset, built in or of the project"
    )
    _add_budget(run)
    add_memory(run)
    run.add_argument("--json", action="store_true")
    batch = command("batch", "do all jobs of a batch list")
    batch.add_argument("jobs", metavar="JOBS.toml")
    _add_farm(batch)
    batch.add_argument("--stop-at-first", action="store_true", help="stop when a job fails")
    batch.add_argument(
        "--dry-run", action="store_true", help="show what would be done and what it would cost; writes nothing"
    )
    add_memory(batch)
    batch.add_argument("--json", action="store_true")
    completion = command("completion", "print the shell script that completes commands and options")
    completion.add_argument("shell", **_words(SHELLS))  # type: ignore[arg-type]
    desktop = command("desktop", "add Fasciculum to the desktop's menu, with icon, file type and manual page")
    desktop.add_argument("--install", action="store_true", help="install them for this user")
    desktop.add_argument("--remove", action="store_true", help="remove them again")
    find = command("find", "find commands, settings, maps and guide pages by any word for them")
    find.add_argument("words", nargs="+", metavar="WORD")
    find.add_argument("--json", action="store_true")
    check = command("check", "show the findings and figures of a project or of delivered files")
    check.add_argument("files", nargs="+", metavar="PROJECT | MODEL")
    check.add_argument(
        "--against",
        default=None,
        metavar="OLD.glb",
        help="compare a delivered model with an earlier delivery: costs, objects, and how well they match",
    )
    _add_budget(check)
    check.add_argument("--json", action="store_true")
    return top
