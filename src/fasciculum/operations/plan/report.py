"""Plans as JSON, and as words."""

from __future__ import annotations

import math
from typing import Any

from fasciculum.model.choices import Treatment
from fasciculum.model.scene import Scene
from fasciculum.operations.plan.plan import Plan, PlannedBundle, Plans
from fasciculum.units import MIB, texture_bytes

VERSION = 1


def _number(value: float) -> float | None:
    return round(value, 4) if math.isfinite(value) else None


def _bundle_entry(scene: Scene, plan: PlannedBundle) -> dict[str, Any]:
    laid = [index for index, way in plan.ways if way not in (Treatment.APART, Treatment.SWATCH)]
    materials = []
    for index, way in plan.ways:
        slots = scene.materials[index].slots().values() if index >= 0 else ()
        images = {scene.images[slot.image].pixels: scene.images[slot.image] for slot in slots}
        apart = sum(texture_bytes(image.width, image.height) for image in images.values())
        share = plan.bytes // max(len(laid), 1) if index in laid else 0
        kept = 1.0 if way is Treatment.APART else _number(plan.sharpness)
        materials.append(
            {
                "material": scene.material_name(index),
                "way": str(way),
                "texture_bytes": apart if way is Treatment.APART else share,
                "yield": None if way is Treatment.SWATCH or not slots else kept,
            }
        )
    return {
        "name": plan.name,
        "size": None if plan.size is None else list(plan.size),
        "objects": list(plan.objects),
        "materials": materials,
    }


def _plan_entry(scene: Scene, plan: Plan) -> dict[str, Any]:
    return {
        "name": plan.name,
        "draw_calls": plan.draw_calls,
        "materials": plan.materials,
        "texture_bytes": plan.texture_bytes,
        "yield": None if math.isnan(plan.p10) else {"p10": _number(plan.p10), "median": _number(plan.median)},
        "vertices_added": plan.added,
        "on_front": plan.on_front,
        "bundles": [_bundle_entry(scene, bundle) for bundle in plan.bundles],
    }


def plans_report(scene: Scene, plans: Plans) -> dict[str, Any]:
    """Return plans as `plan --json` prints them: those with names first, then the others of the front."""
    names = {plan.point for plan in plans.named.values()}
    others = [plan for plan in plans.front if plan.point not in names]
    entries = [_plan_entry(scene, plan) for plan in plans.named.values()]
    for number, plan in enumerate(others, 1):
        entries.append(_plan_entry(scene, plan) | {"name": f"front {number}"})
    return {
        "version": VERSION,
        "now": {
            "draw_calls": plans.now.draw_calls,
            "materials": plans.now.materials,
            "texture_bytes": plans.now.texture_bytes,
        },
        "plans": entries,
    }


def plans_words(plans: Plans) -> str:
    """Return the plans with names as a small table."""
    lines = [f"{'':10} {'draw calls':>10} {'materials':>10} {'memory':>11} {'sharpness':>10}"]
    now = plans.now
    rows = [("source", now.draw_calls, now.materials, now.texture_bytes, 1.0)]
    rows += [(name, one.draw_calls, one.materials, one.texture_bytes, one.p10) for name, one in plans.named.items()]
    for name, calls, materials, size, p10 in rows:
        sharp = "-" if math.isnan(p10) else f"{p10:.2f}"
        lines.append(f"{name:10} {calls:>10} {materials:>10} {size / MIB:>7.2f} MiB {sharp:>10}")
    lines.append(f"{len(plans.front)} plans on the front; sharpness is what nine tenths of the surface keep.")
    return "\n".join(lines)
