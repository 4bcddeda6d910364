"""Settings in a project file: each value is judged by its own declaration, and one that cannot be is the default."""

from __future__ import annotations

import dataclasses
import typing
from collections.abc import Callable
from typing import Any, TypeVar

import msgspec

from fasciculum.model.settings import settings_of

Holder = TypeVar("Holder")


def settings_entry(settings: Any) -> dict[str, Any]:
    """Return settings as JSON holds them."""
    result: dict[str, Any] = msgspec.to_builtins(dataclasses.asdict(settings))
    return result


def read_settings(holder: type[Holder], raw: Any, tell: Callable[[str], None]) -> Holder:
    """Return settings of a data class from JSON; what is unknown is passed over, what is missing is the default.

    Parameters
    ----------
    holder : type
        A data class that declares settings; it may hold others.
    raw : object
        What the file has in their place.
    tell : callable
        Called with a sentence for each value that cannot be, in whose place the default stands.
    """
    if not isinstance(raw, dict):
        tell(f"{raw!r:.60} stands where settings should be; the defaults were taken.")
        return holder()
    known = {entry.name: entry for entry in settings_of(holder)}
    kinds = typing.get_type_hints(holder)
    values: dict[str, Any] = {}
    for field in dataclasses.fields(holder):  # type: ignore[arg-type]
        if field.name not in raw:
            continue
        given, kind = raw[field.name], kinds[field.name]
        if dataclasses.is_dataclass(kind):
            values[field.name] = read_settings(typing.cast("type[Any]", kind), given, tell)
            continue
        try:
            value = msgspec.convert(given, kind)
        except (msgspec.ValidationError, ValueError):
            value = None if given is None else ...
        entry = known.get(field.name)
        if value is ... or (entry is not None and not entry.allows(value)) or (entry is None and value is None):
            label = entry.setting.label.lower() if entry is not None else field.name
            default = entry.default if entry is not None else field.default
            tell(f"{given!r:.60} is not a value for {label} ({field.name}); {default!r} was taken instead.")
            continue
        values[field.name] = value
    return holder(**values)
