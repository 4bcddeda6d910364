"""Bake: a bundle's maps, into the pixel store."""

from __future__ import annotations

from collections.abc import Sequence

from fasciculum.baking.bakers import bake_maps
from fasciculum.baking.carried import Recipe
from fasciculum.baking.needs import Needs, needs_of
from fasciculum.baking.target import build_target
from fasciculum.errors import UsageError
from fasciculum.io.pixels import PixelStore
from fasciculum.model.bundle import Bundle
from fasciculum.model.digests import digest_of
from fasciculum.model.maps import KINDS, MapKind, Origin
from fasciculum.model.scene import OPAQUE, Scene
from fasciculum.model.texturing import BakedMap, Texturing
from fasciculum.progress import SILENT, Progress


def map_digest(scene: Scene, bundle: Bundle, kind: MapKind) -> str:
    """Return a digest of all that one map of a bundle is made from, empty when there is no layout.

    What further inputs a map has beside the layout, the settings and the surfaces that lie there (other objects that
    cast, high-poly sources, lights, layers) is added here by its origin.
    """
    layout = bundle.layout
    if layout is None:
        return ""
    bake = bundle.bake
    settings = (bake.samples, bake.bleed, bake.bits, bake.edges, bake.edge_angle if bake.edges == "angle" else 0.0)
    parts = [kind.name, layout.made_from, repr(settings), bundle.alpha_mode]
    if kind.origin is Origin.CARRIED:
        parts += [scene.surfaces[key] for key in bundle.objects]
    return digest_of(*parts, layout.placements)


def wanted_maps(scene: Scene, bundle: Bundle) -> Needs:
    """Return which maps a bundle is to have, and the constants beside them."""
    return needs_of(scene, tuple(scene.object(key) for key in bundle.objects), wanted=bundle.bake.maps)


def stale_maps(scene: Scene, bundle: Bundle) -> tuple[str, ...]:
    """Return the maps that a bundle should have and that are missing, or made from something else by now."""
    made = bundle.texturing or Texturing()
    there = {baked.name: baked.made_from for baked in made.maps}
    return tuple(
        name for name in wanted_maps(scene, bundle).maps if there.get(name) != map_digest(scene, bundle, KINDS[name])
    )


def bake(
    scene: Scene,
    bundle: Bundle,
    store: PixelStore,
    *,
    only: Sequence[str] = (),
    progress: Progress = SILENT,
) -> Texturing:
    """Bake the maps of a bundle that has been laid out.

    Parameters
    ----------
    only : sequence of str
        Bake just these maps, and keep the others as they are.

    Raises
    ------
    UsageError
        When there is no layout, islands overlap on it, or a map is named that the bundle is not to have.
    """
    layout = bundle.layout
    if layout is None or layout.scale <= 0:
        raise UsageError("there is no layout to bake into.", item=bundle.name, hint="Pack the bundle first.")
    if layout.border_gap < 0:
        raise UsageError("the layout has not been verified yet.", item=bundle.name, hint="Wait for it, or pack again.")
    if layout.overlap > 0:
        raise UsageError(
            "islands overlap, and would be baked over each other.",
            item=bundle.name,
            hint="Pack the bundle again.",
        )
    needs = wanted_maps(scene, bundle)
    for name in only:
        if name not in needs.maps:
            raise UsageError(
                f"the bundle has no map {name}.", item=bundle.name, hint=f"It has: {', '.join(needs.maps)}."
            )
    progress.update(0.0, f"Preparing {bundle.name}")
    target = build_target(scene, layout, bundle.bake.edges, bundle.bake.edge_angle)
    recipe = Recipe(
        kinds=tuple(KINDS[name] for name in needs.maps if not only or name in only),
        width=layout.across,
        height=layout.height,
        bits=bundle.bake.bits,
        samples=bundle.bake.samples,
        bleed=bundle.bake.bleed,
        opaque=bundle.alpha_mode == OPAQUE,
        cutoff=needs.cutoff,
        emission=1.0 / needs.strength,
    )
    arrays = bake_maps(scene, target, recipe, lambda image: store.get(image.pixels), progress=progress.part(0.02, 0.95))
    made: dict[str, BakedMap] = {}
    for number, kind in enumerate(recipe.kinds):
        progress.part(0.95, 1.0).update(number / len(arrays), "Keeping the maps")
        # what is opaque needs no fourth channel
        pixels = arrays[kind.name][..., : 3 if recipe.opaque else 4]
        made[kind.name] = BakedMap(
            kind.name,
            store.put(pixels),
            layout.across,
            layout.height,
            recipe.bits,
            kind.color_space,
            pixels.shape[2],
            needs.strength if kind.scaled else 1.0,
            layout.tiles,
            map_digest(scene, bundle, kind),
        )
    before = bundle.texturing or Texturing()
    maps = [made.get(name, before.map(name)) for name in needs.maps]
    return Texturing(
        maps=tuple(baked for baked in maps if baked is not None),
        metallic=needs.metallic,
        roughness=needs.roughness,
        alpha_cutoff=needs.cutoff or 0.5,
        double_sided=needs.double_sided,
        unlit=needs.unlit,
        extensions=needs.extensions,
    )
