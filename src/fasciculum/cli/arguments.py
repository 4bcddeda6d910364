"""What the command line takes. Options whose feature is yet to come are refused with a word, never ignored."""

from __future__ import annotations

import argparse
import re
from collections.abc import Callable
from typing import Any

from fasciculum import __version__
from fasciculum.model.bundle import EDGES
from fasciculum.model.document import MODEL_KINDS
from fasciculum.model.unwrapping import PRESETS
from fasciculum.operations.deliver.conventions import BUILT_IN

LATER = {
    "high": "baking from high-poly models is not built yet.",
    "pair_by": "baking from high-poly models is not built yet.",
}
LATER_MAPS = {
    "ao",
    "object_id",
    "material_id",
    "lit",
    "light",
    "roughness",
    "metallic",
    "occlusion",
    "opacity",
}
MAPS = ("base_color", "normal", "orm", "emissive")


def _size(text: str) -> tuple[int, int]:
    match = re.fullmatch(r"(\d+)(?:[xX](\d+))?", text)
    if not match:
        raise argparse.ArgumentTypeError(f"{text!r} is no size; write 2048 or 2048x1024")
    width = int(match[1])
    height = int(match[2] or width)
    if not (16 <= width <= 16384 and 16 <= height <= 16384):
        raise argparse.ArgumentTypeError("a sheet has 16 to 16384 px along an edge")
    return width, height


def _between(low: float, high: float, kind: Callable[[str], Any] = int) -> Callable[[str], Any]:
    def parse(text: str) -> Any:
        try:
            value = kind(text)
        except ValueError as error:
            raise argparse.ArgumentTypeError(f"{text!r} is no number") from error
        if not low <= value <= high:
            raise argparse.ArgumentTypeError(f"{text} is not between {low:g} and {high:g}")
        return value

    return parse


def _maps(text: str) -> tuple[str, ...]:
    if text == "auto":
        return ()
    names = tuple(name.strip() for name in text.split(",") if name.strip())
    for name in names:
        if name in LATER_MAPS:
            raise argparse.ArgumentTypeError(f"the map {name} is not built yet; these are: {', '.join(MAPS)}")
        if name not in MAPS:
            raise argparse.ArgumentTypeError(f"there is no map {name!r}; these are: {', '.join(MAPS)}")
    return names


def _bleed(text: str) -> int | None:
    return None if text == "full" else int(_between(0, 16384)(text))


def _add_allow(command: argparse.ArgumentParser) -> None:
    command.add_argument(
        "--allow",
        action="append",
        default=[],
        metavar="DIR",
        help="a folder beside the models' own that they may refer into, and that missing files are looked for in",
    )


def _add_make(commands: argparse._SubParsersAction) -> None:
    make = commands.add_parser("make", help="gather, bundle, lay out, bake, check and deliver in one pass")
    make.add_argument("models", nargs="+", metavar="MODEL")
    make.add_argument("--out", required=True, metavar="DIR")
    make.add_argument("--name", default="", help="the delivery's name (default: the first model's)")
    make.add_argument("--bundle", choices=("one", "object", "alpha", "auto"), default="auto")
    make.add_argument("--size", type=_size, default=(2048, 2048), metavar="2048|WxH")
    make.add_argument("--padding", type=_between(0, 256), default=8, help="px between islands")
    make.add_argument(
        "--margin", type=_between(0, 256), default=None, help="px to the border (default: half the padding)"
    )
    make.add_argument("--turns", choices=("none", "half", "quarter", "eighth", "any"), default="quarter")
    make.add_argument("--mirror", action="store_true", help="let the packer mirror islands")
    make.add_argument("--density", choices=("even", "keep"), default="even")
    make.add_argument("--tiles", type=_between(1, 16), default=1, help="sheets of this size, side by side")
    make.add_argument(
        "--align", type=int, choices=(0, 1, 4), default=0, help="begin islands on multiples of so many px"
    )
    make.add_argument("--smallest", type=_between(0, 256, float), default=0.0, help="px that slivers are made long")
    make.add_argument(
        "--wanted",
        type=_between(0, 1e9, float),
        default=0.0,
        metavar="PX_PER_M",
        help="keep this density; the size follows, or the tiles with --grows tiles",
    )
    make.add_argument("--grows", choices=("size", "tiles"), default="size")
    make.add_argument("--alike", choices=("content", "shape"), default="content", help="what makes islands twins")
    make.add_argument("--uv", choices=("keep", "auto", "unwrap"), default="auto")
    make.add_argument(
        "--shapes",
        choices=tuple(PRESETS),
        default="balanced",
        help="what is unwrapped: hard shapes, soft ones, or both; the options below change single settings of it",
    )
    make.add_argument("--sharp", type=_between(1, 180, float), default=None, help="degrees from which edges are sharp")
    make.add_argument(
        "--stretch", type=_between(0, 1, float), default=None, help="L2 stretch that a chart may have beyond 1"
    )
    make.add_argument(
        "--smallest-chart",
        type=_between(0, 1, float),
        default=None,
        help="part of a connected part's surface below which charts are joined to a neighbour",
    )
    make.add_argument(
        "--fewer",
        type=_between(0, 1, float),
        default=None,
        help="0: less stretch; 1: fewer charts",
    )
    make.add_argument("--keep-seams", action="store_true", help="unwrap along the seams of the source UVs")
    make.add_argument("--twins", action=argparse.BooleanOptionalAction, default=True)
    make.add_argument("--seconds", type=_between(0, 86400, float), default=20.0, help="time for improving the layout")
    make.add_argument("--seed", type=_between(0, 2**31), default=0)
    make.add_argument("--maps", type=_maps, default=(), metavar="auto|NAMES")
    make.add_argument("--samples", type=int, choices=(1, 4, 16), default=1)
    make.add_argument("--bleed", type=_bleed, default=None, metavar="full|N")
    make.add_argument("--high", nargs="+", default=None, metavar="MODEL")
    make.add_argument("--pair-by", choices=("name", "nearest"), default=None)
    make.add_argument("--combine", choices=("none", "bundle"), default="none")
    make.add_argument("--format", choices=("png", "tga", "exr"), default="png")
    make.add_argument("--bits", type=int, choices=(8, 16), default=8)
    make.add_argument(
        "--region",
        type=_between(0, 1e9, float),
        default=0.0,
        metavar="METRES",
        help="with --combine bundle: split each joined mesh by cells of space this large",
    )
    make.add_argument(
        "--edges",
        choices=EDGES,
        default="source",
        help="normals: as they came, broken at the sheet's seams, averaged over them, or broken above --edge-angle",
    )
    make.add_argument("--edge-angle", type=_between(0, 180, float), default=40.0, help="degrees, for --edges angle")
    make.add_argument(
        "--delivery",
        default=None,
        metavar="NAME",
        help="naming, packing and normal direction: " + ", ".join(settings.title for settings in BUILT_IN),
    )
    for kind in MODEL_KINDS:
        make.add_argument(f"--{kind}", action="store_true", help=f"write NAME.{kind}; several may be asked for")
    make.add_argument(
        "--external-textures", action="store_true", help="refer to the textures instead of embedding them"
    )
    make.add_argument("--keep-source-uvs", action="store_true", help="keep the source UVs behind the sheet UVs")
    _add_allow(make)
    make.add_argument("--json", action="store_true")


def parser() -> argparse.ArgumentParser:
    """Return the command line's parser."""
    top = argparse.ArgumentParser(prog="fasciculum", description="Many objects in, one texture set out.")
    top.add_argument("--version", action="version", version=f"fasciculum {__version__}")
    commands = top.add_subparsers(dest="command", metavar="COMMAND")
    opened = commands.add_parser("open", help="open the window")
    opened.add_argument("files", nargs="*", metavar="PROJECT | MODEL")
    demo = commands.add_parser("demo", help="open the window on the demo station, or run it without a window")
    demo.add_argument("--headless", action="store_true")
    demo.add_argument("--out", default=None, metavar="DIR")
    demo.add_argument("--size", type=_size, default=(2048, 2048))
    inspect = commands.add_parser("inspect", help="tell what is in model files")
    inspect.add_argument("models", nargs="+", metavar="MODEL")
    _add_allow(inspect)
    inspect.add_argument("--json", action="store_true")
    _add_make(commands)
    run = commands.add_parser("run", help="redo what is stale in a project, or a named part of it")
    run.add_argument("project", metavar="PROJECT")
    run.add_argument("--bundle", default=None, metavar="NAME")
    run.add_argument("--map", default=None, metavar="NAME")
    run.add_argument("--stage", choices=("lay-out", "bake", "check", "deliver"), default=None)
    run.add_argument("--out", default=None, metavar="DIR")
    run.add_argument("--delivery", default=None, metavar="NAME", help="deliver as this one, built in or the project's")
    run.add_argument("--json", action="store_true")
    check = commands.add_parser("check", help="the findings and figures of a project or of delivered files")
    check.add_argument("files", nargs="+", metavar="PROJECT | MODEL")
    check.add_argument("--json", action="store_true")
    return top


def refuse_later(parsed: argparse.Namespace) -> str:
    """Return why an option cannot be honoured yet, empty when all can."""
    for name, words in LATER.items():
        value = getattr(parsed, name, None)
        if value not in (None, 1):
            return f"--{name.replace('_', '-')}: {words}"
    if parsed.format != "png":
        return f"--format: {parsed.format} is not built yet; use png."
    return ""
