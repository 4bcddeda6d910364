"""UV sets of many objects at once: what is in them, and adding, copying, swapping, naming and removing them."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from fasciculum.model.document import UvEdit
from fasciculum.model.scene import Mesh, Object, Primitive, Scene
from fasciculum.progress import SILENT, Progress
from fasciculum.uv.corners import corners_of
from fasciculum.uv.overlaps import covered_areas, overlapping_objects
from fasciculum.uv.sets import sets_of
from fasciculum.uv.stretch import measure_stretch

#: more sets than this are not made
MOST = 8
#: triangles that are measured for one answer
MOST_MEASURED = 400_000
#: part of what an object covers from which it counts as lying on itself
STACKED = 1e-4


@dataclass(frozen=True)
class SetFigures:
    """One UV set over some objects.

    ``objects`` counts those that have it, ``readers`` those whose material reads it; ``span`` is how far an object's
    whole set reaches at most in u and v, in repeats; ``overlap`` the part of what an object covers that more than one
    of its triangles covers, over all objects; ``stacked`` are the objects that cover something twice, ``meeting`` those
    that lie on others of the same material; ``stretch`` the L2 stretch.
    """

    number: int
    name: str
    objects: int
    readers: int
    span: tuple[float, float]
    overlap: float
    stretch: float
    stacked: tuple[str, ...] = ()
    meeting: tuple[str, ...] = ()


def set_name(scene: Scene, item: Object, number: int) -> str:
    """Return what a UV set of an object is called."""
    names = scene.meshes[scene.nodes[item.node].mesh].uv_names
    own = names[number] if number < len(names) else ""
    return own or f"set {number}"


def measure_sets(scene: Scene, keys: Sequence[str], *, progress: Progress = SILENT) -> list[SetFigures]:
    """Return the figures of every UV set that one of the objects has.

    Of many large objects the first are measured, `MOST_MEASURED` triangles in all; all are counted.
    """
    items = [scene.object(key) for key in keys]
    result, left = [], MOST_MEASURED
    deep: set[str] = set()
    for item in items:
        left -= sum(len(primitive.triangles) for primitive in scene.primitives_of(item))
        if left >= 0 or not deep:
            deep.add(item.key)
    for number in range(max((sets_of(scene, item) for item in items), default=0)):
        having, reading, span, stretch = 0, 0, np.zeros(2), 1.0
        once = twice = 0.0
        stacked: list[str] = []
        measured: dict[object, tuple[NDArray[np.float64], tuple[float, float], float]] = {}
        names: dict[str, int] = {}
        for item in progress.over(items, lambda item: f"Measuring {item.key}", total=len(items)):
            primitives = scene.primitives_of(item)
            reading += any(slot.uv_set == number for p in primitives for slot in scene.material_of(p).slots().values())
            if not any(primitive.has_uv(number) for primitive in primitives):
                continue
            having += 1
            name = set_name(scene, item, number)
            names[name] = names.get(name, 0) + 1
            if item.key not in deep:
                continue
            alike = scene.instance_key(item)
            if alike not in measured:
                measured[alike] = _figures(scene, item, number)
            own_span, covered, own_stretch = measured[alike]
            span, stretch = np.maximum(span, own_span), max(stretch, own_stretch)
            once, twice = once + covered[0], twice + covered[1]
            stacked += [item.key] if covered[1] > STACKED * covered[0] else []
        if having:
            name = max(names, key=lambda name: names[name])
            share = twice / once if once > 0 else 0.0
            met = overlapping_objects(scene, [item for item in items if item.key in deep], number)
            result.append(
                SetFigures(
                    number,
                    name,
                    having,
                    reading,
                    (float(span[0]), float(span[1])),
                    share,
                    float(stretch),
                    tuple(stacked),
                    tuple(met),
                )
            )
    return result


def _figures(scene: Scene, item: Object, number: int) -> tuple[NDArray[np.float64], tuple[float, float], float]:
    """Return how far an object's set reaches in u and v, the areas that it covers once and twice, and its stretch."""
    corners = corners_of(scene, item, uv_set=number)
    usable = np.isfinite(corners.source).all(axis=(1, 2))
    if not usable.any():
        return np.zeros(2), (0.0, 0.0), 1.0
    world, uvs = corners.world[usable], corners.source[usable]
    l2 = measure_stretch(world, uvs).l2
    reach = np.ptp(uvs.reshape(-1, 2), axis=0)
    return reach, covered_areas(uvs), l2 if np.isfinite(l2) else 1e9


# -- changes ------------------------------------------------------------------------------------------------------


def edited(scene: Scene, edit: UvEdit) -> Scene:
    """Return the scene with one change to UV sets made; objects that are not there are passed over."""
    present = {item.key for item in scene.objects}
    items = [scene.object(key) for key in edit.objects if key in present]
    if edit.kind == "read":
        return _reading(scene, items, edit.target)
    changes: dict[str, Callable[[Primitive], Primitive]] = {
        "add": lambda primitive: _put(primitive, edit.target, np.zeros((len(primitive.positions), 2), np.float32)),
        "copy": lambda primitive: _copied(primitive, edit.source, edit.target),
        "swap": lambda primitive: _swapped(primitive, edit.source, edit.target),
        "delete": lambda primitive: _deleted(primitive, edit.target),
        "rename": lambda primitive: primitive,
    }
    change = changes[edit.kind]
    meshes = list(scene.meshes)
    done: set[tuple[int, int]] = set()
    materials: dict[int, int] = {}
    result = scene
    for item in items:
        number = scene.nodes[item.node].mesh
        primitives = list(meshes[number].primitives)
        for index in item.primitives:
            if (number, index) not in done:
                done.add((number, index))
                primitives[index] = change(primitives[index])
        meshes[number] = replace(
            meshes[number], primitives=tuple(primitives), uv_names=_names(meshes[number], edit, number not in materials)
        )
        materials[number] = 1
    result = replace(scene, meshes=tuple(meshes))
    return _after_delete(result, items, edit.target) if edit.kind == "delete" else result


def _names(mesh: Mesh, edit: UvEdit, first: bool) -> tuple[str, ...]:
    names = list(mesh.uv_names)
    names += [""] * (max(edit.source, edit.target) + 1 - len(names))
    if not first:
        return mesh.uv_names
    if edit.kind in ("rename", "add"):
        names[edit.target] = edit.name
    elif edit.kind == "swap":
        names[edit.source], names[edit.target] = names[edit.target], names[edit.source]
    elif edit.kind == "delete":
        del names[edit.target]
    return tuple(names) if any(names) else ()


def _put(primitive: Primitive, number: int, uvs: NDArray[np.float32]) -> Primitive:
    sets = list(primitive.uv_sets)
    sets += [np.zeros((0, 2), np.float32)] * (number + 1 - len(sets))
    sets[number] = uvs
    return replace(primitive, uv_sets=tuple(sets))


def _copied(primitive: Primitive, source: int, target: int) -> Primitive:
    return _put(primitive, target, primitive.uv_sets[source]) if primitive.has_uv(source) else primitive


def _swapped(primitive: Primitive, one: int, two: int) -> Primitive:
    empty = np.zeros((0, 2), np.float32)
    first = primitive.uv_sets[one] if one < len(primitive.uv_sets) else empty
    second = primitive.uv_sets[two] if two < len(primitive.uv_sets) else empty
    return _trimmed(_put(_put(primitive, one, second), two, first))


def _deleted(primitive: Primitive, number: int) -> Primitive:
    return replace(primitive, uv_sets=tuple(uvs for index, uvs in enumerate(primitive.uv_sets) if index != number))


def _trimmed(primitive: Primitive) -> Primitive:
    sets = primitive.uv_sets
    while sets and not len(sets[-1]):
        sets = sets[:-1]
    return replace(primitive, uv_sets=sets)


def _reading(scene: Scene, items: Iterable[Object], number: int) -> Scene:
    """Let the objects' materials read a UV set; materials that others use too become their own."""
    return _with_materials(scene, items, lambda _: number)


def _after_delete(scene: Scene, items: Iterable[Object], gone: int) -> Scene:
    """Let materials that read sets after the one that is gone read them under their new numbers."""
    return _with_materials(scene, items, lambda number: number - 1 if number > gone else number)


def _with_materials(scene: Scene, items: Iterable[Object], change: Callable[[int], int]) -> Scene:
    meshes, materials = list(scene.meshes), list(scene.materials)
    made: dict[int, int] = {}
    done: set[tuple[int, int]] = set()
    for item in items:
        number = scene.nodes[item.node].mesh
        primitives = list(meshes[number].primitives)
        for index in item.primitives:
            primitive = primitives[index]
            if primitive.material < 0 or (number, index) in done:
                continue
            done.add((number, index))
            if primitive.material not in made:
                old = materials[primitive.material]
                slots = {role: replace(slot, uv_set=change(slot.uv_set)) for role, slot in old.slots().items()}
                if slots == old.slots():
                    made[primitive.material] = primitive.material
                else:
                    materials.append(replace(old, **slots))  # type: ignore[arg-type]
                    made[primitive.material] = len(materials) - 1
            primitives[index] = replace(primitive, material=made[primitive.material])
        meshes[number] = replace(meshes[number], primitives=tuple(primitives))
    return _without_unused(replace(scene, meshes=tuple(meshes), materials=tuple(materials)), made)


def _without_unused(scene: Scene, instead: dict[int, int]) -> Scene:
    """Let new materials take the place of those that nothing uses any more, so that none is counted twice."""
    used = {primitive.material for mesh in scene.meshes for primitive in mesh.primitives}
    used |= {aside.material for mesh in scene.meshes for aside in mesh.aside}
    materials = list(scene.materials)
    moves = {new: old for old, new in instead.items() if new != old and old not in used}
    if not moves:
        return scene
    for new, old in moves.items():
        materials[old] = materials[new]
    keep = [index for index in range(len(materials)) if index not in moves]
    number = {index: place for place, index in enumerate(keep)}
    number |= {new: number[old] for new, old in moves.items()}
    meshes = tuple(
        replace(
            mesh,
            primitives=tuple(replace(p, material=number.get(p.material, p.material)) for p in mesh.primitives),
            aside=tuple(replace(a, material=number.get(a.material, a.material)) for a in mesh.aside),
        )
        for mesh in scene.meshes
    )
    return replace(scene, meshes=meshes, materials=tuple(materials[index] for index in keep))


def also_changed(scene: Scene, keys: Sequence[str]) -> list[str]:
    """Return the other objects that draw the same meshes as those given: what is done to one is done to all."""
    meshes = {scene.nodes[scene.object(key).node].mesh for key in keys}
    chosen = set(keys)
    return [item.key for item in scene.objects if scene.nodes[item.node].mesh in meshes and item.key not in chosen]
