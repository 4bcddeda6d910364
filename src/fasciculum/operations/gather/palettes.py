"""Palettes: a given picture of cells, or one that is made of the flat colours in a scene."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from fasciculum.errors import UsageError
from fasciculum.given.cells import cell_colors, counted_cells, found_cells, to_lab
from fasciculum.io.codecs import decode
from fasciculum.io.places import read_file
from fasciculum.model.digests import digest_of
from fasciculum.model.given import Given, GivenMap
from fasciculum.model.maps import BASE_COLOR, EMISSIVE, ORM
from fasciculum.model.scene import OPAQUE, Material, Scene
from fasciculum.progress import SILENT, Progress

#: edge of a cell of a palette that is made, px, and how many stand in a row at most
CELL, MOST_ACROSS = 16, 16
#: chroma below which a colour counts as grey, and degrees of hue that stand together
GREY, HUES = 12.0, 30.0


def read_palette(path: Path, cells: str = "", *, progress: Progress = SILENT) -> Given:
    """Return a given palette: its cells are found, or counted off as ``cells`` says, ``COLUMNSxROWS``.

    Raises
    ------
    UsageError
        When cells are neither found nor told.
    MissingFile, MalformedFile, UnsupportedInput
    """
    progress.update(0.0, f"Reading {path.name}")
    data = read_file(path)
    pixels = decode(data, place=str(path))
    height, width = pixels.shape[:2]
    boxes = counted_cells(cells, width, height) if cells else found_cells(pixels)
    if not boxes:
        raise UsageError(
            "no cells of one colour are found in the palette.",
            file=str(path),
            hint="Say how many it has: --cells COLUMNSxROWS.",
        )
    told = GivenMap(BASE_COLOR.name, str(path.resolve()), digest_of(data))
    return Given((told,), width, height, cells=boxes, colors=_colors(pixels, boxes))


def _colors(pixels: NDArray[np.generic], boxes: Sequence[tuple[float, float, float, float]]) -> tuple:
    return tuple(tuple(row) for row in cell_colors(pixels, boxes).tolist())


def flat_looks(materials: Sequence[Material]) -> list[tuple[float, ...]]:
    """Return the distinct looks of materials without textures, in an order in which an artist finds a colour.

    Each is linear red, green, blue, opacity, roughness, metallic, and emission in nits. Greys come first, dark to
    light, then colours by hue, those of one hue dark to light.
    """
    looks = {
        (
            *material.base_color_factor[:3],
            1.0 if material.alpha_mode == OPAQUE else material.base_color_factor[3],
            material.roughness_factor,
            material.metallic_factor,
            *(part * material.emissive_strength for part in material.emissive_factor),
        )
        for material in materials
        if material.base_color is None
    }

    def place(look: tuple[float, ...]) -> tuple[float, ...]:
        light, a, b = to_lab(np.array(look[:3])).tolist()
        grey = float(np.hypot(a, b)) < GREY
        hue = 0.0 if grey else 1.0 + float(np.degrees(np.arctan2(b, a)) % 360.0) // HUES
        return hue, light, *look

    return sorted(looks, key=place)


def made_palette(scene: Scene, objects: Sequence[str]) -> Given:
    """Return a palette made of the flat colours of objects, with roughness, metallic and emission as further maps.

    Raises
    ------
    UsageError
        When no material of the objects is one flat colour.
    """
    looks = flat_looks(scene.materials_among(objects))
    if not looks:
        raise UsageError("no object has a material of one flat colour.", hint="Give a palette of your own.")
    return palette_of(looks)


def palette_of(looks: Sequence[tuple[float, ...]]) -> Given:
    """Return a palette with a cell for each look; see `fasciculum.model.given.Given`."""
    across = min(1 << max(int(np.ceil(np.log2(np.sqrt(len(looks))))), 0), MOST_ACROSS)
    down = 1 << int(np.ceil(np.log2(max(-(-len(looks) // across), 1))))
    width, height = across * CELL, down * CELL
    boxes = counted_cells(f"{across}x{down}", width, height)[: len(looks)]
    names = [BASE_COLOR.name, ORM.name, *([EMISSIVE.name] if any(max(look[6:9]) > 0 for look in looks) else [])]
    told = tuple(GivenMap(name) for name in names)
    colors = tuple(look[:4] for look in looks)
    return Given(told, width, height, cells=boxes, colors=colors, looks=tuple(looks))
