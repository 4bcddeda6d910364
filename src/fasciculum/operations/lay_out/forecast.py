"""What a setting will lead to, told before anything is packed or baked. Quick enough to follow a drag."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from fasciculum.model.bundle import Bundle
from fasciculum.model.layout import Layout
from fasciculum.model.scene import Scene
from fasciculum.operations.check.surroundings import with_parted
from fasciculum.operations.lay_out.lay_out import layout_digest
from fasciculum.operations.lay_out.pieces import flat_area, pieces_of
from fasciculum.progress import SILENT, Progress
from fasciculum.treatments.resolving import resolve_bundle
from fasciculum.uv.density import ObjectFigures, figures_of

#: part of a sheet, padding included, that islands usually take
USUAL = 0.86
#: the same for islands that fill nothing of their boxes, and all of it
RAGGED, BOXY = 0.42, 0.88
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


@dataclass(frozen=True)
class Ahead:
    """What a bundle will put on its sheet, found by flattening it before it is packed.

    ``made_from`` is the digest of the layout that it is about; ``islands`` are those that need a place of their own,
    ``doubles`` those that lie on another's; ``area`` in square metres and half the ``girth`` of the former in metres,
    shares counted; ``boxed`` is the part of their boxes that islands cover; ``saved`` is the part of all surface that
    twins save; ``reasons`` says of each object why its islands are as they are (`fasciculum.uv.flatten.REASONS`).
    """

    made_from: str
    islands: int
    doubles: int
    area: float
    girth: float
    boxed: float
    saved: float
    reasons: dict[str, NDArray[np.int64]] = field(default_factory=dict)

    @property
    def usual(self) -> float:
        """The part of a sheet, padding included, that such islands usually take: ragged ones leave more unused."""
        return RAGGED + (BOXY - RAGGED) * self.boxed


def look_ahead(scene: Scene, bundle: Bundle, *, progress: Progress = SILENT) -> Ahead:
    """Flatten a bundle and find its twins, to tell what they save before anything is packed."""
    digest = layout_digest(scene, bundle)
    work = resolve_bundle(scene, with_parted(scene, bundle))
    scene, bundle = work.scene, work.bundle
    pieces = pieces_of(scene, bundle, progress)
    copies = np.concatenate(
        [np.full(int(s.island.max(initial=-1)) + 1, len(s.objects)) for s in pieces.surfaces] or [np.zeros(0, int)]
    )
    areas = np.array([flat_area(island) for island in pieces.islands])
    girths = np.array([float(np.ptp(island.reshape(-1, 2), axis=0).sum()) for island in pieces.islands])
    boxes = np.array([float(np.ptp(island.reshape(-1, 2), axis=0).prod()) for island in pieces.islands])
    own = pieces.leaders
    area = float((areas[own] * pieces.sizes[own] ** 2).sum())
    every = float((areas * pieces.wishes**2 * copies).sum())
    return Ahead(
        digest,
        len(own),
        int(copies.sum()) - len(own),
        area,
        float((girths[own] * pieces.sizes[own]).sum()),
        area / max(float((boxes[own] * pieces.sizes[own] ** 2).sum()), 1e-300),
        max(1 - area / every, 0.0) if every > 0 else 0.0,
        pieces.reasons,
    )


def forecast(bundle: Bundle, figures: dict[str, ObjectFigures], ahead: Ahead | None = None) -> Forecast | None:
    """Foretell a layout from the surfaces that it has to hold; None when there are none.

    A layout that is there already, even a stale one, tells how many islands there are and how large; so does having
    looked ahead.
    """
    sheet = bundle.sheet_in_force
    known = [figures[key] for key in bundle.objects if key in figures]
    if not known:
        return None
    area, girth, islands = (ahead.area, ahead.girth, ahead.islands) if ahead else _surfaces(bundle, figures)
    inner = (sheet.width - 2 * sheet.border) * (sheet.height - 2 * sheet.border) * sheet.tiles
    if area <= 0 or inner <= 0:
        return None
    around = sheet.padding + 1
    usual = ahead.usual if ahead else USUAL
    room = usual * inner - islands * around * around
    if room <= 0:
        return Forecast(0.0, 0.0, sheet.width)
    half = girth * around
    density = (-half + math.sqrt(half * half + 4 * area * room)) / (2 * area)
    if sheet.wanted > 0:
        # the sheet follows: as many texels as are needed, at the fill that is usual
        return Forecast(sheet.wanted, min(density / sheet.wanted, 1.0) * usual, clean_size(sheet.width, sheet.padding))
    fill = area * density * density / (sheet.width * sheet.height * sheet.tiles)
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


@lru_cache(maxsize=8)
def _island_sizes(layout: Layout) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Return the area and half the girth of each island of a layout, in metres."""
    areas: list[NDArray[np.float64]] = [np.zeros(0)]
    girths: list[NDArray[np.float64]] = [np.zeros(0)]
    for surface in layout.surfaces:
        count = int(surface.island.max(initial=-1)) + 1
        one, two = surface.corners[:, 1] - surface.corners[:, 0], surface.corners[:, 2] - surface.corners[:, 0]
        twice = np.abs(one[:, 0] * two[:, 1] - one[:, 1] * two[:, 0])
        areas.append(np.bincount(surface.island, twice / 2, count).astype(np.float64))
        size = np.zeros((count, 2))
        np.maximum.at(size, surface.island, surface.corners.max(axis=1))
        girths.append(size.sum(axis=1))
    return np.concatenate(areas), np.concatenate(girths)


def _from_layout(layout: Layout, bundle: Bundle) -> tuple[float, float, float, set[str]]:
    areas, girths = _island_sizes(layout)
    starts = layout.starts
    shares, copies = np.zeros(len(areas)), np.zeros(len(areas))
    placed: set[str] = set()
    for index, surface in enumerate(layout.surfaces):
        present = [key for key in surface.objects if key in bundle.objects]
        if present:
            placed |= set(present)
            shares[starts[index] : starts[index + 1]] = bundle.share(present[0])
            copies[starts[index] : starts[index + 1]] = 1 if bundle.sheet_in_force.twins else len(present)
    shares = shares * layout.shares
    if bundle.sheet_in_force.twins:
        # of twins the one with the greatest share stands for all
        order = np.lexsort((-shares, layout.places))
        first = np.unique(layout.places[order], return_index=True)[1]
        alone = np.zeros(len(areas))
        alone[order[first]] = 1
        copies = copies * alone
    area = float((areas * shares**2 * copies).sum())
    girth = float((girths * shares * copies).sum())
    return area, girth, float(copies.sum()), placed
