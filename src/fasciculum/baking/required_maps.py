"""Which maps a bundle's materials need, and what its one material is otherwise."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from fasciculum.model.bake_settings import BakeSettings
from fasciculum.model.choices import VertexColors
from fasciculum.model.maps import AUTO, BASE_COLOR, EMISSIVE, LIT, NORMAL, ORM, VERTEX_COLOR
from fasciculum.model.scene import DEFAULT_MATERIAL, MASK, Material, Object, Scene


@dataclass(frozen=True)
class RequiredMaps:
    """What it takes to stand for a set of materials with one.

    ``maps`` are baked; ``named`` of them were asked for by name, and are written even where they hold one value;
    ``unwritten`` are only needed for files packed of channels.
    """

    maps: tuple[str, ...]
    metallic: float
    roughness: float
    strength: float
    double_sided: bool
    unlit: bool
    cutoff: float | None
    #: constants of the extensions that all the materials agree on
    extensions: dict[str, Any] = field(default_factory=dict)
    named: tuple[str, ...] = ()
    unwritten: tuple[str, ...] = ()


def materials_needed(scene: Scene, objects: tuple[Object, ...]) -> list[Material]:
    """Return the distinct materials of the objects."""
    used = sorted({index for item in objects for index in scene.materials_of(item)})
    return [DEFAULT_MATERIAL if index < 0 else scene.materials[index] for index in used]


def _reads(scene: Scene, material: Material, role: str) -> bool:
    slot = getattr(material, role)
    return slot is not None and not scene.images[slot.image].missing


def _shown(scene: Scene, objects: tuple[Object, ...]) -> tuple[list[tuple[Scene, Material]], bool, bool]:
    """Return the materials whose values objects show, with the scenes that hold them.

    Those of high-poly partners stand in for an object's own. Beside them whether any has vertex colours, and whether
    there are partners at all.
    """
    detail = scene.detail
    sources: list[tuple[Scene, Object]] = []
    paired = False
    for item in objects:
        pair = detail.pair(item.key) if detail is not None else None
        if pair is not None and pair.high:
            assert detail is not None
            sources += [(detail.scene, detail.scene.object(key)) for key in pair.high]
            paired = True
        else:
            sources.append((scene, item))
    results: list[tuple[Scene, Material]] = []
    for where in (scene, *([detail.scene] if paired and detail is not None else [])):
        own = tuple(item for other, item in sources if other is where)
        results += [(where, material) for material in materials_needed(where, own)]
    colored = any(one.colors is not None for where, item in sources for one in where.primitives_of(item))
    return results, colored, paired


def needs_of(scene: Scene, objects: tuple[Object, ...], bake: BakeSettings | None = None) -> RequiredMaps:
    """Work out the maps that the objects' materials need, and those that a bundle's settings ask for."""
    bake = bake or BakeSettings()
    materials = materials_needed(scene, objects)
    shown, colored, paired = _shown(scene, objects)

    unlit = bool(materials) and all(material.unlit for material in materials)
    constants = {(material.metallic_factor, material.roughness_factor) for _, material in shown}
    varied = len(constants) > 1 or any(
        _reads(where, material, "metallic_roughness") or _reads(where, material, "occlusion")
        for where, material in shown
    )
    stacks = [layer for item in objects for layer in scene.stack(item.key)]
    varied = varied or any(layer.orm is not None for layer in stacks)
    glow = max((max(material.emissive_factor) * material.emissive_strength for _, material in shown), default=0.0)
    needed = {
        BASE_COLOR: True,
        NORMAL: not unlit
        and (
            paired
            or any(_reads(where, material, "normal") for where, material in shown)
            or any(layer.normal is not None for layer in stacks)
        ),
        ORM: not unlit and varied,
        EMISSIVE: not unlit and glow > 0,
        VERTEX_COLOR: bake.vertex_colors is VertexColors.DATA and colored,
    }
    automatic = tuple(kind.name for kind, need in needed.items() if need)
    # a look that is all in one map needs no other
    lit = (LIT.name,) if bake.lit_only else ()
    asked = tuple(dict.fromkeys((*(name for name in bake.maps if name != AUTO), *lit)))
    written = dict.fromkeys((*(automatic if AUTO in bake.maps or not asked else ()), *asked))
    unwritten = tuple(dict.fromkeys(name for file in bake.packed for name in file.maps if name not in written))
    metallic, roughness = (1.0, 1.0) if varied or not constants else next(iter(constants))
    masked = any(material.alpha_mode == MASK for material in materials)
    return RequiredMaps(
        maps=(*written, *unwritten),
        metallic=metallic,
        roughness=roughness,
        strength=max(glow, 1e-6) if glow > 0 else 1.0,
        double_sided=any(material.double_sided for material in materials),
        unlit=unlit,
        cutoff=0.5 if masked else None,
        extensions=materials[0].extensions if len({material.look for material in materials}) == 1 else {},
        named=asked,
        unwritten=unwritten,
    )
