"""From the low-poly to the high-poly: along which directions, how far, and how far both lie apart."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.baking.casting import Tree, fix_winding, tree_of
from fasciculum.kernels.rays.projection import nearest_places, probe_points
from fasciculum.kernels.unique_rows import unique_rows
from fasciculum.model.choices import AlphaMode
from fasciculum.model.detail import Handle, Span
from fasciculum.model.scene import Image, Object, Scene
from fasciculum.progress import SILENT, Progress
from fasciculum.uv.edges import EdgeGraph
from fasciculum.uv.tangents import unit

#: cosine with its own face below which a smoothed normal is of no use to a corner
SIDEWAYS = 0.05
#: part of an object's diagonal within which its own reach has as much weight as a handle
HELD = 0.25
#: of an object's diagonal, the most that a reach found by itself has; what is added to it; points that are looked at
MOST, SPARE, LOOKED_AT = 0.25, 2e-3, 60_000
#: points from which it is foreseen what misses
FORESEEN = 1024
#: values of a row by which texels are probed
ROW = 9
#: degrees between neighbouring faces of one side of a low-poly, at most; points of a side from which it is judged, at
#: least; part of them that meet fronts, at most, where one two-sided sheet stands for both sides
ONE_SIDE, JUDGED, FRONTS = 60.0, 8, 0.5


class RayTargets:
    """Objects in a tree that is read: which triangle lies where, and which are met from behind too.

    Attributes
    ----------
    tree : Tree
    numbers : ndarray of int64
        For each place of the tree its triangle, counted over the objects' primitives in order.
    sides : ndarray of bool
        For each place whether its back is met.
    owner : ndarray of int32
        For each triangle the number of its object.
    """

    def __init__(
        self,
        scene: Scene,
        keys: Sequence[str],
        pixels: Callable[[Image], NDArray[Any]] | None = None,
        progress: Progress = SILENT,
    ) -> None:
        self.scene, self.keys = scene, tuple(keys)
        self.tree: Tree
        items = [(scene, key) for key in keys]
        self.tree, self.numbers = tree_of(items, pixels, modes=tuple(AlphaMode), progress=progress)
        double, owner = [np.zeros(0, np.bool_)], [np.zeros(0, np.int32)]
        for number, key in enumerate(keys):
            for primitive in scene.primitives_of(scene.object(key)):
                count = len(primitive.triangles)
                double.append(np.full(count, scene.material_of(primitive).double_sided))
                owner.append(np.full(count, number, np.int32))
        self.owner = np.concatenate(owner)
        self.sides = (
            np.ascontiguousarray(np.concatenate(double)[np.maximum(self.numbers, 0)])
            if len(self.owner)
            else (np.zeros(len(self.numbers), np.bool_))
        )

    def corners(self) -> NDArray[np.float64]:
        """Return the triangles in the world, (T, 3, 3), fronts outside on mirrored nodes too."""
        items = [self.scene.object(key) for key in self.keys]
        parts = [fix_winding(self.scene, item, world_corners(self.scene, item)) for item in items]
        return np.concatenate([np.zeros((0, 3, 3)), *parts])

    def points(self, most: int) -> NDArray[np.float64]:
        """Return vertices in the world, (N, 3), about so many of each primitive at most."""
        results = [np.zeros((0, 3))]
        for key in self.keys:
            item = self.scene.object(key)
            world = self.scene.nodes[item.node].world
            for primitive in self.scene.primitives_of(item):
                used = np.unique(primitive.triangles)
                step = max(len(used) // most, 1)
                results.append(primitive.positions[used[::step]].astype(np.float64) @ world[:3, :3].T + world[:3, 3])
        whole = np.concatenate(results)
        return whole[np.isfinite(whole).all(axis=1)]

    def nearest(self, points: NDArray[np.float64], far: float) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
        """Return for points (N, 3) the nearest triangle, -1 beyond ``far``; two weights and the distance, (N, 3)."""
        places, where = np.empty(len(points), np.int64), np.empty((len(points), 3))
        nearest_places(np.ascontiguousarray(points, np.float64), self.tree, far, places, where)
        return np.where(places >= 0, self.numbers[np.maximum(places, 0)], -1), where


def world_corners(scene: Scene, item: Object) -> NDArray[np.float64]:
    """Return an object's triangles in the world, (T, 3, 3), in their files' order of corners."""
    world = scene.nodes[item.node].world
    parts = [one.positions.astype(np.float64)[one.triangles] for one in scene.primitives_of(item)]
    result: NDArray[np.float64] = np.concatenate([np.zeros((0, 3, 3)), *parts]) @ world[:3, :3].T + world[:3, 3]
    return result


def smoothed_normals(scene: Scene, item: Object) -> NDArray[np.float64]:
    """Return the normals of the faces about each corner's place, weighted by angle, (T, 3, 3) in the world.

    Hard edges, seams of UVs and borders of primitives are smoothed over (Thürmer, Wüthrich 1998, "Computing vertex
    normals from polygonal facets", doi:10.1080/10867651.1998.10487487).
    """
    corners = world_corners(scene, item)
    faces = unit(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]))
    if np.linalg.det(scene.nodes[item.node].world[:3, :3]) < 0:
        faces = -faces
    angles = np.empty(corners.shape[:2])
    for corner in range(3):
        one = unit(corners[:, (corner + 1) % 3] - corners[:, corner])
        two = unit(corners[:, (corner + 2) % 3] - corners[:, corner])
        angles[:, corner] = np.arccos(np.clip((one * two).sum(-1), -1, 1))
    _, place = unique_rows(corners.reshape(-1, 3).astype(np.float32) + np.float32(0))
    weighted = (faces[:, None, :] * angles[..., None]).reshape(-1, 3)
    sums = np.zeros((int(place.max(initial=-1)) + 1, 3))
    np.add.at(sums, place, weighted)
    result = unit(sums[place]).reshape(-1, 3, 3)
    # where faces take each other back, as on both sides of a sheet without thickness, each goes its own way
    lost = (result * faces[:, None, :]).sum(-1) < SIDEWAYS
    return np.where(lost[..., None], faces[:, None, :], result)


def held_spans(corners: NDArray[np.float64], span: Span, handles: Sequence[Handle]) -> NDArray[np.float64]:
    """Return the reach at corners (T, 3, 3) of an object's own space, (T, 3, 2): its own, less so near handles.

    Weights fall with the square of the distance (Shepard 1968, doi:10.1145/800186.810616).
    """
    result: NDArray[np.float64] = np.broadcast_to(np.array(span, np.float64), (*corners.shape[:2], 2))
    if not handles or not len(corners):
        return result
    flat = corners.reshape(-1, 3)
    size = max(float(np.linalg.norm(np.ptp(flat, axis=0))), 1e-12)
    total = np.full(corners.shape[:2], 1.0 / (HELD * size) ** 2)
    values = result * total[..., None]
    for handle in handles:
        weight = 1.0 / np.maximum(((corners - np.array(handle.place)) ** 2).sum(-1), (1e-6 * size) ** 2)
        total = total + weight
        values = values + weight[..., None] * np.array(handle.span)
    blended: NDArray[np.float64] = values / total[..., None]
    return blended


def low_rows(
    scene: Scene,
    key: str,
    span: Span,
    handles: Sequence[Handle] = (),
    cage: tuple[Scene, str] | None = None,
) -> NDArray[np.float64]:
    """Return for the corners of an object what its texels are probed by, (T, 3, 9), in the world.

    Place, direction (with a cage: the way to it), out (with a cage: -1), in, and whether one two-sided sheet stands for
    both sides of the object there (`mark_single_sheets`; at first not).
    """
    item = scene.object(key)
    corners = world_corners(scene, item)
    rows = np.zeros((len(corners), 3, ROW))
    rows[..., :3] = corners
    if cage is not None:
        rows[..., 3:6] = world_corners(cage[0], cage[0].object(cage[1])) - rows[..., :3]
        rows[..., 6], rows[..., 7] = -1.0, span[1]
        return rows
    rows[..., 3:6] = smoothed_normals(scene, item)
    local = [one.positions.astype(np.float64)[one.triangles] for one in scene.primitives_of(item)]
    rows[..., 6:8] = held_spans(np.concatenate([np.zeros((0, 3, 3)), *local]), span, handles)
    return rows


def surface_points(corners: NDArray[np.float64], count: int) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    """Return triangles and weights (N, 3) of points that are spread evenly over a surface of triangles (T, 3, 3)."""
    areas = 0.5 * np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
    steps = np.cumsum(areas)
    if not len(steps) or not steps[-1] > 0:
        return np.zeros(0, np.int64), np.zeros((0, 3))
    order = np.arange(count)
    triangles = np.searchsorted(steps, (order + 0.5) / count * steps[-1]).clip(0, len(corners) - 1)
    # additive recurrences of the plastic number (Roberts 2018) over the unit square, folded onto the triangle
    a, b = (order * 0.7548776662466927) % 1.0, (order * 0.5698402909980532) % 1.0
    root = np.sqrt(a)
    weights = np.stack([1.0 - root, root * (1.0 - b), root * b], axis=1)
    return triangles.astype(np.int64), weights


def span_between(scene: Scene, key: str, partners: RayTargets, diagonal: float, progress: Progress = SILENT) -> Span:
    """Return the reach, out and in, that holds the partners' surfaces as seen from an object, metres."""
    item = scene.object(key)
    own = RayTargets(scene, [key])
    corners, directions = own.corners(), fix_winding(scene, item, smoothed_normals(scene, item))
    if not len(corners) or not len(partners.owner):
        return SPARE * diagonal, SPARE * diagonal
    faces = unit(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]))
    cosine = np.abs((directions * faces[:, None, :]).sum(-1))
    slant = 1.0 / float(np.clip(np.percentile(cosine, 1), 0.5, 1.0))
    far = MOST * diagonal
    # from points of the high-poly to the low-poly, and from the middles of facets to the high-poly
    spread = partners.points(LOOKED_AT)
    progress.check()
    number, where = own.nearest(spread, far)
    mask = number >= 0
    foot, way = (_blended(values[number[mask]], where[mask]) for values in (corners, directions))
    heights = [np.sign(((spread[mask] - foot) * way).sum(-1)) * where[mask, 2]]
    triangles, weights = surface_points(corners, 4 * FORESEEN)
    met, way = (np.einsum("nij,ni->nj", values[triangles], weights) for values in (corners, directions))
    progress.check()
    number, where = partners.nearest(met, far)
    mask = number >= 0
    away = _blended(partners.corners()[number[mask]], where[mask]) - met[mask]
    heights.append(np.sign((away * way[mask]).sum(-1)) * where[mask, 2])
    height = np.concatenate([*heights, np.zeros(1)])
    out, into = float(height.max()), -float(height.min())
    return min(out * slant * 1.1, far) + SPARE * diagonal, min(into * slant * 1.1, far) + SPARE * diagonal


def mark_single_sheets(rows: NDArray[np.float64], own: RayTargets, partners: RayTargets) -> None:
    """Mark in rows (T, 3, 9) the sides of a low-poly that meet hardly any fronts, only backs of two-sided surfaces.

    A cloth modelled as one two-sided sheet stands for the front and the back of a low-poly that has both: its back is
    then read from anywhere, as far as the ray goes. Where each side has a surface of its own, what lies behind the
    middle belongs to the other side.
    """
    if not partners.sides.any() or not len(rows) or (rows[:, 0, 6] < 0).all():
        return
    corners = rows[..., :3]
    side = EdgeGraph(corners).flat_regions(ONE_SIDE)
    triangles, weights = surface_points(corners, 4 * FORESEEN)
    if not len(triangles):
        return
    met, where = np.empty(len(triangles), np.int64), np.empty((len(triangles), 4))
    single = rows.copy()
    single[..., 8] = 1.0
    probe_points(triangles, weights, single, partners.tree, partners.numbers, partners.sides, own.tree, met, where)
    count = int(side.max()) + 1
    owner = side[triangles]
    every, fronts = (
        np.bincount(owner[chosen], minlength=count) for chosen in (met >= 0, (met >= 0) & (where[:, 3] > 0))
    )
    alone = (every >= JUDGED) & (fronts < FRONTS * every)
    rows[alone[side], :, 8] = 1.0


def _blended(values: NDArray[np.float64], where: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return values at corners (N, 3, K) at the weights of places, (N, K)."""
    u, v = where[:, 0], where[:, 1]
    result: NDArray[np.float64] = np.einsum("nij,ni->nj", values, np.stack([1.0 - u - v, u, v], axis=1))
    return result


def foreseen_missed(rows: NDArray[np.float64], own: RayTargets, partners: RayTargets) -> float:
    """Return the part of an object's surface whose rays are likely to meet nothing."""
    triangles, weights = surface_points(rows[..., :3], FORESEEN)
    if not len(triangles):
        return 0.0
    result, where = np.empty(len(triangles), np.int64), np.empty((len(triangles), 4))
    probe_points(triangles, weights, rows, partners.tree, partners.numbers, partners.sides, own.tree, result, where)
    return float((result < 0).mean())
