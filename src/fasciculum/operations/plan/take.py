"""Take a plan: bundles with ways, sizes and shares as it says; and the ways that rules alone lead to."""

from __future__ import annotations

import math
from dataclasses import replace

from fasciculum.errors import UsageError
from fasciculum.model.bake_settings import BakeSettings
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import DensityRule, PieceRule, Repeats, Share, Treatment
from fasciculum.model.delivery import DeliverySettings
from fasciculum.model.maps import KINDS
from fasciculum.model.scene import Scene
from fasciculum.model.sheet import SheetSettings
from fasciculum.model.terms import Terms
from fasciculum.operations.plan.figures import HIGH_SHARE, PLAIN_SHARE
from fasciculum.operations.plan.plan import Plan, PlannedBundle, Planner, Plans, Point
from fasciculum.progress import SILENT, Progress
from fasciculum.treatments.apart import alike_materials
from fasciculum.treatments.flats import flat_values
from fasciculum.treatments.reading import SLACK, held_meshes, read_of, texels_of, users
from fasciculum.treatments.resolving import resolve_bundle
from fasciculum.treatments.sharing import share_texels, shareable, sharing_pays
from fasciculum.uv.density import figures_of


def planned_bundles(scene: Scene, plan: Plan, sheet: SheetSettings, bake: BakeSettings) -> tuple[Bundle, ...]:
    """Return the bundles of a plan; settings that it does not decide are those given."""
    return tuple(_bundle(scene, one, sheet, bake) for one in plan.bundles)


def _bundle(scene: Scene, planned: PlannedBundle, sheet: SheetSettings, bake: BakeSettings) -> Bundle:
    told = {text.partition(":")[0] for text in bake.wishes}
    wishes = tuple(
        f"{name}:size=1/{round(1 / part)}"
        for name, part in planned.parts
        if name in KINDS and part < 1 and name not in told
    )
    if planned.size is not None:
        sheet = replace(sheet, width=planned.size[0], height=planned.size[1])
    ways = tuple((scene.material_name(index), way) for index, way in planned.ways if way is not Treatment.BAKE)
    bundle = Bundle(
        planned.name, planned.objects, planned.mode, sheet, replace(bake, wishes=(*bake.wishes, *wishes)), ways=ways
    )
    if sheet.density is not DensityRule.KEEP:
        return bundle
    return replace(bundle, shares=even_yields(scene, bundle))


def even_yields(scene: Scene, bundle: Bundle) -> tuple[tuple[str, float], ...]:
    """Return shares that give all objects of a bundle, and its patches, the same yield."""
    work = resolve_bundle(scene, bundle)
    items = [work.scene.object(key) for key in work.bundle.objects]
    figures = figures_of(work.scene, items)
    fixed = {patch.key for patch in work.patches if patch.row is not None}
    densities = {patch.key: patch.density for patch in work.patches if patch.row is None}
    texels = area = 0.0
    # regions count as the surface that they stand for, or bare surfaces would go by the few islands that are left
    for patch in work.patches:
        if patch.row is None:
            surface = float((patch.boxes[:, 2:] - patch.boxes[:, :2]).prod(axis=1).sum())
            texels += surface * patch.density**2
            area += surface
    for key, one in figures.items():
        if key in fixed or key in densities or not math.isfinite(one.source_density):
            continue
        densities[key] = one.source_density
        texels += one.area * one.source_density**2
        area += one.area
    if not densities:
        return ()
    mean = math.sqrt(texels / area) if area > 0 else max(densities.values())
    shares = {}
    for key in figures:
        if key not in fixed:
            bare = HIGH_SHARE if key in scene.partners else PLAIN_SHARE
            shares[key] = round(densities[key] / mean, 4) if key in densities else bare
    return tuple(sorted((key, share) for key, share in shares.items() if share != 1.0 and share > 0))


def plans_for(scene: Scene, settings: DeliverySettings, terms: Terms, *, progress: Progress = SILENT) -> Plans:
    """Return all plans for a scene."""
    progress.update(0.0, "Comparing plans")
    return Planner(scene, settings).plans(terms, progress)


def take_plan(
    scene: Scene,
    settings: DeliverySettings,
    terms: Terms,
    name: str,
    point: Point = (0, 0, 0.0),
    *,
    progress: Progress = SILENT,
) -> tuple[Bundle, ...]:
    """Return the bundles of a plan: that of a name, or the one of the front with these figures.

    Raises
    ------
    UsageError
        When there is none.
    """
    progress.update(0.0, "Comparing plans")
    planner = Planner(scene, settings)
    plans = planner.plans(terms, progress)
    plan = plans.named.get(name) or next((one for one in plans.front if one.point == point), None)
    if plan is None:
        raise UsageError("there is no such plan any more.", hint="Choose another mark.")
    sheet = SheetSettings(padding=terms.padding, density=DensityRule.KEEP)
    return planned_bundles(scene, planner.gentle(plan, terms), sheet, BakeSettings())


def ruled_ways(
    scene: Scene,
    bundle: Bundle,
    repeats: Repeats,
    *,
    swatches: bool,
    most_repeats: float | None = None,
    share: Share = Share.NEVER,
) -> tuple[tuple[str, Treatment], ...]:
    """Return the ways that rules lead to, without weighing what they cost.

    Parameters
    ----------
    repeats : Repeats
        What is done with textures that repeat; by ``auto`` they are baked, or kept apart beyond ``most_repeats``.
    swatches : bool
        Whether flat materials go onto swatches.
    share : Share
        Whether what reads overlapping parts of a texture lies on the sheet once.
    """
    results = []
    shared = shared_materials(scene, bundle) if share == Share.AUTO else set()
    for index, uses in sorted(users(scene, bundle.objects).items()):
        if index < 0:
            continue
        name = scene.material_name(index)
        if swatches and flat_values(scene, scene.materials[index]) is not None:
            results.append((name, Treatment.SWATCH))
            continue
        reads = [read_of(scene, primitive) for _, _, primitive in uses]
        span = max((max(read.span) for read in reads if read is not None), default=0.0)
        if span <= 1 + SLACK:
            results += [(name, Treatment.BLOCK)] if index in shared else []
            continue
        way = Treatment.BAKE if repeats is Repeats.AUTO else Treatment(repeats)
        if way is Treatment.BAKE and most_repeats is not None and span > most_repeats:
            way = Treatment.APART
        if way is Treatment.BAKE and repeats is Repeats.AUTO and index in shared:
            way = Treatment.BLOCK
        if way is not Treatment.BAKE:
            results.append((name, way))
    return tuple(results)


def shared_materials(scene: Scene, bundle: Bundle) -> set[int]:
    """Return the materials whose surfaces take clearly less of a bundle's sheet as blocks that share texels."""
    if bundle.bake.computed or not bundle.sheet_in_force.twins or bundle.sheet.pieces is not PieceRule.ISLANDS:
        return set()
    held = held_meshes(scene, bundle.objects)
    results: set[int] = set()
    used = users(scene, bundle.objects)
    for indices in alike_materials(scene, used):
        uses = [use for index in indices for use in used[index] if scene.nodes[use[0].node].mesh not in held]
        reads = [read for _, read in shareable(scene, bundle, uses).values()]
        texels = texels_of(scene, scene.materials[indices[0]])
        detailed = flat_values(scene, scene.materials[indices[0]]) is None
        if reads and detailed and sharing_pays(reads, share_texels(reads, texels), texels):
            results |= set(indices)
    return results
