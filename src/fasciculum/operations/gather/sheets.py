"""Trim sheets: read from their description, or from a picture whose trims are proposed."""

from __future__ import annotations

from pathlib import Path

from fasciculum.errors import UnsupportedInput
from fasciculum.given.proposing import proposed_trims
from fasciculum.io.codecs import decode
from fasciculum.io.given_files import read_sheet
from fasciculum.io.places import read_file
from fasciculum.model.digests import digest_of
from fasciculum.model.given import Given, GivenMap, Trim
from fasciculum.model.maps import BASE_COLOR, EMISSIVE, NORMAL, ORM
from fasciculum.progress import SILENT, Progress

#: what the names of a sheet's further maps end in
ENDINGS = {NORMAL.name: ("_normal", "_n"), ORM.name: ("_orm",), EMISSIVE.name: ("_emissive",)}


def take_sheet(path: Path, *, progress: Progress = SILENT) -> Given:
    """Return a trim sheet.

    A picture is its colours; further maps are looked for beside it by their names. Where no trims are found in it, all
    of it is one.

    Raises
    ------
    MalformedFile, MissingFile, UnsupportedInput
    """
    progress.update(0.0, f"Reading {path.name}")
    if path.suffix.lower() == ".json":
        return read_sheet(path)
    data = read_file(path)
    pixels = decode(data, place=str(path))
    height, width = pixels.shape[:2]
    maps = [GivenMap(BASE_COLOR.name, str(path.resolve()), digest_of(data))]
    for name, endings in ENDINGS.items():
        for ending in endings:
            beside = path.with_name(f"{path.stem}{ending}{path.suffix}")
            if beside.is_file():
                more = read_file(beside)
                if decode(more, place=str(beside)).shape[:2] != (height, width):
                    raise UnsupportedInput(
                        f"it is not {width} x {height} px as {path.name} is.",
                        file=str(beside),
                        hint="Maps of a sheet are of one size.",
                    )
                maps.append(GivenMap(name, str(beside.resolve()), digest_of(more)))
                break
    trims = proposed_trims(pixels) or (Trim("whole", (0.0, 0.0, float(width), float(height))),)
    return Given(tuple(maps), width, height, metres=1.0, trims=trims)
