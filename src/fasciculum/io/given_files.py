"""Given sheets as files: ``{"version": 1, "maps": {...}, "metres": 2.0, "trims": [...]}``, boxes in px."""

from __future__ import annotations

import math
import os
from pathlib import Path

import msgspec

from fasciculum.io.codecs import decode
from fasciculum.io.descriptions import beside, read_description, write_description, wrong
from fasciculum.io.places import read_file
from fasciculum.model.given import Given, GivenMap, Trim, TrimRepeats
from fasciculum.model.maps import KINDS, Origin

#: how far a trim that goes on may end from the sheet's sides, px
NEAR_SIDE = 0.51


class _Trim(msgspec.Struct, forbid_unknown_fields=True):
    name: str
    box: tuple[float, float, float, float]
    repeats: TrimRepeats = TrimRepeats.NONE
    gutter: float = 0.0


class _Sheet(msgspec.Struct, forbid_unknown_fields=True):
    maps: dict[str, str]
    trims: list[_Trim]
    metres: float = 1.0
    version: int = 1


def read_sheet(path: Path) -> Given:
    """Return a given sheet.

    Raises
    ------
    MalformedFile, MissingFile, UnsupportedInput
        Naming the file and the place in it.
    """
    entry = read_description(path, _Sheet, "the sheet")
    if not entry.maps:
        raise wrong(path, "a sheet needs at least one map.", "maps")
    maps, sizes = [], {}
    for name, file in entry.maps.items():
        place = f"maps.{name}"
        kind = KINDS.get(name)
        if kind is None or kind.origin is not Origin.CARRIED or not kind.fills:
            known = ", ".join(one.name for one in KINDS.values() if one.origin is Origin.CARRIED and one.fills)
            raise wrong(path, f"{name!r} is no map of a given sheet; there are {known}.", place)
        result, digest = beside(path, file, place)
        maps.append(GivenMap(name, result, digest))
        pixels = decode(read_file(Path(result)), place=result)
        sizes[name] = pixels.shape[1], pixels.shape[0]
    (first, size), *others = sizes.items()
    for name, other in others:
        if other != size:
            words = f"is {other[0]} x {other[1]} px where {first} is {size[0]} x {size[1]}; maps are of one size."
            raise wrong(path, words, f"maps.{name}")
    if not 0 < entry.metres < math.inf:
        raise wrong(path, "metres are above 0.", "metres")
    if not entry.trims:
        raise wrong(path, "a sheet needs at least one trim.", "trims")
    trims = tuple(_trim(path, f"trims[{n}]", one, size) for n, one in enumerate(entry.trims))
    judge_trims(path, trims)
    return Given(tuple(maps), *size, metres=entry.metres, trims=trims, file=str(path.resolve()))


def _trim(path: Path, place: str, entry: _Trim, size: tuple[int, int]) -> Trim:
    x0, y0, x1, y1 = entry.box

    def demand(right: bool, key: str, words: str) -> None:
        if not right:
            raise wrong(path, words, f"{place}.{key}")

    demand(bool(entry.name.strip()), "name", "a trim needs a name.")
    demand(all(map(math.isfinite, (*entry.box, entry.gutter))), "box", "every number has to be finite.")
    demand(0 <= x0 < x1 <= size[0] and 0 <= y0 < y1 <= size[1], "box", f"it lies outside 0, 0 to {size[0]}, {size[1]}.")
    demand(entry.gutter >= 0, "gutter", "a gutter is 0 or more.")
    across = x0 <= NEAR_SIDE and x1 >= size[0] - NEAR_SIDE
    down = y0 <= NEAR_SIDE and y1 >= size[1] - NEAR_SIDE
    demand(entry.repeats is not TrimRepeats.U or across, "box", "a trim that repeats along u spans the sheet's width.")
    demand(entry.repeats is not TrimRepeats.V or down, "box", "a trim that repeats along v spans the sheet's height.")
    trim = Trim(entry.name, entry.box, entry.repeats, entry.gutter)
    left, top, right, low = trim.room
    demand(left < right and top < low, "gutter", "the gutter leaves nothing of the trim.")
    return trim


def judge_trims(path: Path, trims: tuple[Trim, ...]) -> None:
    """Refuse trims that have one name, or lie on each other.

    Raises
    ------
    MalformedFile
    """
    for number, trim in enumerate(trims):
        for earlier in trims[:number]:
            if trim.name == earlier.name:
                raise wrong(path, f"{trim.name!r} is there twice. Names must be unique.", f"trims[{number}].name")
            a, b = trim.box, earlier.box
            if min(a[2], b[2]) - max(a[0], b[0]) > 1e-9 and min(a[3], b[3]) - max(a[1], b[1]) > 1e-9:
                raise wrong(
                    path, f"{trim.name!r} lies on {earlier.name!r}; trims do not overlap.", f"trims[{number}].box"
                )


def sheet_file(given: Given, folder: Path) -> bytes:
    """Return a given sheet as a file in a folder holds it, with paths from there."""
    maps = {one.name: os.path.relpath(one.file, folder.resolve()) for one in given.maps}
    trims = [_Trim(trim.name, trim.box, trim.repeats, trim.gutter) for trim in given.trims]
    return write_description(_Sheet(maps, trims, given.metres))
