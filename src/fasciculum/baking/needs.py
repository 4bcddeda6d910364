"""Which maps a bundle's materials need, and what its one material is otherwise."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from fasciculum.model.maps import BASE_COLOR, EMISSIVE, NORMAL, ORM
from fasciculum.model.scene import DEFAULT_MATERIAL, MASK, Material, Object, Scene


@dataclass(frozen=True)
class Needs:
    """What it takes to stand for a set of materials with one."""

    maps: tuple[str, ...]
    metallic: float
    roughness: float
    strength: float
    double_sided: bool
    unlit: bool
    cutoff: float | None
    #: constants of the extensions that all the materials agree on
    extensions: dict[str, Any] = field(default_factory=dict)


def materials_needed(scene: Scene, objects: tuple[Object, ...]) -> list[Material]:
    """Return the distinct materials of the objects."""
    used = sorted({index for item in objects for index in scene.materials_of(item)})
    return [DEFAULT_MATERIAL if index < 0 else scene.materials[index] for index in used]


def needs_of(scene: Scene, objects: tuple[Object, ...], *, wanted: tuple[str, ...] = ()) -> Needs:
    """Work out the maps that the objects' materials need.

    Parameters
    ----------
    wanted : tuple of str
        Maps asked for; empty means those that are needed.
    """
    materials = materials_needed(scene, objects)

    def reads(material: Material, role: str) -> bool:
        slot = getattr(material, role)
        return slot is not None and not scene.images[slot.image].missing

    unlit = bool(materials) and all(material.unlit for material in materials)
    constants = {(material.metallic_factor, material.roughness_factor) for material in materials}
    varied = len(constants) > 1 or any(
        reads(material, "metallic_roughness") or reads(material, "occlusion") for material in materials
    )
    glow = max((max(material.emissive_factor) * material.emissive_strength for material in materials), default=0.0)
    needed = {
        BASE_COLOR: True,
        NORMAL: not unlit and any(reads(material, "normal") for material in materials),
        ORM: not unlit and varied,
        EMISSIVE: not unlit and glow > 0,
    }
    metallic, roughness = (1.0, 1.0) if varied or not constants else next(iter(constants))
    masked = any(material.alpha_mode == MASK for material in materials)
    return Needs(
        maps=tuple(wanted) or tuple(kind.name for kind, need in needed.items() if need),
        metallic=metallic,
        roughness=roughness,
        strength=max(glow, 1e-6) if glow > 0 else 1.0,
        double_sided=any(material.double_sided for material in materials),
        unlit=unlit,
        cutoff=0.5 if masked else None,
        extensions=materials[0].extensions if len({material.look for material in materials}) == 1 else {},
    )
