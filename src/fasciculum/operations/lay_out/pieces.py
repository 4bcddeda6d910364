"""What is to be laid out: a bundle's objects flattened, their islands, and which of them are twins."""

from __future__ import annotations

import math
import threading
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from fasciculum.memory import on_pressure
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import TwinRule
from fasciculum.model.digests import digest_of, digest_text
from fasciculum.model.layout import Layout, Surface
from fasciculum.model.scene import Object, Scene
from fasciculum.progress import SILENT, Progress
from fasciculum.uv.corners import content_of, corners_of, own_places, surface_areas
from fasciculum.uv.flatten import Flat, Wish, cut_long, flatten_all
from fasciculum.uv.twins import Candidate, Twins, find_twins

#: islands this many times longer than the sheet's shorter edge are cut, or one rope would decide the density of all;
#: the pieces are at most this part of that edge
LONG, PIECE = 1.5, 0.9
USUAL_FILL = 0.75
#: copies count as stretched alike when the lengths of their axes agree to this part
SAME_STRETCH = 0.01


def twin_groups(scene: Scene, bundle: Bundle) -> list[tuple[Object, ...]]:
    """Group objects that draw the same mesh with the same materials: they lie on one place, however they are scaled.

    The first of each group is the one that needs most texels: its size, and its share, decide the density of all.
    """
    needs = _Needs(scene, bundle)
    return [tuple(sorted(group, key=needs)) if len(group) > 1 else tuple(group) for group in _groups(scene, bundle)]


def has_upright(scene: Scene, bundle: Bundle) -> bool:
    """Tell whether any islands of a bundle may be turned by half a turn only, see `sheared_copies`."""
    if not any(material.normal for material in scene.materials):
        return False
    return any(sheared_copies(scene, group) for group in _groups(scene, bundle))


def _groups(scene: Scene, bundle: Bundle) -> list[list[Object]]:
    """Group objects that draw the same mesh with the same materials, each group in the bundle's order."""
    groups: dict[tuple[object, ...], list[Object]] = {}
    for number, key in enumerate(bundle.objects):
        item = scene.object(key)
        node = scene.nodes[item.node]
        rule = bundle.twin_rule(key)
        hand = bool(np.linalg.det(node.world[:3, :3]) < 0) if rule == TwinRule.UNMIRRORED else False
        alone = number if rule == TwinRule.APART or not bundle.sheet_in_force.twins else -1
        alike = (node.mesh, item.primitives, rule, hand, bundle.shaping(key), alone, scene.partners.get(key))
        groups.setdefault(alike, []).append(item)
    return list(groups.values())


def sheared_copies(scene: Scene, group: Sequence[Object]) -> bool:
    """Tell whether objects on one place read normals, and some are stretched otherwise than the first.

    A normal map is read in a frame that renderers make rectangular at each point. Stretching skews the directions of u
    and v, and the frame is squared up again along u. So one map fits copies that are stretched differently only where
    their islands lie along the same direction on the sheet as in the source, or against it.
    """
    if len(group) < 2 or not any(scene.materials[index].normal for index in scene.materials_of(group[0]) if index >= 0):
        return False
    # what has one digest of its shape is stretched alike, so that few are left to compare
    nodes = list({scene.shapes[item.key]: item.node for item in group}.values())
    if len(nodes) < 2:
        return False
    linear = np.array([scene.nodes[node].world[:3, :3] for node in nodes])
    lengths = np.linalg.svd(linear[1:] @ np.linalg.pinv(linear[0]), compute_uv=False)
    return bool((lengths[:, 0] > (1 + SAME_STRETCH) * lengths[:, -1]).any())


class _Needs:
    """Sorts copies of a mesh by the texels that they need, the greatest first; those alike stay in their order."""

    def __init__(self, scene: Scene, bundle: Bundle) -> None:
        self._scene, self._bundle = scene, bundle
        self._areas: dict[str, float] = {}

    def __call__(self, item: Object) -> float:
        shape = self._scene.shapes[item.key]
        if shape not in self._areas:
            self._areas[shape] = float(surface_areas(corners_of(self._scene, item).world).sum())
        # to the digits at which sizes are told apart, so that rounding changes no order
        return -float(f"{self._areas[shape] * self._bundle.share(item.key) ** 2:.5e}")


@dataclass(frozen=True, eq=False)
class Pieces:
    """What is to be laid out: the flat surfaces, and each island with what it wishes.

    Attributes
    ----------
    islands : list of ndarray of float64, shape (T, 3, 2)
        Metres.
    shares, wishes : ndarray of float64, shape (I,)
        Each island's own share, as the present layout has it; the same with that of its object.
    twins : Twins
    earlier : ndarray of int64, shape (I,)
        Each island's number in the present layout, -1 for those that are new or other than they were.
    reasons : dict
        For each object why its islands are as they are, of `fasciculum.uv.flatten.REASONS`.
    upright : ndarray of bool, shape (I,)
        Islands that may be turned by half a turn only, see `sheared_copies`.
    """

    surfaces: tuple[Surface, ...]
    islands: list[NDArray[np.float64]]
    shares: NDArray[np.float64]
    wishes: NDArray[np.float64]
    twins: Twins
    earlier: NDArray[np.int64]
    reasons: dict[str, NDArray[np.int64]]
    upright: NDArray[np.bool_]

    @cached_property
    def sizes(self) -> NDArray[np.float64]:
        """By what each island's metres are multiplied, beside the density, on the place of its kind's largest."""
        ratio = np.sqrt(
            np.abs(self.twins.maps[:, 0] * self.twins.maps[:, 4] - self.twins.maps[:, 1] * self.twins.maps[:, 3])
        )
        wished = self.wishes / np.maximum(ratio, 1e-300)
        largest = np.zeros(len(self.islands))
        np.maximum.at(largest, self.twins.leader, wished)
        sizes: NDArray[np.float64] = largest[self.twins.leader]
        return sizes

    @cached_property
    def leaders(self) -> NDArray[np.int64]:
        """The islands that stand for their kind, in order."""
        return np.flatnonzero(self.twins.leader == np.arange(len(self.islands)))

    @cached_property
    def places(self) -> NDArray[np.int32]:
        """The place of each island."""
        number = np.zeros(len(self.islands), np.int32)
        number[self.leaders] = np.arange(len(self.leaders), dtype=np.int32)
        result: NDArray[np.int32] = number[self.twins.leader]
        return result

    def sized(self, which: NDArray[np.int64]) -> list[NDArray[np.float64]]:
        """Return leading islands in metres times share."""
        return [self.islands[index] * self.sizes[index] for index in which.tolist()]

    def spread(self, placed: NDArray[np.float64]) -> NDArray[np.float64]:
        """Return every island's map from those of the leaders, both in plain metres."""
        rows = np.zeros((len(self.islands), 6))
        rows[self.leaders] = placed
        own = rows[self.twins.leader].reshape(-1, 2, 3)
        inner = self.twins.maps.reshape(-1, 2, 3)
        result = np.empty_like(own)
        result[:, :, :2] = own[:, :, :2] @ inner[:, :, :2]
        result[:, :, 2] = (own[:, :, :2] @ inner[:, :, 2:])[:, :, 0] + own[:, :, 2]
        alone = self.twins.leader == np.arange(len(self.islands))
        result[alone] = own[alone]
        return result.reshape(-1, 6)


#: what was laid flat last, by a digest of all that it was made from: looking ahead and packing need the same
_KEPT: dict[str, list[Flat]] = {}
MOST_KEPT = 6
#: jobs of a list are planned side by side in threads
_LOCK = threading.Lock()


@on_pressure
def forget_flats() -> None:
    """Give up what was laid flat last."""
    with _LOCK:
        _KEPT.clear()


def _flats(
    scene: Scene, bundle: Bundle, groups: Sequence[tuple[Object, ...]], wishes: list[Wish], progress: Progress
) -> list[Flat]:
    """Lay a bundle's groups flat, or recall that it was done."""
    sheet = bundle.sheet_in_force
    parts = [
        digest_text((scene.shapes[group[0].key], wish.policy, wish.shaping.digest))
        for group, wish in zip(groups, wishes, strict=True)
    ]
    key = digest_of(digest_text((sheet.unwrap, sheet.density)), *parts)
    with _LOCK:
        known = _KEPT.get(key)
    if known is not None:
        return known
    flats = flatten_all(wishes, even=sheet.density == "even", settings=sheet.unwrap, progress=progress)
    with _LOCK:
        while len(_KEPT) >= MOST_KEPT:
            _KEPT.pop(next(iter(_KEPT)))
        _KEPT[key] = flats
    return flats


def pieces_of(scene: Scene, bundle: Bundle, progress: Progress = SILENT) -> Pieces:
    """Flatten a bundle's objects and find the twins among their islands."""
    sheet = bundle.sheet_in_force
    groups = twin_groups(scene, bundle)
    wishes = [
        Wish(
            corners_of(scene, group[0], uv_set=bundle.shaping(group[0].key).uv_set),
            bundle.policy(group[0].key),
            bundle.shaping(group[0].key),
        )
        for group in progress.part(0, 0.1).over(groups, lambda group: f"Gathering {group[0].key}", total=len(groups))
    ]
    flats = _flats(scene, bundle, groups, wishes, progress.part(0.1, 0.7))
    reasons = {item.key: flat.why for group, flat in zip(groups, flats, strict=True) for item in group}
    worlds = [wish.corners.world for wish in wishes]
    areas = [float(surface_areas(world).sum()) for world in worlds]
    shares = [bundle.share(group[0].key) for group in groups]
    if any(wish.policy != "keep" for wish in wishes):
        needed = sum(area * share**2 for area, share in zip(areas, shares, strict=True))
        density = sheet.wanted or math.sqrt(USUAL_FILL * sheet.width * sheet.tiles * sheet.height / max(needed, 1e-12))
        edge = (min(sheet.width, sheet.height) - 2 * sheet.border) / density
        flats = [
            flat
            if wish.policy == "keep"
            else cut_long(flat, wish.corners.world, LONG * edge / share, PIECE * edge / share)
            for flat, wish, share in zip(flats, wishes, shares, strict=True)
        ]
    surfaces = tuple(
        Surface(
            tuple(item.key for item in group), flat.corners, flat.islands, _projected(scene, group, flat), area, share
        )
        for group, flat, area, share in zip(groups, flats, areas, shares, strict=True)
    )
    islands = [island for surface in surfaces for island in islands_of(surface)]
    earlier = earlier_islands(surfaces, bundle.layout)
    own = np.ones(len(islands))
    if bundle.layout is not None:
        own[earlier >= 0] = bundle.layout.shares[earlier[earlier >= 0]]
    wished = own * np.repeat([surface.share for surface in surfaces], [_count(surface) for surface in surfaces])
    progress.update(0.7, "Looking for twins")
    if sheet.twins:
        twins = find_twins(_candidates(scene, bundle, surfaces), progress)
    else:
        count = len(islands)
        twins = Twins(np.arange(count), np.tile(np.array([1.0, 0, 0, 0, 1, 0]), (count, 1)))
    upright = np.repeat([sheared_copies(scene, group) for group in groups], [_count(one) for one in surfaces])
    return Pieces(surfaces, islands, own, wished, twins, earlier, reasons, upright)


def _keys(group: tuple[Object, ...]) -> tuple[str, ...]:
    return tuple(item.key for item in group)


def _projected(scene: Scene, group: tuple[Object, ...], flat: Flat) -> NDArray[np.bool_]:
    """Return which triangles got UVs of their own; a patch, which no file knows, is as it must be."""
    made = scene.nodes[group[0].node].number < 0
    return np.zeros_like(flat.projected) if made else flat.projected


def _count(surface: Surface) -> int:
    return int(surface.island.max()) + 1 if len(surface.island) else 0


def _split(surface: Surface, rows: NDArray[np.generic]) -> list[NDArray[np.generic]]:
    """Return rows of a surface's triangles by island."""
    order = np.argsort(surface.island, kind="stable")
    bounds = np.searchsorted(surface.island[order], np.arange(1, int(surface.island.max(initial=0)) + 1))
    return list(np.split(rows[order], bounds)) if len(rows) else []


def islands_of(surface: Surface) -> list[NDArray[np.float64]]:
    """Return the corners of a surface's islands, metres."""
    return [np.asarray(part, np.float64) for part in _split(surface, surface.corners)]


def _candidates(scene: Scene, bundle: Bundle, surfaces: tuple[Surface, ...]) -> list[Candidate]:
    results = []
    for index, surface in enumerate(surfaces):
        item = scene.object(surface.objects[0])
        rule = bundle.twin_rule(item.key)
        hand = bool(np.linalg.det(scene.nodes[item.node].world[:3, :3]) < 0)
        content, whole = content_of(scene, item) if item.key not in scene.partners else own_places(scene, item)
        material = np.concatenate(
            [np.full(len(part.triangles), part.material, np.int64) for part in scene.primitives_of(item)]
        )
        if item.key in scene.partners:
            # what is read from high-poly objects is like nothing of another object
            material = np.full(len(material), -2 - index, np.int64)
        elif bundle.sheet.alike == "shape":
            content, whole, material = np.zeros((len(content), 3, 0)), 0, np.zeros(len(content), np.int64)
        for corners, read, kinds in zip(
            _split(surface, surface.corners), _split(surface, content), _split(surface, material), strict=True
        ):
            results.append(
                Candidate(
                    np.asarray(corners, np.float64),
                    np.asarray(read, np.float64),
                    np.asarray(kinds, np.int64),
                    whole,
                    rule,
                    hand,
                )
            )
    return results


def earlier_islands(surfaces: tuple[Surface, ...], layout: Layout | None) -> NDArray[np.int64]:
    """Return for each island its number in an earlier layout, -1 where its surface was not there or was another."""
    home_of = {} if layout is None else layout.surface_numbers
    starts = [] if layout is None else layout.starts
    results = [np.zeros(0, np.int64)]
    for surface in surfaces:
        home = np.full(_count(surface), -1, np.int64)
        for index in (home_of[key] for key in surface.objects if key in home_of):
            if layout is not None and _same_flat(surface, layout.surfaces[index]):
                home = np.arange(len(home)) + starts[index]
                break
        results.append(home)
    return np.concatenate(results)


def _same_flat(one: Surface, two: Surface) -> bool:
    return (
        len(one.corners) == len(two.corners)
        and np.array_equal(one.island, two.island)
        and np.array_equal(one.corners, two.corners)
    )


def apply_affine(corners: NDArray[np.float64], row: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return corners, (..., 2), through a 2 x 3 map given as six numbers."""
    matrix = row.reshape(2, 3)
    result: NDArray[np.float64] = corners @ matrix[:, :2].T + matrix[:, 2]
    return result


def flat_area(island: NDArray[np.float64]) -> float:
    """Return the area of triangles in the plane, (T, 3, 2)."""
    one, two = island[:, 1] - island[:, 0], island[:, 2] - island[:, 0]
    return float(np.abs(one[:, 0] * two[:, 1] - one[:, 1] * two[:, 0]).sum() / 2)
