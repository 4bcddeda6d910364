"""From options by name to what one pass should do: for whoever sets them up without a command line."""

from __future__ import annotations

import argparse
import difflib
from collections.abc import Iterator, Mapping, Sequence
from functools import cache
from pathlib import Path
from typing import Any, NoReturn

from fasciculum.cli.arguments import parser
from fasciculum.errors import UsageError

#: options of ``make`` that are no options of a pass: where it goes and how it is told
LEFT_OUT = ("help", "out", "json", "watch", "farm", "memory")


class _Refusing(argparse.ArgumentParser):
    """Raises what is wrong instead of leaving."""

    def error(self, message: str) -> NoReturn:
        raise UsageError(f"{message}.", hint="`fasciculum make --help` lists the options.")


@cache
def make_parser() -> argparse.ArgumentParser:
    """Return the parser of ``make``, which raises `UsageError` for what is wrong."""
    whole = parser(_Refusing)
    (commands,) = [action for action in whole._actions if isinstance(action, argparse._SubParsersAction)]
    result: argparse.ArgumentParser = commands.choices["make"]
    return result


@cache
def make_options() -> dict[str, argparse.Action]:
    """Return the options of ``make`` by their names with underscores, less those that say where a pass goes."""
    results = {}
    for action in make_parser()._actions:
        for option in action.option_strings:
            name = option.removeprefix("--").replace("-", "_")
            if option.startswith("--") and name not in LEFT_OUT and not name.startswith("no_"):
                results[name] = action
    return results


def judge_names(names: Sequence[str], place: str = "") -> None:
    """Refuse options that are not known.

    Raises
    ------
    UsageError
        Naming the nearest ones.
    """
    known = make_options()
    for name in names:
        if name.rstrip("_") not in known:
            near = difflib.get_close_matches(name, known, 3, 0.5)
            hint = f"The nearest are: {', '.join(near)}." if near else "`fasciculum make --help` lists the options."
            raise UsageError(f"there is no option {name}.", file=place, hint=hint)


def arguments_of(options: Mapping[str, Any]) -> list[str]:
    """Return options, by their names with underscores, as the command line takes them.

    A list stands for an option that is given again, or for what has commas between; a pair of numbers for a size; a
    mapping for names with values.

    Raises
    ------
    UsageError
    """
    judge_names(list(options))
    known = make_options()
    results: list[str] = []
    for name, value in options.items():
        results += _one(known[name.rstrip("_")], name.rstrip("_"), value)
    return results


def _one(action: argparse.Action, name: str, value: Any) -> Iterator[str]:
    option = f"--{name.replace('_', '-')}"
    if value is None:
        return
    if isinstance(value, bool):
        if not value and f"--no-{option[2:]}" in action.option_strings:
            yield f"--no-{option[2:]}"
        elif value:
            yield option
        return
    if isinstance(value, str | int | float | Path):
        # beside its option, so that what begins with a dash is no option of its own
        yield f"{option}={value}"
        return
    if isinstance(value, Mapping):
        yield f"{option}={','.join(f'{key}={part}' for key, part in value.items())}"
        return
    if not isinstance(value, Sequence):
        raise UsageError(f"{value!r:.60} is not a value for {name}.", hint="Give text, a number, or a list of these.")
    if isinstance(action, argparse._AppendAction):
        repeated = value if all(isinstance(one, str) for one in value) else [",".join(map(str, one)) for one in value]
        for one in repeated:
            yield f"{option}={one}"
    elif action.nargs == "+":
        yield option
        yield from map(str, value)
    elif name in ("size", "light_size"):
        yield f"{option}={'x'.join(map(str, value))}"
    else:
        yield f"{option}={','.join(map(str, value))}"


def parsed_make(models: Sequence[str], out: str, options: Mapping[str, Any]) -> argparse.Namespace:
    """Return what ``make`` would be told with these options.

    Raises
    ------
    UsageError
    """
    # models first: options that take several would swallow them
    return make_parser().parse_args([*map(str, models), f"--out={out}", *arguments_of(options)])
