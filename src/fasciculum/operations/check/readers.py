"""What reads patches, as surfaces of its own, so that it is compared with its source as islands are."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from fasciculum.model.choices import Treatment
from fasciculum.model.layout import Layout, Surface
from fasciculum.model.scene import Mesh, Object, Primitive, Scene
from fasciculum.treatments.cutting import cut_at_repeats
from fasciculum.treatments.regions import transform_uvs
from fasciculum.treatments.resolved import RegionUser, ResolvedBundle
from fasciculum.uv.corners import corners_of, surface_areas

#: a triangle within the middle of a swatch, texels: what reads one place has no area to be sampled on
SMALL = np.array([[-0.4, -0.4], [0.4, -0.4], [0.0, 0.4]], np.float64)


def with_readers(whole: Scene, on: ResolvedBundle, layout: Layout, objects: tuple[str, ...]) -> tuple[Scene, Layout]:
    """Return a bundle's scene and layout with a surface more for what of each object reads patches.

    Parameters
    ----------
    whole : Scene
        As it was gathered.
    on : ResolvedBundle
    layout : Layout
    objects : tuple of str
        The bundle's own.

    Returns
    -------
    Scene, Layout
        An object of the same name stands for what of it reads patches where it has no islands; else its name has a
        mark behind it, which `plain_name` takes off.
    """
    scene = on.scene
    nodes, meshes, items = list(scene.nodes), list(scene.meshes), list(scene.objects)
    groups: dict[object, list[str]] = {}
    for key in objects:
        readers = list(on.readers_of(whole, key))
        if readers:
            item = whole.object(key)
            alike = whole.nodes[item.node].mesh, item.primitives, whole.shapes[key]
            groups.setdefault(alike, []).append(key)
    surfaces = list(layout.surfaces)
    laid = {item.key for item in items}
    for keys in groups.values():
        item = whole.object(keys[0])
        readers = list(on.readers_of(whole, keys[0]))
        cut = [_within(on, layout, reader) for reader in readers]
        primitives = tuple(primitive for primitive, _ in cut)
        meshes.append(Mesh(keys[0], primitives))
        names = []
        for key in keys:
            node = whole.nodes[whole.object(key).node]
            nodes.append(replace(node, mesh=len(meshes) - 1))
            names.append(key + MARK if key in laid else key)
            items.append(Object(names[-1], len(nodes) - 1, tuple(range(len(primitives))), item.alpha_mode))
        corners = np.concatenate([part for _, part in cut])
        one = replace(scene, nodes=tuple(nodes), meshes=tuple(meshes), objects=tuple(items[-1:]))
        area = float(surface_areas(corners_of(one, items[-1]).world).sum())
        count = len(corners)
        surfaces.append(Surface(tuple(names), corners, np.zeros(count, np.int32), np.zeros(count, np.bool_), area))
    more = len(surfaces) - len(layout.surfaces)
    rows = np.tile(np.array([1.0, 0, 0, 0, 1, 0]), (more, 1))
    grown = replace(layout, surfaces=tuple(surfaces), **layout.with_more_islands(rows))
    return replace(scene, nodes=tuple(nodes), meshes=tuple(meshes), objects=tuple(items)), grown


#: behind the name of an object that has islands too
MARK = " \u00b7 on patches"


def plain_name(key: str) -> str:
    """Return the name of the object that a surface is about."""
    return key.removesuffix(MARK)


def _within(on: ResolvedBundle, layout: Layout, reader: RegionUser) -> tuple[Primitive, NDArray[np.float64]]:
    """Return a reader's primitive and where its triangles lie; what repeats over a slice is cut at its sides."""
    which = on.slice_of(reader)
    if which < 0:
        return reader.primitive, _corners(on, layout, reader)
    patch = on.patches[reader.first]
    primitive, laid = cut_at_repeats(reader.primitive, transform_uvs(reader.flat, patch.uvs))
    left = (layout.own_tiles + which) * layout.width
    return primitive, laid * np.array([layout.width, layout.height]) + np.array([left, 0.0])


def _corners(on: ResolvedBundle, layout: Layout, reader: RegionUser) -> NDArray[np.float64]:
    """Return where a reader's triangles lie, each within the sheet, with an area to be sampled on."""
    corners: NDArray[np.float64] = on.sheet_corners(layout, reader)
    way = on.patches[reader.first].way
    if way is Treatment.SWATCH:
        return corners + SMALL
    if way is Treatment.LANE:
        shift = np.floor(corners[..., 0].mean(axis=1) / layout.width) * layout.width
        corners = corners - np.stack([shift, np.zeros(len(shift))], axis=1)[:, None, :]
    return corners
