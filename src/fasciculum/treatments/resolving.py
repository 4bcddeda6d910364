"""What of a bundle is laid out: islands, and patches that the rest reads; what is kept apart is neither."""

from __future__ import annotations

from dataclasses import replace
from functools import lru_cache

from fasciculum.model.bake_settings import BakeSettings
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import AlphaMode, PieceRule, Treatment, TwinRule
from fasciculum.model.layout import Layout
from fasciculum.model.scene import Scene
from fasciculum.model.sheet import SheetSettings
from fasciculum.model.unwrapping import Shaping
from fasciculum.treatments.partitioning import MaterialPartitioner
from fasciculum.treatments.resolved import ResolvedBundle


def resolve_bundle(scene: Scene, bundle: Bundle) -> ResolvedBundle:
    """Return a bundle as it is laid out; one whose materials are all baked as islands is itself."""
    if bundle.ways and bundle.bake.lit_only:
        # the look that is baked is all that is delivered: every surface has texels for it
        bundle = replace(bundle, ways=())
    if bundle.given is not None:
        # what lies on a given sheet is laid there whole
        return ResolvedBundle(scene, replace(bundle, ways=()))
    blocks = bundle.sheet.pieces is PieceRule.BLOCKS
    if not blocks and all(way is Treatment.BAKE for _, way in bundle.ways):
        return ResolvedBundle(scene, bundle)
    plain = replace(bundle.sheet, seconds=0.0, seed=0)
    told = bundle.shapings, bundle.twin_rules
    result = _kept(scene, bundle.objects, bundle.alpha_mode, bundle.ways, plain, bundle.bake, *told)
    kept = result.bundle
    sheet = replace(bundle.sheet, pieces=PieceRule.ISLANDS)
    named = replace(
        bundle, objects=kept.objects, ways=(), sheet=sheet, twin_rules=kept.twin_rules, shapings=kept.shapings
    )
    return replace(result, bundle=named)


def islands_alone(scene: Scene, bundle: Bundle, layout: Layout | None = None) -> tuple[Scene, Layout]:
    """Return a bundle's layout without its patches, and without what is not there any more, and the scene of it.

    Figures about surfaces are measured on these. Another layout than the bundle's own may be given.
    """
    layout = layout or bundle.layout
    assert layout is not None
    work = resolve_bundle(scene, bundle)
    present = {item.key: item for item in work.scene.objects}
    left = {patch.key for patch in work.patches}
    for surface in layout.surfaces:
        key = surface.objects[0]
        item = present.get(key)
        if item is None or sum(len(p.triangles) for p in work.scene.primitives_of(item)) != len(surface.corners):
            left.add(key)
    return work.scene, layout.without(left)


@lru_cache(maxsize=48)
def _kept(
    scene: Scene,
    objects: tuple[str, ...],
    mode: AlphaMode,
    ways: tuple[tuple[str, Treatment], ...],
    sheet: SheetSettings,
    bake: BakeSettings,
    shapings: tuple[tuple[str, Shaping], ...],
    rules: tuple[tuple[str, TwinRule], ...],
) -> ResolvedBundle:
    """Sort a bundle's primitives, once for all that it depends on."""
    whole = Bundle("", objects, mode, sheet, bake, twin_rules=rules, shapings=shapings, ways=ways)
    return MaterialPartitioner(scene, whole).found()
