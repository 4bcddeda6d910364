"""Check any delivered file by its own texture coordinates and textures."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any

import numpy as np

from fasciculum.checks.check import Facts, Measure, Scope
from fasciculum.checks.registry import checks_of, run_checks
from fasciculum.io.pixels import PixelStore
from fasciculum.model.budget import NO_BUDGET, Budget
from fasciculum.model.finding import Finding
from fasciculum.model.scene import Scene
from fasciculum.operations.check.budgets import budget_findings, judged, triangles_of
from fasciculum.operations.gather.gather import gather
from fasciculum.operations.ledger import cost_of
from fasciculum.operations.report import finding_entry, number
from fasciculum.packing.verify import verify
from fasciculum.progress import SILENT, Progress
from fasciculum.units import MIB
from fasciculum.uv.corners import corners_of, main_uv_set, signed_uv_areas, surface_areas
from fasciculum.uv.density import density
from fasciculum.uv.islands import find_islands
from fasciculum.uv.stretch import measure_stretch


def inspect_delivered(
    named: str,
    store: PixelStore,
    *,
    budget: Budget = NO_BUDGET,
    known: Mapping[str, float] | None = None,
    progress: Progress = SILENT,
) -> tuple[dict[str, Any], list[Finding]]:
    """Measure a delivered model: for each material, its sheet as its leading texture and UVs tell it.

    Instances of one mesh count once, since they lie on one place. ``known`` are figures for the budget that a file
    alone does not tell.
    """
    scene, noticed = gather([named], store, progress=progress.part(0, 0.5))
    bundles = []
    overlaps: dict[str, float] = {}
    for index, material in enumerate(scene.materials):
        entry = _sheet_of(scene, index)
        if entry is not None:
            bundles.append({"name": material.name, "alpha_mode": material.alpha_mode, **entry})
            overlaps[material.name] = entry["sheet"]["overlap_area"] or 0.0
    facts = Facts(scene, measured={Measure.OVERLAPS: overlaps})
    findings = [*noticed, *run_checks(checks_of(Scope.DELIVERED), facts)]
    cost = cost_of(scene, tuple(item.key for item in scene.objects))
    values: dict[str, float | None] = {
        "draw_calls": float(cost.draw_calls),
        "texture_mib": cost.texture_bytes / MIB,
        "triangles": float(triangles_of(scene)),
        **(known or {}),
    }
    limits = judged(budget, values)
    findings += budget_findings(limits)
    figures = {
        "draw_calls": cost.draw_calls,
        "materials": cost.materials,
        "textures": cost.textures,
        "texture_bytes": cost.texture_bytes,
    }
    report = {
        "version": 1,
        "name": named,
        "sources": [named],
        "bundles": bundles,
        "ledger": {"before": figures, "after": figures},
        "budget": [one.entry for one in limits],
        "findings": [finding_entry(finding) for finding in findings],
        "seconds": {},
        "files": [],
    }
    return report, findings


def _sheet_of(scene: Scene, index: int) -> dict[str, Any] | None:
    """Return the sheet figures of one material, None when it has no texture to lie on."""
    material = scene.materials[index]
    sizes = [
        (scene.images[slot.image].width, scene.images[slot.image].height)
        for slot in material.slots().values()
        if not scene.images[slot.image].missing
    ]
    if not sizes:
        return None
    width, height = max(sizes)
    seen: set[tuple[int, int]] = set()
    flats, worlds, labels, objects, first = [], [], [], [], 0
    for item in scene.objects:
        mesh = scene.nodes[item.node].mesh
        corners = None
        for place, primitive in enumerate(scene.primitives_of(item)):
            if primitive.material != index:
                continue
            if item.key not in objects:
                objects.append(item.key)
            if (mesh, item.primitives[place]) in seen or not primitive.has_uv(main_uv_set(material, primitive)):
                continue
            seen.add((mesh, item.primitives[place]))
            corners = corners or corners_of(scene, item)
            chosen = corners.primitive == place
            uvs, world = corners.source[chosen], corners.world[chosen]
            islands = find_islands(world, uvs)
            flats.append(uvs)
            worlds.append(world)
            labels.append(islands + first)
            first += int(islands.max()) + 1 if len(islands) else 0
    if not flats:
        return None
    uvs, world = np.concatenate(flats), np.concatenate(worlds)
    texels = uvs * np.array([width, height], np.float64)
    label = np.concatenate(labels).astype(np.int32)
    result = verify(texels, label, width, height)
    areas, flat = surface_areas(world), np.abs(signed_uv_areas(texels))
    stretch = measure_stretch(world, texels)
    middle = density(flat, areas)
    return {
        "objects": objects,
        "sheet": {
            "width": width,
            "height": height,
            "tiles": 1,
            "padding": None,
            "islands": first,
            "twins": 0,
            "fill": number(float(flat.sum()) / (width * height)) or 0.0,
            "overlap_area": number(result.overlap),
            "min_gap_px": result.gap,
            "margin_px": result.border_gap,
            "clean_down_to_px": None,
        },
        "density": {"unit": "px/m", "p05": None, "median": number(middle, 1), "p95": None},
        "stretch": {
            "l2": number(stretch.l2) if math.isfinite(stretch.l2) else None,
            "area_share_over_2": number(stretch.share_over_2),
        },
    }
