"""Data classes as JSON and back: a field is declared once, in `fasciculum.model`, and stored by its type.

A data class becomes an object of its fields, a tuple a list, a tuple of pairs that begin with a text an object, and
infinity the text ``inf``. Reading is forgiving: what cannot be read is told and left out, at the smallest part that has
a default. Types that are results of work are read whole or not at all.
"""

from __future__ import annotations

import dataclasses
import math
import struct
import typing
import zipfile
import zlib
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from functools import lru_cache
from types import NoneType, UnionType
from typing import Any, TypeVar

import msgspec

from fasciculum.errors import InputError
from fasciculum.model.settings import Declared, settings_of
from fasciculum.model.stored import FILE

Kind = TypeVar("Kind")
#: what reading a damaged part may raise
DAMAGE = (
    KeyError,
    ValueError,
    TypeError,
    AttributeError,
    OverflowError,
    OSError,
    InputError,
    zipfile.BadZipFile,
    zlib.error,
    struct.error,
)


class Unreadable(ValueError):
    """A value that its type cannot have."""


@lru_cache(maxsize=256)
def hints_of(kind: Any) -> dict[str, Any]:
    """Return the types of a data class's fields, with their annotations."""
    return typing.get_type_hints(kind, include_extras=True)


@lru_cache(maxsize=256)
def _settings(kind: Any) -> dict[str, Declared]:
    return {entry.name: entry for entry in settings_of(kind)}


def _is_pairs(kind: Any) -> bool:
    """Whether a type is a tuple of any number of pairs that begin with a text."""
    arguments = typing.get_args(kind)
    if typing.get_origin(kind) is not tuple or len(arguments) != 2 or arguments[1] is not ...:
        return False
    pair = typing.get_args(arguments[0])
    return typing.get_origin(arguments[0]) is tuple and len(pair) == 2 and _plain(pair[0]) is str and pair[1] is not ...


def _plain(kind: Any) -> Any:
    return typing.get_args(kind)[0] if typing.get_origin(kind) is typing.Annotated else kind


def _is_file(kind: Any) -> bool:
    return typing.get_origin(kind) is typing.Annotated and FILE in typing.get_args(kind)[1:]


def _options(kind: Any) -> tuple[Any, ...]:
    """Return the parts of a union, or the type alone."""
    return typing.get_args(kind) if typing.get_origin(kind) in (typing.Union, UnionType) else (kind,)


class Encoder:
    """Turns values into what JSON holds.

    Parameters
    ----------
    file : callable
        Returns a file's path as it is stored.
    special : mapping
        For types that are not stored by their fields alone a function from a value to what JSON holds.
    """

    def __init__(
        self,
        file: Callable[[str], str] = str,
        special: Mapping[type, Callable[[Any], Any]] | None = None,
    ) -> None:
        self._file, self._special = file, special or {}

    def encode(self, value: Any, kind: Any) -> Any:
        """Return a value of a type as JSON holds it."""
        if value is None:
            return None
        if type(value) in self._special:
            return self._special[type(value)](value)
        if dataclasses.is_dataclass(value):
            return self.fields(value)
        if isinstance(value, float):
            return value if math.isfinite(value) else None if math.isnan(value) else str(value)
        if _is_file(kind):
            return self._file(value) if value else ""
        if isinstance(value, tuple):
            return self._tuple(value, kind)
        return msgspec.to_builtins(value)

    def _tuple(self, value: tuple[Any, ...], kind: Any) -> Any:
        kind = next((part for part in _options(kind) if typing.get_origin(part) is tuple), tuple[Any, ...])
        arguments = typing.get_args(kind)
        many = len(arguments) == 2 and arguments[1] is ...
        if _is_pairs(kind):
            first, second = typing.get_args(arguments[0])
            pairs = [(self.encode(one, first), self.encode(two, second)) for one, two in value]
            return dict(pairs) if len({name for name, _ in pairs}) == len(pairs) else [list(pair) for pair in pairs]
        parts = (arguments[0],) * len(value) if many else arguments
        return [self.encode(part, one) for part, one in zip(value, parts, strict=True)]

    def fields(self, value: Any, *, without: typing.Container[str] = ()) -> dict[str, Any]:
        """Return the fields of a data class by name."""
        kind: Any = type(value)
        hints = hints_of(kind)
        return {
            field.name: self.encode(getattr(value, field.name), hints[field.name])
            for field in dataclasses.fields(value)
            if field.name not in without
        }


class Decoder:
    """Turns what JSON holds into values.

    Parameters
    ----------
    tell : callable
        Called with a sentence for each part that was left out, the name of what it belongs to, and whether it is
        damaged rather than unknown.
    file : callable
        Returns a file's path from how it is stored.
    special : mapping
        For types that are not stored by their fields alone a function from what JSON holds to a value.
    checks : mapping
        For types a function that returns a value that was read, corrected, or raises `ValueError`.
    whole : container of type
        Types of which no part may be missing.
    """

    def __init__(
        self,
        tell: Callable[[str, str, bool], None],
        file: Callable[[str], str] = str,
        special: Mapping[type, Callable[[Any], Any]] | None = None,
        checks: Mapping[type, Callable[[Any], Any]] | None = None,
        whole: typing.Container[type] = (),
    ) -> None:
        self._tell, self._file = tell, file
        self._special, self._checks, self._whole = special or {}, checks or {}, whole
        self._strict = 0

    def decode(self, raw: Any, kind: Any, where: str = "") -> Any:
        """Return a value of a type.

        Raises
        ------
        Unreadable, KeyError, ValueError, OSError, InputError
            When it cannot be read and nothing of it can be left out.
        """
        options = _options(kind)
        if len(options) > 1:
            if raw is None and NoneType in options:
                return None
            kind = self._option(raw, options)
        if raw is None and kind is float and self._strict:
            return math.nan
        if kind is float and raw in ("inf", "-inf"):
            return float(raw)
        if isinstance(kind, type) and kind in self._special:
            with self._all_of(kind):
                return self._special[kind](raw)
        if dataclasses.is_dataclass(kind):
            return self.fields(raw, typing.cast("type[Any]", kind), where)
        if _is_file(kind):
            text = self._primitive(raw, str)
            return self._file(text) if text else ""
        if typing.get_origin(kind) is tuple:
            return self._tuple(raw, kind, where)
        return self._primitive(raw, kind)

    @contextmanager
    def _all_of(self, kind: type) -> Iterator[None]:
        """Leave nothing out of a type that is read whole or not at all."""
        self._strict += kind in self._whole
        try:
            yield
        finally:
            self._strict -= kind in self._whole

    def _option(self, raw: Any, options: tuple[Any, ...]) -> Any:
        """Return the type of a union that a value has: a data class of an object, else the first that is none."""
        options = tuple(one for one in options if one is not NoneType)
        classes = [one for one in options if dataclasses.is_dataclass(one)]
        others = [one for one in options if one not in classes]
        return classes[0] if classes and (isinstance(raw, dict) or not others) else others[0]

    def _primitive(self, raw: Any, kind: Any) -> Any:
        try:
            return msgspec.convert(raw, kind)
        except (msgspec.ValidationError, ValueError) as error:
            raise Unreadable(f"{raw!r:.60} is not what is expected here") from error

    def _tuple(self, raw: Any, kind: Any, where: str) -> tuple[Any, ...]:
        arguments = typing.get_args(kind)
        if _is_pairs(kind):
            first, second = typing.get_args(arguments[0])
            pairs = list(raw.items()) if isinstance(raw, dict) else [tuple(pair) for pair in raw or ()]
            return self._kept(
                pairs, lambda pair: (self.decode(pair[0], first), self.decode(pair[1], second, where)), where
            )
        if not isinstance(raw, list | tuple):
            raise Unreadable(f"{raw!r:.60} is not a list")
        if len(arguments) == 2 and arguments[1] is ...:
            part = arguments[0]
            if not dataclasses.is_dataclass(part):
                return tuple(self.decode(one, part, where) for one in raw)
            return self._kept(raw, lambda one: self.decode(one, part, where), where)
        if len(raw) != len(arguments):
            raise Unreadable(f"{raw!r:.60} has not {len(arguments)} parts")
        return tuple(self.decode(one, part, where) for one, part in zip(raw, arguments, strict=True))

    def _kept(self, parts: Any, read: Callable[[Any], Any], where: str) -> tuple[Any, ...]:
        """Return those parts that can be read; the others are told and left out."""
        results = []
        for number, part in enumerate(parts):
            try:
                results.append(read(part))
            except DAMAGE as error:
                if self._strict:
                    raise
                name = part.get("name") or part.get("title") if isinstance(part, dict) else None
                what = repr(name) if isinstance(name, str) else f"Entry {number + 1}"
                self._tell(f"{what} was left out, since it cannot be read ({words_of(error)}).", where, True)
        return tuple(results)

    def fields(self, raw: Any, kind: type[Kind], where: str = "", *, without: typing.Container[str] = ()) -> Kind:
        """Return a data class; fields that cannot be read have their defaults and are told."""
        if not isinstance(raw, dict):
            raise Unreadable(f"{raw!r:.60} stands where {kind.__name__} should be")
        with self._all_of(kind):
            result = kind(**self.values(raw, kind, where or _name(raw), without=without))
        check = self._checks.get(kind)
        return result if check is None else check(result)

    def values(self, raw: dict[str, Any], kind: Any, where: str, *, without: typing.Container[str] = ()) -> Any:
        """Return the fields of a data class that are stored and can be read, by name."""
        hints, known = hints_of(kind), _settings(kind)
        values: dict[str, Any] = {}
        for field in dataclasses.fields(kind):
            if field.name not in raw or field.name in without:
                continue
            given, entry = raw[field.name], known.get(field.name)
            try:
                value = self.decode(given, hints[field.name], where)
                if entry is not None and not entry.allows(value):
                    raise Unreadable("out of range")
            except DAMAGE as error:
                if self._strict or not _has_default(field):
                    raise
                self._told(field, given, entry, error, where)
                continue
            values[field.name] = value
        return values

    def _told(
        self, field: dataclasses.Field[Any], given: Any, entry: Declared | None, error: Exception, where: str
    ) -> None:
        if field.default is dataclasses.MISSING or (isinstance(given, dict | list) and entry is None):
            words = f"The {field.name.replace('_', ' ')} cannot be read and was left out ({words_of(error)})."
            self._tell(words, where, True)
            return
        label = entry.setting.label.lower() if entry is not None else field.name.replace("_", " ")
        self._tell(
            f"{given!r:.60} is not a value for {label} ({field.name}); {field.default!r} was taken instead.",
            where,
            False,
        )


def _name(raw: dict[str, Any]) -> str:
    name = raw.get("name") or raw.get("title") or ""
    return name if isinstance(name, str) else ""


def _has_default(field: dataclasses.Field[Any]) -> bool:
    return field.default is not dataclasses.MISSING or field.default_factory is not dataclasses.MISSING


def words_of(error: Exception) -> str:
    """Return what an error says, without a period at its end."""
    words = error.message if isinstance(error, InputError) else str(error)
    return words.rstrip(".")


def encoded(value: Any) -> dict[str, Any]:
    """Return a data class without files or arrays as JSON holds it."""
    return Encoder().fields(value)


def decoded(kind: type[Kind], raw: Any, tell: Callable[[str], None]) -> Kind:
    """Return a data class without files or arrays from JSON; one that cannot be read at all has its defaults."""
    decoder = Decoder(lambda words, where, damaged: tell(words))
    try:
        return decoder.fields(raw, kind)
    except DAMAGE as error:
        tell(f"{words_of(error)}; the defaults were taken.")
        return kind()
