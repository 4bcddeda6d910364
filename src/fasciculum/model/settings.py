"""What a setting is: everything that is said of one, declared once, together with the field that holds its value.

From these declarations follow the limits of project files, the options of the command line, the rows of panels, what
can be found by name, the rules that a layout was made by, and the options' table in the documentation.
"""

from __future__ import annotations

import dataclasses
import typing
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from functools import lru_cache
from types import NoneType, UnionType
from typing import Any, TypeVar

from fasciculum.model.choices import Choice

Value = TypeVar("Value")


class Stales(Choice):
    """What is out of date once a setting has changed."""

    NOTHING = "nothing"
    LAYOUT = "layout"
    MAPS = "maps"
    DELIVERY = "delivery"


@dataclass(frozen=True)
class Setting:
    """One setting.

    Attributes
    ----------
    label, tip : str
        What it is called in the window and in the search; what it does, in which unit, and when to change it.
    fold : str
        The fold that it stands in.
    stales : Stales
    unit : str
        Behind the number, such as ``px``; a part of 1 is shown as ``%``.
    low, high : float
        The least and the greatest value of a number.
    step : float
        By which the window's arrows change it.
    decimals : int
        Digits behind the point in the window.
    words : mapping
        For each value that can be chosen its words in the window, in order; for a number, those that are offered.
    only : bool
        Whether a number may have no value but those of ``words``.
    slide : bool
        Whether the window shows a slider.
    unset : str
        What stands in the window for the value that means it is not set: None, or else the least one.
    option : str
        Its option on the command line, empty when it has none there.
    line : str
        What the option's value is called in the help, when not by its choices; the word for None before a bar.
    once : object
        The default of a single unattended pass where that is another, or None.
    when : callable
        Whether it has any effect, by the settings that hold it.
    counts : callable, optional
        What a layout's rules hold of it, by the settings that hold it, as a tuple of nothing or one value.
    first : bool
        Whether layouts have always been told by it. A later setting counts only where it is not at its default, so
        that layouts that were made before it came stay in order.
    """

    label: str
    tip: str
    fold: str = ""
    stales: Stales = Stales.NOTHING
    unit: str = ""
    low: float | None = None
    high: float | None = None
    step: float = 1.0
    decimals: int = 0
    words: Mapping[Any, str] = field(default_factory=dict)
    only: bool = False
    slide: bool = False
    unset: str = ""
    option: str = ""
    line: str = ""
    once: Any = None
    when: Callable[[Any], bool] = lambda _: True
    counts: Callable[[Any], tuple[Any, ...]] | None = None
    first: bool = False


@dataclass(frozen=True)
class Declared:
    """A setting with the field that holds it: its name, its plain type, and its default."""

    name: str
    type: Any
    optional: bool
    default: Any
    setting: Setting

    @property
    def choices(self) -> tuple[Any, ...]:
        """What alone can be chosen, empty when it is a free number, a switch or a text."""
        if isinstance(self.type, type) and issubclass(self.type, Choice):
            return tuple(self.type)
        return tuple(self.setting.words) if self.setting.only else ()

    def allows(self, value: Any) -> bool:
        """Tell whether a value of the right type is one that the setting may have."""
        if value is None:
            return self.optional
        if self.choices:
            return value in self.choices
        low, high = self.setting.low, self.setting.high
        return not (low is not None and value < low) and not (high is not None and value > high)


def setting(default: Value, label: str, tip: str, **more: Any) -> Value:
    """Return a data class's field with what is said of it; parameters are those of `Setting`."""
    told = Setting(label, tip, **more)
    result: Value = field(default=default, metadata={"setting": told})
    return result


def settings_of(holder: type) -> tuple[Declared, ...]:
    """Return all settings that a data class declares, in order."""
    return _settings_of(holder)  # type: ignore[arg-type]


@lru_cache(maxsize=64)
def _settings_of(holder: type) -> tuple[Declared, ...]:
    kinds = typing.get_type_hints(holder)
    results = []
    for entry in dataclasses.fields(holder):
        told = entry.metadata.get("setting")
        if told is not None:
            kind, optional = _plain(kinds[entry.name])
            results.append(Declared(entry.name, kind, optional, entry.default, told))
    return tuple(results)


def _plain(kind: Any) -> tuple[Any, bool]:
    """Return a type without None, and whether None was among it."""
    if typing.get_origin(kind) in (typing.Union, UnionType):
        parts = [part for part in typing.get_args(kind) if part is not NoneType]
        return parts[0], len(parts) < len(typing.get_args(kind))
    return kind, False


def declared(holder: type, name: str) -> Declared:
    """Return one setting of a data class; `KeyError` when there is none of that name."""
    for entry in settings_of(holder):
        if entry.name == name:
            return entry
    raise KeyError(name)


def words_of(settings: Any, name: str) -> str:
    """Return what the window calls the value that a setting has."""
    value = getattr(settings, name)
    result: str = declared(type(settings), name).setting.words.get(value, str(value))
    return result


def rules_of(settings: Any) -> Iterator[Any]:
    """Yield what a layout's rules hold of settings, in the order in which they are declared.

    What holds settings in its turn is left to the caller.
    """
    for entry in settings_of(type(settings)):
        told = entry.setting
        if told.stales is not Stales.LAYOUT:
            continue
        value = getattr(settings, entry.name)
        if told.counts is not None:
            yield from told.counts(settings)
        elif told.first:
            yield value
        elif value != entry.default:
            yield entry.name, value
