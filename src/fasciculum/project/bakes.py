"""How maps are baked, in project files, and named bakes as files that can be handed on."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import replace
from typing import Any

import msgspec

from fasciculum.errors import MalformedFile, UsageError
from fasciculum.model.bake_settings import BakeSettings
from fasciculum.model.map_overrides import read_channels, read_wish
from fasciculum.model.maps import AUTO, KINDS
from fasciculum.model.named_bakes import NamedBake
from fasciculum.project.schema import BakeEntry
from fasciculum.project.settings import read_settings, settings_entry

#: the version of files of named bakes
VERSION = 1


class BakesFile(msgspec.Struct):
    """A file of presets."""

    version: int
    bakes: list[BakeEntry]


def read_bake(raw: Any, tell: Callable[[str], None]) -> BakeSettings:
    """Return how maps are baked; maps, wishes and packed files that make no sense are told and left out."""
    bake = read_settings(BakeSettings, raw, tell)
    strange = [name for name in bake.maps if name not in KINDS and name != AUTO]
    if strange:
        tell(f"there are no maps {', '.join(strange)}; they were left out.")
        bake = replace(bake, maps=tuple(name for name in bake.maps if name not in strange))
    return replace(
        bake,
        wishes=_readable(bake.wishes, read_wish, tell),
        channels=_readable(bake.channels, read_channels, tell),
    )


def _readable(texts: tuple[str, ...], read: Callable[[str], object], tell: Callable[[str], None]) -> tuple[str, ...]:
    """Return the texts that make sense; the others are told and left out."""
    results = []
    for text in texts:
        try:
            read(text)
        except UsageError as error:
            tell(f"{error.message} It was left out.")
            continue
        results.append(text)
    return tuple(results)


def bake_entries(bakes: Iterable[NamedBake]) -> list[BakeEntry]:
    """Return named bakes as JSON holds them."""
    return [BakeEntry(one.title, settings_entry(one.settings), one.bundle) for one in bakes]


def read_bakes(entries: Iterable[BakeEntry], tell: Callable[[str], None]) -> tuple[NamedBake, ...]:
    """Return named bakes from JSON; those without a title are left out."""
    return tuple(
        NamedBake(one.title.strip(), read_bake(one.settings, tell), one.bundle) for one in entries if one.title.strip()
    )


def presets_bytes(bakes: Iterable[NamedBake]) -> bytes:
    """Return named bakes as a file that suits any bundle of any project."""
    entries = bake_entries(replace(one, bundle="") for one in bakes)
    return msgspec.json.format(msgspec.json.encode(BakesFile(VERSION, entries)), indent=1) + b"\n"


def presets_of(data: bytes, name: str, tell: Callable[[str], None]) -> tuple[NamedBake, ...]:
    """Return the named bakes of a file.

    Raises
    ------
    MalformedFile
        When it holds none.
    """
    try:
        result = msgspec.json.decode(data, type=BakesFile)
    except (msgspec.MsgspecError, ValueError) as error:
        raise MalformedFile(
            f"the file holds no named bakes ({error}).", file=name, hint="Choose one that was kept here."
        ) from error
    if result.version != VERSION:
        raise MalformedFile(
            f"the file is of version {result.version}, which is not known here.",
            file=name,
            hint="Open it with the version of Fasciculum that wrote it.",
        )
    return read_bakes(result.bakes, tell)
