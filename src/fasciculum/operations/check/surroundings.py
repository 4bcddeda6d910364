"""Copies on one place whose surroundings differ: what of computed maps is then wrong for all but the first."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import replace
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.baking.casting import Tree, tree_of, triangles_of
from fasciculum.baking.occlusion import OFF, radii_of, rays_of
from fasciculum.kernels.rays.occlusion import open_at
from fasciculum.model.bake_settings import BakeSettings
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import Casts, Copies, TwinRule
from fasciculum.model.layout import Layout
from fasciculum.model.maps import KINDS, Values
from fasciculum.model.scene import Image, Scene

#: triangles of each object that are looked at, and rays from each
LOOKED_AT, RAYS = 64, 16
#: mean difference in openness from which anybody sees that copies share a place
VISIBLE = 0.08


def unlike_copies(
    scene: Scene, bundle: Bundle, layout: Layout, pixels: Callable[[Image], NDArray[Any]]
) -> tuple[tuple[str, float], ...]:
    """Return the copies that share the places of another object though they stand otherwise, and by how much.

    Returns
    -------
    tuple of (str, float)
        Objects, and the mean difference of their openness, 0 to 1, from the object that was baked.
    """
    cast = any(KINDS[name].source is Values.RAYS for name in bundle.bake.named)
    shared = [surface for surface in layout.surfaces if len(surface.objects) > 1 and scene.has(surface.objects[0])]
    if not cast or not shared or bundle.bake.ao_of is Casts.SELF:
        return ()
    rays = rays_of(bundle.bake)
    every = [item.key for item in scene.objects]
    casting = every if rays.casts is Casts.SCENE else bundle.objects
    tree, _ = tree_of([(scene, key) for key in casting], pixels)
    radius = radii_of(scene, bundle.objects, rays)[0]
    results = []
    for surface in shared:
        results += [
            (key, round(away, 3)) for key, away in _away(scene, surface.objects, tree, radius) if away > VISIBLE
        ]
    return tuple(results)


def with_parted(scene: Scene, bundle: Bundle) -> Bundle:
    """Return a bundle whose copies lie apart that stand otherwise than the first of them, where that is asked for.

    What layers lie on lies apart in any case: they are projected onto where it is.
    """
    if scene.layers and bundle.sheet_in_force.twins:
        covered = [key for key in bundle.objects if scene.has(key) and scene.stack(key)]
        rules = dict(bundle.twin_rules) | dict.fromkeys(covered, TwinRule.APART)
        bundle = replace(bundle, twin_rules=tuple(sorted(rules.items())))
    bake = bundle.bake
    cast = any(KINDS[name].source is Values.RAYS for name in bake.named)
    if bake.copies is not Copies.PART or not cast or bake.ao_of is Casts.SELF or not bundle.sheet_in_force.twins:
        return bundle
    rules = dict(bundle.twin_rules) | dict.fromkeys(_standing_otherwise(scene, bundle.objects, bake), TwinRule.APART)
    return replace(bundle, twin_rules=tuple(sorted(rules.items())))


@lru_cache(maxsize=16)
def _standing_otherwise(scene: Scene, objects: tuple[str, ...], bake: BakeSettings) -> tuple[str, ...]:
    """Return the copies of one mesh whose openness differs visibly from that of the first."""
    copies: dict[object, list[str]] = {}
    for key in objects:
        copies.setdefault(scene.instance_key(scene.object(key)), []).append(key)
    several = [keys for keys in copies.values() if len(keys) > 1]
    if not several:
        return ()
    rays = rays_of(bake)
    every = [item.key for item in scene.objects]
    tree, _ = tree_of([(scene, key) for key in (every if rays.casts is Casts.SCENE else objects)], None)
    radius = radii_of(scene, objects, rays)[0]
    return tuple(key for keys in several for key, away in _away(scene, keys, tree, radius) if away > VISIBLE)


def _away(scene: Scene, keys: Iterable[str], tree: Tree, radius: float) -> Iterator[tuple[str, float]]:
    """Return for copies the mean difference of their openness from that of the first."""
    first: NDArray[np.float64] | None = None
    for key in keys:
        places = _places(scene, key)
        openness = np.empty(len(places))
        open_at(places, tree, RAYS, radius, OFF * max(radius, 1e-3) * 10, -np.inf, openness)
        if first is None:
            first = openness
        elif len(first) == len(openness):
            yield key, float(np.abs(first - openness).mean())


def _places(scene: Scene, key: str) -> NDArray[np.float64]:
    """Return the middles of some triangles of an object with their normals twice, (N, 9); copies give the same ones."""
    item = scene.object(key)
    corners = np.concatenate([triangles_of(scene, item, one) for one in scene.primitives_of(item)]).astype(np.float64)
    step = max(len(corners) // LOOKED_AT, 1)
    chosen = corners[::step][:LOOKED_AT]
    normals = np.cross(chosen[:, 1] - chosen[:, 0], chosen[:, 2] - chosen[:, 0])
    normals /= np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-12)
    return np.concatenate([chosen.mean(axis=1), normals, normals], axis=1)
