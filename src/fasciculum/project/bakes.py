"""How maps are baked, in project files, and named bakes as files that can be handed on."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import replace

import msgspec

from fasciculum.errors import MalformedFile, UsageError
from fasciculum.model.bake_settings import BakeSettings
from fasciculum.model.map_overrides import read_channels, read_wish
from fasciculum.model.maps import AUTO, KINDS
from fasciculum.model.named_bakes import NamedBake
from fasciculum.project.codec import decoded, encoded

#: the version of files of named bakes
VERSION = 1


def readable_bake(bake: BakeSettings, tell: Callable[[str], None]) -> BakeSettings:
    """Return how maps are baked; maps, wishes and packed files that make no sense are told and left out."""
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


def presets_bytes(bakes: Iterable[NamedBake]) -> bytes:
    """Return named bakes as a file that suits any bundle of any project."""
    entries = [encoded(replace(one, bundle="")) for one in bakes]
    return msgspec.json.format(msgspec.json.encode({"version": VERSION, "bakes": entries}), indent=1) + b"\n"


def presets_of(data: bytes, name: str, tell: Callable[[str], None]) -> tuple[NamedBake, ...]:
    """Return the named bakes of a file.

    Raises
    ------
    MalformedFile
        When it holds none.
    """
    try:
        result = msgspec.json.decode(data)
        version, entries = result["version"], list(result["bakes"])
    except (msgspec.MsgspecError, ValueError, KeyError, TypeError) as error:
        raise MalformedFile(
            f"the file holds no named bakes ({error}).", file=name, hint="Choose one that was saved here."
        ) from error
    if version != VERSION:
        raise MalformedFile(
            f"the file is of version {version}, which is not known here.",
            file=name,
            hint="Open it with the version of Fasciculum that wrote it.",
        )
    bakes = [decoded(NamedBake, entry, tell) for entry in entries]
    return tuple(
        replace(one, title=one.title.strip(), settings=readable_bake(one.settings, tell))
        for one in bakes
        if one.title.strip()
    )
