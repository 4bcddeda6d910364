"""What the artist says about how single objects are laid flat, made from what is seen and picked."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from fasciculum.model.bundle import Bundle
from fasciculum.model.layout import Layout
from fasciculum.model.scene import Object, Scene
from fasciculum.model.unwrapping import HandFlat, Projection, Shaping
from fasciculum.operations.gather.matching import triangle_count
from fasciculum.uv.corners import corners_of
from fasciculum.uv.flatten import KEPT, REASONS, uv_seams
from fasciculum.uv.unwrap.reshape import Island

#: what can be made of an island's shape by hand
RESHAPES = ("relax", "straighten", "rectangle")


def own_frame(scene: Scene, item: Object) -> NDArray[np.float64]:
    """Return the 4 x 4 matrix from an object's own space (see `Corners.local`) to the world."""
    corners = corners_of(scene, item)
    own, world = corners.local.reshape(-1, 3), corners.world.reshape(-1, 3)
    linear = scene.nodes[item.node].world[:3, :3]
    result = np.eye(4)
    if not np.array_equal(own, world):
        size = np.sqrt(float(np.trace(linear.T @ linear)) / 3)
        result[:3, :3] = linear / size
        result[:3, 3] = scene.nodes[item.node].world[:3, 3]
    return result


def into_own(scene: Scene, key: str, projection: Projection) -> Projection:
    """Return a projection that is given in the world in an object's own space."""
    frame = own_frame(scene, scene.object(key))
    turn = frame[:3, :3]
    origin = (np.array(projection.origin) - frame[:3, 3]) @ turn
    axes = np.array(projection.axes).reshape(3, 3) @ turn
    return replace(
        projection,
        origin=(float(origin[0]), float(origin[1]), float(origin[2])),
        axes=tuple(float(value) for value in axes.ravel()),
    )


def with_projection(
    scene: Scene, key: str, before: Shaping, projection: Projection, triangles: Iterable[int] = ()
) -> Shaping:
    """Return what was said with a projection more, given in the world; it stands in for those on the same triangles."""
    count = triangle_count(scene, key)
    before = before.fitting(count)
    own = replace(into_own(scene, key, projection), triangles=tuple(sorted(triangles)))
    covered = set(own.triangles)
    others = tuple(
        one for one in before.projections if covered and not (one.triangles and set(one.triangles) <= covered)
    )
    hand = tuple(one for one in before.hand if covered and not covered & set(one.triangles))
    return replace(before, projections=(*others, own), hand=hand, count=count)


def with_seams(scene: Scene, key: str, before: Shaping, half_edges: Sequence[int], cut: bool) -> Shaping:
    """Return what was said with edges cut, or joined."""
    count = triangle_count(scene, key)
    before = before.fitting(count)
    chosen = set(half_edges)
    touched = {edge // 3 for edge in chosen}
    # an island made by hand has its border already: it is given up for the new one
    hand = tuple(one for one in before.hand if not touched & set(one.triangles))
    seams, joined = set(before.seams) - chosen, set(before.joined) - chosen
    seams, joined = (seams | chosen, joined) if cut else (seams, joined | chosen)
    return replace(before, seams=tuple(sorted(seams)), joined=tuple(sorted(joined)), hand=hand, count=count)


def reshaped(
    scene: Scene, layout: Layout, islands: Sequence[int], how: str
) -> tuple[dict[str, list[HandFlat]], Layout]:
    """Make islands of a layout over by hand.

    Parameters
    ----------
    islands : sequence of int
        Their numbers in the layout.
    how : str
        Of `RESHAPES`.

    Returns
    -------
    hand : dict
        For each object the islands that were made over.
    layout : Layout
        With the islands where they were, about their middles; not measured.
    """
    starts = layout.starts
    hand: dict[str, list[HandFlat]] = {}
    surfaces, placements = list(layout.surfaces), layout.placements.copy()
    for number in islands:
        index = int(np.searchsorted(starts, number, side="right")) - 1
        surface = surfaces[index]
        which = np.flatnonzero(surface.island == number - starts[index])
        own = corners_of(scene, scene.object(surface.objects[0])).local[which]
        island = Island(own, surface.corners[which])
        if how == "relax":
            island.relax()
        elif not (island.rectangle() if how == "rectangle" else island.straighten()):
            continue
        made = island.corners()
        made = made - made.reshape(-1, 2).min(axis=0)
        row = placements[number].reshape(2, 3)
        before = surface.corners[which].reshape(-1, 2)
        shift = (before.min(axis=0) + before.max(axis=0) - made.reshape(-1, 2).max(axis=0)) / 2
        placements[number] = np.column_stack([row[:, :2], row[:, :2] @ shift + row[:, 2]]).ravel()
        corners = surface.corners.copy()
        corners[which] = made
        surfaces[index] = replace(surface, corners=corners)
        flat = HandFlat(tuple(which.tolist()), tuple(made.ravel().tolist()))
        for key in surface.objects:
            hand.setdefault(key, []).append(flat)
    moved = replace(layout, surfaces=tuple(surfaces), placements=placements, gap=-1, border_gap=-1)
    return hand, moved


def with_hand(scene: Scene, key: str, before: Shaping, flats: Sequence[HandFlat]) -> Shaping:
    """Return what was said with islands made by hand, in place of those on the same triangles."""
    count = triangle_count(scene, key)
    before = before.fitting(count)
    covered = {triangle for one in flats for triangle in one.triangles}
    others = tuple(one for one in before.hand if not covered & set(one.triangles))
    return replace(before, hand=(*others, *flats), count=count)


def island_seams(scene: Scene, bundle: Bundle, key: str) -> NDArray[np.int64]:
    """Return the half-edges of an object at which islands of its layout end; empty without a layout."""
    layout = bundle.layout
    if layout is None or key not in layout.surface_numbers:
        return np.zeros(0, np.int64)
    surface = layout.surfaces[layout.surface_of(key)]
    corners = corners_of(scene, scene.object(key)).world
    if len(corners) != len(surface.corners):
        return np.zeros(0, np.int64)
    apart = float(np.ptp(surface.corners)) + 1.0
    flat = surface.corners + np.stack([surface.island * apart, np.zeros(len(corners))], axis=1)[:, None, :]
    return np.flatnonzero(uv_seams(corners, flat))


def reasons(why: NDArray[np.int64]) -> str:
    """Return what is done with an object's islands and why, in words."""
    kept = int((why == KEPT).sum())
    parts = [f"{kept} kept"] if kept else []
    for number in np.unique(why[why != KEPT]).tolist():
        count = int((why == number).sum())
        parts.append(f"{count} new: {REASONS[number]}")
    return ", ".join(parts)
