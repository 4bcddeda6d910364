"""Settings as options of the command line, and back: one option for each setting that has one."""

from __future__ import annotations

import argparse
from collections.abc import Callable
from dataclasses import replace
from typing import Any, TypeVar

from fasciculum.model.settings import Declared, settings_of

Holder = TypeVar("Holder")


def between(low: float | None, high: float | None, kind: Callable[[str], Any] = int) -> Callable[[str], Any]:
    """Return what reads a number of a kind and refuses it beyond the limits."""

    def parse(text: str) -> Any:
        try:
            value = kind(text)
        except ValueError as error:
            raise argparse.ArgumentTypeError(f"{text!r} is not a number") from error
        # written so that what is no number at all fails too
        if not ((low is None or value >= low) and (high is None or value <= high)):
            raise argparse.ArgumentTypeError(f"{text} is not between {low:g} and {high:g}")
        return value

    return parse


def _destination(holder: type, entry: Declared) -> str:
    return f"{holder.__name__}.{entry.name}"


def _default(entry: Declared) -> str:
    value = entry.default if entry.setting.once is None else entry.setting.once
    if value is None or (entry.setting.unset and value == entry.setting.low):
        return entry.setting.unset
    if isinstance(value, bool):
        return "on" if value else "off"
    return f"{value:g}" if isinstance(value, float) else str(value)


def add_settings(parser: argparse.ArgumentParser, holder: type) -> None:
    """Add an option for each setting of a data class that has one."""
    for entry in settings_of(holder):
        told = entry.setting
        if not told.option:
            continue
        words = f"{told.tip} (default: {_default(entry)})".replace("%", "%%")
        more: dict[str, Any] = {"dest": _destination(holder, entry), "default": None, "help": words}
        if entry.type is bool:
            more["action"] = argparse.BooleanOptionalAction if entry.default else "store_true"
        elif entry.choices:
            kind = type(entry.choices[0]) if isinstance(entry.choices[0], int) else str
            more |= {"choices": entry.choices, "type": kind}
            more["metavar"] = "{" + ",".join(map(str, entry.choices)) + "}"
        elif entry.type is str:
            more["metavar"] = told.line or entry.name.upper()
        else:
            more["type"] = _number(entry)
            more["metavar"] = told.line or told.unit.upper().replace("/", "_PER_").replace("°", "DEGREES") or "N"
        parser.add_argument(told.option, **more)


def _number(entry: Declared) -> Callable[[str], Any]:
    """Return what reads a number; the word for its not being set stands before a bar in what the help calls it."""
    parse = between(entry.setting.low, entry.setting.high, entry.type)
    word, bar, _ = entry.setting.line.partition("|")
    return (lambda text: None if text == word else parse(text)) if bar else parse


def with_options(parsed: argparse.Namespace, settings: Holder, *, once: bool = False) -> Holder:
    """Return settings with what was asked for by options.

    Parameters
    ----------
    once : bool
        Where no option was given, take the default of a single unattended pass.
    """
    holder = type(settings)
    values: dict[str, Any] = {}
    for entry in settings_of(holder):
        given = getattr(parsed, _destination(holder, entry), None)
        if given is not None:
            values[entry.name] = entry.type(given) if entry.choices else given
        elif once and entry.setting.once is not None:
            values[entry.name] = entry.setting.once
    return replace(settings, **values)  # type: ignore[type-var]
