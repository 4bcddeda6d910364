"""Lay out onto a given sheet: islands onto its trims, or faces into the cells of a palette."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from fasciculum.given.cells import middle_of, nearest_cells
from fasciculum.given.fitting import MOST_STRETCH, best_fit, fit_on, named_trim, row_of, size_of
from fasciculum.given.splitting import parted
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import ObjectPolicy, PieceRule, Turns, UvPolicy
from fasciculum.model.given import Given, Trim, TrimRepeats
from fasciculum.model.layout import Layout, Surface
from fasciculum.model.scene import OPAQUE, Material, Object, Scene
from fasciculum.model.unwrapping import Shaping, UnwrapSettings
from fasciculum.operations.lay_out.pieces import apply_affine, earlier_islands, islands_of, pieces_of
from fasciculum.progress import SILENT, Progress
from fasciculum.units import srgb_to_linear
from fasciculum.uv.corners import corners_of, signed_uv_areas, surface_areas
from fasciculum.uv.edges import EdgeGraph
from fasciculum.uv.stretch import angle_stretch

#: degrees between two faces from which a board ends there
BENT = 25.0
#: how a surface is unwrapped for trims: each face and each bend by itself
FOR_TRIMS = UnwrapSettings(sharp=40.0, stretch=0.01, smallest=0.0, fewer=0.0)
#: a wanted density, px/m, at which no island is long
NO_LIMIT = 1e-6
#: the part of a whole that spreads steps most evenly
GOLDEN = 0.618033988749895


def given_rules(given: Given) -> str:
    """Return all that a layout on a given sheet depends on, as one text."""
    return f"given {replace(given, file='', maps=())!r}"


def lay_onto(scene: Scene, bundle: Bundle, *, fresh: bool = False, progress: Progress = SILENT) -> Layout:
    """Lay a bundle onto its given sheet.

    Islands that lay there before stay where they are, unless ``fresh``; pinned ones stay in any case.
    """
    given = bundle.given
    assert given is not None
    if given.is_palette:
        return _into_cells(scene, bundle, given)
    quarters = (0,) if bundle.sheet.turns is Turns.NONE else (0, 1)
    surfaces = _surfaces(scene, bundle, progress)
    if given.split:
        surfaces = tuple(_parted(scene, surface, given, quarters) for surface in surfaces)
    before = bundle.layout
    earlier = earlier_islands(surfaces, before)
    kept = np.zeros(len(earlier), np.bool_)
    rows, fields = np.zeros((len(earlier), 6)), np.full(len(earlier), -1, np.int32)
    pinned = np.zeros(len(earlier), np.bool_)
    if before is not None and before.on_given and len(before.fields) == len(before.placements):
        mask = earlier >= 0
        stays = (before.rules == given_rules(given)) and not fresh
        kept[mask] = (before.pinned[earlier[mask]] | stays) & (before.fields[earlier[mask]] < len(given.trims))
        rows[kept], fields[kept] = before.placements[earlier[kept]], before.fields[earlier[kept]]
        pinned[kept] = before.pinned[earlier[kept]]
    number = 0
    for surface in surfaces:
        progress.check()
        names = list(_names(scene, surface))
        for island, corners in enumerate(islands_of(surface)):
            if not kept[number]:
                own = surface.island == island
                only = named_trim(_names_on(names, own), given.trims)
                fit = best_fit(size_of(corners), given, turns=quarters, only=only)
                rows[number], fields[number] = row_of(corners, fit, given.trims[fit.trim]), fit.trim
            number += 1
    return _layout(bundle, given, surfaces, rows, fields, pinned)


def _layout(
    bundle: Bundle,
    given: Given,
    surfaces: tuple[Surface, ...],
    rows: NDArray[np.float64],
    fields: NDArray[np.int32],
    pinned: NDArray[np.bool_],
) -> Layout:
    boxes = np.array(given.fields, float).reshape(-1, 4)[np.unique(fields[fields >= 0])]
    used = float(((boxes[:, 2] - boxes[:, 0]) * (boxes[:, 3] - boxes[:, 1])).sum())
    return Layout(
        surfaces,
        rows,
        given.px_per_metre,
        given.width,
        given.height,
        padding=0,
        margin=0,
        gap=0,
        border_gap=0,
        overlap=0.0,
        fill=used / (given.width * given.height),
        made_from="",
        rules=given_rules(given),
        pinned=pinned,
        fields=fields,
    )


# -- surfaces ---------------------------------------------------------------------------------------------------------


def _surfaces(scene: Scene, bundle: Bundle, progress: Progress) -> tuple[Surface, ...]:
    """Return the bundle's surfaces laid flat for trims: as they came where they keep their shape, else anew."""
    sheet = replace(
        bundle.sheet, twins=False, wanted=NO_LIMIT, pieces=PieceRule.ISLANDS, unwrap=FOR_TRIMS, uv=bundle.sheet.uv
    )
    plain = replace(bundle, sheet=sheet, layout=None, given=None, ways=(), twin_rules=())
    result = pieces_of(scene, plain, progress.part(0.0, 0.5)).surfaces
    shapings = dict(bundle.shapings)
    for surface in result:
        key = surface.objects[0]
        world = corners_of(scene, scene.object(key)).world
        keeps = bundle.policy(key) is UvPolicy.KEEP or bundle.shaping(key).hand or bundle.shaping(key).projections
        if keeps or (_longest(world, surface) <= MOST_STRETCH and bundle.policy(key) is not UvPolicy.UNWRAP):
            continue
        told = bundle.shaping(key)
        seams = tuple(sorted({*told.seams, *_bent_edges(world)} - set(told.joined)))
        anew = Shaping(ObjectPolicy.UNWRAP, seams=seams, joined=told.joined, count=len(world))
        shapings |= dict.fromkeys(surface.objects, anew)
    if shapings == dict(bundle.shapings):
        return result
    again = replace(plain, shapings=tuple(sorted(shapings.items(), key=lambda entry: entry[0])))
    return pieces_of(scene, again, progress.part(0.5, 0.9)).surfaces


def _parted(scene: Scene, surface: Surface, given: Given, quarters: Sequence[int]) -> Surface:
    """Return a surface whose islands are parted where they are longer than a trim."""
    vertices = EdgeGraph(corners_of(scene, scene.object(surface.objects[0])).world).vertices
    names = list(_names(scene, surface))
    island, made = np.zeros(len(surface.island), np.int32), 0
    for number in range(int(surface.island.max(initial=-1)) + 1):
        own = surface.island == number
        only = named_trim(_names_on(names, own), given.trims)
        parts = parted(surface.corners[own].astype(np.float64), vertices[own], given, turns=quarters, only=only)
        island[own] = made + parts
        made += int(parts.max()) + 1
    return replace(surface, island=island)


def _longest(world: NDArray[np.float64], surface: Surface) -> float:
    """Return the mean stretch, weighted by area, of the island of a surface that is stretched most."""
    stretches = [stretch for stretch, _ in island_figures(world, surface.corners, surface.island)]
    return max(stretches, default=1.0)


def island_figures(
    world: NDArray[np.float64], flat: NDArray[np.float64], island: NDArray[np.int32]
) -> list[tuple[float, float]]:
    """Return for each island its stretch, s1 over s2 weighted by area, and its density, flat units a metre."""
    areas, lying = surface_areas(world), np.abs(signed_uv_areas(flat))
    stretch = angle_stretch(world, flat)
    results = []
    for number in range(int(island.max(initial=-1)) + 1):
        own = (island == number) & (areas > 0) & (lying > 0) & np.isfinite(stretch)
        area = float(areas[own].sum())
        if area <= 0:
            results.append((1.0, 0.0))
            continue
        results.append((float((stretch[own] * areas[own]).sum()) / area, float(np.sqrt(lying[own].sum() / area))))
    return results


def _bent_edges(world: NDArray[np.float64]) -> list[int]:
    """Return the half-edges at which a surface bends so much that a board would end there."""
    graph = EdgeGraph(world)
    order = np.argsort(graph.edge_of, kind="stable")
    edge = graph.edge_of[order]
    pairs = np.flatnonzero(edge[:-1] == edge[1:])
    one, two = order[pairs], order[pairs + 1]
    facing = (graph.normals[one // 3] * graph.normals[two // 3]).sum(axis=1)
    bent = facing < np.cos(np.radians(BENT))
    return [*one[bent].tolist(), *two[bent].tolist()]


def _names(scene: Scene, surface: Surface) -> Iterator[tuple[str, str, int]]:
    """Yield an object's name, and the name of the material of each of its primitives with how many triangles it has."""
    item = scene.object(surface.objects[0])
    for primitive in scene.primitives_of(item):
        yield item.key, scene.material_name(primitive.material), len(primitive.triangles)


def _names_on(names: Sequence[tuple[str, str, int]], own: NDArray[np.bool_]) -> list[str]:
    """Return what may call for a trim: the object's name, then the materials of an island's triangles."""
    result, first = [names[0][0]], 0
    for _, material, count in names:
        if own[first : first + count].any():
            result.append(material)
        first += count
    return result


# -- what lies where --------------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class OntoRow:
    """Where an island of an object lies: on which trim, how it is turned, degrees, its stretch and density, px/m."""

    object: str
    island: int
    trim: str
    turn: int
    stretch: float
    density: float


def _trimmed(bundle: Bundle) -> tuple[Given, Layout] | None:
    """Return a bundle's trim sheet and its layout on one, None where it is otherwise laid out."""
    given, layout = bundle.given, bundle.layout
    if given is None or given.is_palette or layout is None or not layout.on_given:
        return None
    return given, layout


def onto_rows(scene: Scene, bundle: Bundle) -> list[OntoRow]:
    """Return where each island of a bundle on a given sheet lies; none for a palette."""
    if (trimmed := _trimmed(bundle)) is None:
        return []
    given, layout = trimmed
    results = []
    for index, surface in enumerate(layout.surfaces):
        lying = layout.sheet_corners(index)
        for key in surface.objects:
            world = corners_of(scene, scene.object(key)).world
            for number, (stretch, density) in enumerate(island_figures(world, lying, surface.island)):
                place = layout.starts[index] + number
                field = int(layout.fields[place])
                name = given.trims[field].name if 0 <= field < len(given.trims) else ""
                results.append(OntoRow(key, number, name, turn_of(layout.placements[place]), stretch, density))
    return results


@dataclass(frozen=True)
class SplitRow:
    """What splitting to fit did to an object: islands as they were, what they became, and vertices that were added."""

    object: str
    islands: int
    parts: int
    vertices: int


def split_rows(scene: Scene, bundle: Bundle) -> list[SplitRow]:
    """Return which objects of a bundle on a given sheet were parted, and what that costs."""
    if (trimmed := _trimmed(bundle)) is None or not trimmed[0].split:
        return []
    layout = trimmed[1]
    lying, result = layout.surface_numbers, []
    for before in _surfaces(scene, bundle, SILENT):
        key = before.objects[0]
        if key not in lying or len(layout.surfaces[lying[key]].island) != len(before.island):
            continue
        after = layout.surfaces[lying[key]]
        counts = int(before.island.max(initial=-1)) + 1, int(after.island.max(initial=-1)) + 1
        if counts[1] > counts[0]:
            vertices = EdgeGraph(corners_of(scene, scene.object(key)).world).vertices
            fewer, more = (
                len(np.unique(np.stack([np.repeat(one.island, 3), vertices.ravel()], axis=1), axis=0))
                for one in (before, after)
            )
            result += [SplitRow(one, *counts, more - fewer) for one in before.objects]
    return result


def turn_of(row: NDArray[np.float64]) -> int:
    """Return by how many degrees, against the clock, a 2 x 3 map turns what it places: 0, 90, 180 or 270."""
    a, b, _, c, d, _ = row.tolist()
    if a * d - b * c < 0:
        a, b = -a, -b
    return round(float(np.degrees(np.arctan2(b - c, a + d))) / 90.0) % 4 * 90


def sameness(scene: Scene, bundle: Bundle) -> dict[str, float]:
    """Return for each trim the part of all trimmed surface that shows it."""
    if (trimmed := _trimmed(bundle)) is None:
        return {}
    given, layout = trimmed
    areas = np.zeros(len(given.trims))
    for index, surface in enumerate(layout.surfaces):
        fields = layout.fields[layout.islands_of(index)]
        for key in surface.objects:
            present = surface_areas(corners_of(scene, scene.object(key)).world)
            # a layout on other trims than there are now is stale, and still shown
            known = (fields >= 0) & (fields < len(areas))
            np.add.at(areas, fields[known], present[known])
    whole = max(float(areas.sum()), 1e-300)
    return {trim.name: float(area) / whole for trim, area in zip(given.trims, areas, strict=True)}


# -- palettes ---------------------------------------------------------------------------------------------------------


def _into_cells(scene: Scene, bundle: Bundle, given: Given) -> Layout:
    """Put each face into the middle of the cell whose colour is nearest to its own."""
    chosen: dict[str, dict[int, int]] = {}
    for key, triangles, cell in given.chosen:
        chosen.setdefault(key, {}).update(dict.fromkeys(triangles, cell))
    surfaces, rows, fields = [], [], []
    for key in bundle.objects:
        item = scene.object(key)
        world = corners_of(scene, item).world
        cells = nearest_cells(face_colors(scene, item), np.array(given.colors, float).reshape(-1, 4))
        for triangle, cell in chosen.get(key, {}).items():
            if triangle < len(cells) and cell < len(given.cells):
                cells[triangle] = cell
        used, island = np.unique(cells, return_inverse=True)
        flat = np.zeros((len(cells), 3, 2))
        none = np.zeros(len(cells), np.bool_)
        area = float(surface_areas(world).sum())
        surfaces.append(Surface((key,), flat, island.reshape(-1).astype(np.int32), none, area))
        for cell in used.tolist():
            x, y = middle_of(given.cells[cell])
            rows.append((0.0, 0.0, x, 0.0, 0.0, y))
            fields.append(cell)
    laid = np.array(rows, float).reshape(-1, 6), np.array(fields, np.int32)
    return _layout(bundle, given, tuple(surfaces), *laid, np.zeros(len(rows), np.bool_))


def face_colors(scene: Scene, item: Object) -> NDArray[np.float64]:
    """Return the colour of each of an object's faces, (T, 4), linear with opacity: its material's, tinted."""
    results = []
    for primitive in scene.primitives_of(item):
        material = scene.material_of(primitive)
        color = np.array(material.base_color_factor, float) * _texture_color(scene, material)
        colors = np.tile(color, (len(primitive.triangles), 1))
        if primitive.colors is not None:
            colors *= primitive.colors[primitive.triangles].astype(np.float64).mean(axis=1)
        if material.alpha_mode == OPAQUE:
            colors[:, 3] = 1.0
        results.append(colors)
    return np.concatenate(results) if results else np.zeros((0, 4))


def _texture_color(scene: Scene, material: Material) -> NDArray[np.float64]:
    """Return the mean of a material's colour texture, linear with opacity; white without one."""
    slot = material.base_color
    if slot is None or scene.images[slot.image].missing:
        return np.ones(4)
    mean = np.array(scene.images[slot.image].mean[:4])
    result = np.ones(4)
    result[: len(mean)] = mean
    result[:3] = srgb_to_linear(result[:3])
    return result


# -- by hand ----------------------------------------------------------------------------------------------------------


def trim_under(given: Given, x: float, y: float) -> int:
    """Return the trim at a place of the sheet, px, or the nearest; what goes on does so beyond the sheet's sides."""

    def away(trim: Trim) -> float:
        x0, y0, x1, y1 = trim.box
        across = 0.0 if trim.repeats is TrimRepeats.U else max(x0 - x, 0.0, x - x1)
        down = 0.0 if trim.repeats is TrimRepeats.V else max(y0 - y, 0.0, y - y1)
        return across + down

    return min(range(len(given.trims)), key=lambda number: away(given.trims[number]))


def snapped_onto(layout: Layout, given: Given, before: Layout) -> Layout:
    """Return a layout whose islands that the hand has moved lie on trims again, within their gutters.

    One that comes onto another trim is made as large as suits it there; one that stays keeps its size where it fits.
    """
    rows, fields = layout.placements.copy(), layout.fields.copy()
    moved = np.flatnonzero((rows != before.placements).any(axis=1))
    islands = [corners for surface in layout.surfaces for corners in islands_of(surface)]
    for number in moved.tolist():
        corners = islands[number]
        lying = apply_affine(corners, rows[number]).reshape(-1, 2)
        low, high = lying.min(axis=0), lying.max(axis=0)
        middle = (low + high) / 2
        field = trim_under(given, float(middle[0]), float(middle[1]))
        trim = given.trims[field]
        x0, y0, x1, y1 = trim.room
        too_large = (trim.repeats is not TrimRepeats.U and high[0] - low[0] > x1 - x0 + 1e-6) or (
            trim.repeats is not TrimRepeats.V and high[1] - low[1] > y1 - y0 + 1e-6
        )
        if field != before.fields[number] or too_large:
            rows[number] = _refitted(corners, rows[number], given, field, middle)
        else:
            rows[number] = _pushed(rows[number], low, high, trim)
        fields[number] = field
    return replace(layout, placements=rows, fields=fields, gap=0, border_gap=0, overlap=0.0)


def _refitted(
    corners: NDArray[np.float64], row: NDArray[np.float64], given: Given, field: int, middle: NDArray[np.float64]
) -> NDArray[np.float64]:
    """Return an island's place on a trim at the size that suits it there, turned as it was, about where it was."""
    trim = given.trims[field]
    a, b, _, c, d, _ = row.tolist()
    fit = fit_on(size_of(corners), trim, field, given.px_per_metre, turn_of(row) // 90)
    result = row_of(corners, replace(fit, mirrored=a * d - b * c < 0), trim)
    lying = corners.reshape(-1, 2) @ result.reshape(2, 3)[:, :2].T
    size = lying.max(axis=0) - lying.min(axis=0)
    start = middle - size / 2 - lying.min(axis=0)
    result[[2, 5]] = start
    return _pushed(result, start + lying.min(axis=0), start + lying.max(axis=0), trim)


def _pushed(
    row: NDArray[np.float64], low: NDArray[np.float64], high: NDArray[np.float64], trim: Trim
) -> NDArray[np.float64]:
    """Return a place moved so far that an island, px, lies in a trim's room."""
    x0, y0, x1, y1 = trim.room
    result = row.copy()
    if trim.repeats is not TrimRepeats.U:
        result[2] += max(x0 - low[0], 0.0) + min(x1 - high[0], 0.0)
    if trim.repeats is not TrimRepeats.V:
        result[5] += max(y0 - low[1], 0.0) + min(y1 - high[1], 0.0)
    return result


def shifted_along(layout: Layout, given: Given, places: Sequence[int]) -> Layout:
    """Return a layout whose islands are moved along their trims, each by another part, so that fewer look alike.

    On a panel, which does not go on, every second one is turned by half instead; where no normal map tells right from
    left, half of both are mirrored too.
    """
    rows = layout.placements.copy()
    mirrors = all(one.name != "normal" for one in given.maps)
    islands = [corners for surface in layout.surfaces for corners in islands_of(surface)]
    for count, number in enumerate(np.flatnonzero(np.isin(layout.places, list(places))).tolist()):
        field = int(layout.fields[number])
        if 0 <= field < len(given.trims) and given.trims[field].repeats is not TrimRepeats.NONE:
            axis = 0 if given.trims[field].repeats is TrimRepeats.U else 1
            length = given.width if axis == 0 else given.height
            # parts of a whole turn that are as far from all earlier ones as can be
            rows[number, 2 + 3 * axis] += (count + 1) * GOLDEN % 1.0 * length
        elif field >= 0:
            turned, mirrored = count % 2 == 0, mirrors and count % 4 in (1, 2)
            signs = np.array([-1.0 if turned != mirrored else 1.0, -1.0 if turned else 1.0])
            # about its own middle, so that it lies in the same box
            lying = apply_affine(islands[number], rows[number]).reshape(-1, 2)
            middle = (lying.min(axis=0) + lying.max(axis=0)) / 2
            whole = rows[number].reshape(2, 3) * signs[:, None]
            whole[:, 2] += middle * (1 - signs)
            rows[number] = whole.ravel()
    return replace(layout, placements=rows, moved=layout.moved | (rows != layout.placements).any(axis=1))
