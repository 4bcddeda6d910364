"""What a setting will lead to, told before anything is packed or baked. Quick enough to follow a drag."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from fasciculum.model.bundle import Bundle, Layout
from fasciculum.model.scene import Scene
from fasciculum.progress import SILENT, Progress
from fasciculum.uv.density import ObjectFigures, figures_of

#: part of a sheet, padding included, that islands usually take
USUAL = 0.86
#: islands that an object usually has, while it is not known
USUAL_ISLANDS = 6


@dataclass(frozen=True)
class Forecast:
    """Density in px/m, fill as a part of the sheet, and the clean-down size in px that a layout would reach."""

    density: float
    fill: float
    clean_down_to: int


def measure_objects(scene: Scene, *, progress: Progress = SILENT) -> dict[str, ObjectFigures]:
    """Return the figures of every object of a scene."""
    return figures_of(scene, scene.objects, progress=progress)


def forecast(bundle: Bundle, figures: dict[str, ObjectFigures]) -> Forecast | None:
    """Foretell a layout from the surfaces that it has to hold; None when there are none.

    A layout that is there already, even a stale one, tells how many islands there are and how large.
    """
    sheet = bundle.sheet
    known = [figures[key] for key in bundle.objects if key in figures]
    if not known:
        return None
    area, girth, islands = _surfaces(bundle, figures)
    inner = (sheet.width - 2 * sheet.border) * (sheet.height - 2 * sheet.border)
    if area <= 0 or inner <= 0:
        return None
    around = sheet.padding + 1
    room = USUAL * inner - islands * around * around
    if room <= 0:
        return Forecast(0.0, 0.0, sheet.width)
    half = girth * around
    density = (-half + math.sqrt(half * half + 4 * area * room)) / (2 * area)
    fill = area * density * density / (sheet.width * sheet.height)
    return Forecast(density, fill, clean_size(sheet.width, sheet.padding))


def clean_size(width: int, padding: int) -> int:
    """Return the width of the smallest mip level that the padding keeps clean.

    A reading inside an island blends its level-k texel with the neighbours on the near side, and so reaches at most
    3 * 2^(k-1) - 1 texels beyond the island; half the padding is its own.
    """
    level = 0
    while (3 << level) - 1 <= padding / 2 and width >> (level + 1) >= 1:
        level += 1
    return width >> level


def _surfaces(bundle: Bundle, figures: dict[str, ObjectFigures]) -> tuple[float, float, float]:
    """Return the surface to be placed, half the girth of its islands in metres, and how many there are."""
    layout = bundle.layout
    placed: set[str] = set()
    area = girth = islands = 0.0
    if layout is not None:
        area, girth, islands, placed = _from_layout(layout, bundle)
    for key in bundle.objects:
        if key not in placed and key in figures:
            surface = figures[key].area * bundle.share(key) ** 2
            area += surface
            islands += USUAL_ISLANDS
            girth += 2 * math.sqrt(surface * USUAL_ISLANDS)
    return area, girth, islands


def _from_layout(layout: Layout, bundle: Bundle) -> tuple[float, float, float, set[str]]:
    area = girth = 0.0
    islands, placed = 0, set()
    for surface in layout.surfaces:
        present = [key for key in surface.objects if key in bundle.objects]
        if not present or not len(surface.island):
            continue
        placed |= set(present)
        share = bundle.share(present[0])
        copies = 1 if bundle.sheet.twins else len(present)
        count = int(surface.island.max()) + 1
        size = np.zeros((count, 2))
        np.maximum.at(size, surface.island, surface.corners.max(axis=1))
        area += surface.area * share**2 * copies
        girth += float(size.sum()) * share * copies
        islands += count * copies
    return area, girth, float(islands), placed
