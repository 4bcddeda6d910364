"""Objects of before found again in what was gathered anew, so that they keep their bundle, layout and share."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import replace
from operator import itemgetter

import numpy as np

from fasciculum.model.bundle import Bundle
from fasciculum.model.layout import Layout, Surface
from fasciculum.model.scene import Scene
from fasciculum.model.texturing import Texturing
from fasciculum.treatments.resolving import resolve_bundle


def _plain(key: str) -> str:
    """Return a key without the number that tells it from its namesakes."""
    return re.sub(r" \d+$", "", key)


def match_objects(shapes: Mapping[str, str], scene: Scene) -> dict[str, str]:
    """Return which object of a scene each earlier one is, by name and shape.

    Parameters
    ----------
    shapes : mapping
        Each earlier object's shape digest by its key; empty where it is not known.

    Returns
    -------
    dict
        From earlier keys to present ones; those without a counterpart are left out.
    """
    left = dict(shapes)
    free = {item.key: scene.shapes[item.key] for item in scene.objects}
    results: dict[str, str] = {}
    ways: list[Callable[[str, str], tuple[str, ...]]] = [
        lambda key, shape: (key, shape),
        lambda key, shape: (_plain(key), shape),
        lambda key, shape: (key,),
        lambda key, shape: ("", shape),
    ]
    for way in ways:
        waiting: dict[tuple[str, ...], list[str]] = {}
        for key, shape in free.items():
            waiting.setdefault(way(key, shape), []).append(key)
        for key, shape in list(left.items()):
            present = waiting.get(way(key, shape))
            if present and (shape or way is ways[2]):
                results[key] = present.pop(0)
                del left[key], free[results[key]]
    return results


def carried_bundle(bundle: Bundle, renamed: Mapping[str, str], scene: Scene) -> Bundle:
    """Return a bundle with its objects under their present keys; what is gone leaves the layout, the rest stays put."""
    objects = tuple(renamed[key] for key in bundle.objects if key in renamed)
    # what is laid out may be less than the objects have, and patches beside them
    laid = resolve_bundle(scene, replace(bundle, objects=objects, shapings=(), twin_rules=()))
    names = dict(renamed) | {patch.key: patch.key for patch in laid.patches}
    layout = None if bundle.layout is None else _carried_layout(bundle.layout, names, laid.scene)
    if objects == bundle.objects and layout is bundle.layout:
        return bundle
    shares = tuple(sorted((renamed[key], share) for key, share in bundle.shares if key in renamed))
    rules = tuple(sorted((renamed[key], rule) for key, rule in bundle.twin_rules if key in renamed))
    shapings = tuple(
        sorted(((renamed[key], shaping) for key, shaping in bundle.shapings if key in renamed), key=itemgetter(0))
    )
    kept = ((version, _carried_layout(version.layout, names, laid.scene)) for version in bundle.versions)
    versions = tuple(replace(version, layout=carried) for version, carried in kept if carried is not None)
    check = None
    if bundle.check is not None:
        entries = tuple(
            replace(entry, object=renamed[entry.object]) for entry in bundle.check.fidelity if entry.object in renamed
        )
        check = replace(bundle.check, fidelity=entries)
    texturing = _carried_texturing(bundle.texturing, renamed, scene) if layout is not None else None
    return replace(
        bundle,
        objects=objects,
        layout=layout,
        shares=shares,
        check=check,
        texturing=texturing,
        twin_rules=rules,
        versions=versions,
        shapings=shapings,
    )


def _carried_texturing(texturing: Texturing | None, renamed: Mapping[str, str], scene: Scene) -> Texturing | None:
    """Return maps with their light sheet under present keys; without it the maps on it are gone."""
    if texturing is None or texturing.light_layout is None:
        return texturing
    light = _carried_layout(texturing.light_layout, renamed, scene)
    if light is not None:
        return replace(texturing, light_layout=light)
    return replace(texturing, light_layout=None, maps=tuple(one for one in texturing.maps if not one.tex_coord))


def _carried_layout(layout: Layout, renamed: Mapping[str, str], scene: Scene) -> Layout | None:
    starts = layout.starts
    surfaces: list[Surface] = []
    rows: list[int] = []
    changed = False
    for index, surface in enumerate(layout.surfaces):
        keys = tuple(
            renamed[key]
            for key in surface.objects
            if key in renamed
            and scene.has(renamed[key])
            and triangle_count(scene, renamed[key]) == len(surface.corners)
        )
        changed |= keys != surface.objects
        if keys:
            surfaces.append(surface if keys == surface.objects else replace(surface, objects=keys))
            rows += range(starts[index], starts[index + 1])
    if not changed:
        return layout
    if not surfaces:
        return None
    kept = np.array(rows, np.int64)
    _, places = np.unique(layout.places[kept], return_inverse=True)
    return replace(
        layout,
        surfaces=tuple(surfaces),
        **layout.islands_at(kept) | {"places": places.reshape(-1).astype(np.int32)},
    )


def triangle_count(scene: Scene, key: str) -> int:
    """Return how many triangles an object has."""
    return sum(len(primitive.triangles) for primitive in scene.primitives_of(scene.object(key)))
