"""Bake: a bundle's maps, into the pixel store."""

from __future__ import annotations

from fasciculum.baking.carried import Recipe, bake_carried
from fasciculum.baking.needs import needs_of
from fasciculum.baking.target import build_target
from fasciculum.errors import UsageError
from fasciculum.io.pixels import PixelStore
from fasciculum.model.bundle import BakedMap, Bundle, Texturing
from fasciculum.model.digests import digest_of
from fasciculum.model.scene import OPAQUE, Scene
from fasciculum.operations.lay_out.lay_out import measured
from fasciculum.progress import SILENT, Progress

SRGB = ("base_color", "emissive")


def bake_digest(scene: Scene, bundle: Bundle) -> str:
    """Return a digest of all that a bundle's maps are made from."""
    layout = bundle.layout
    if layout is None:
        return ""
    settings = (
        bundle.bake.maps,
        bundle.bake.samples,
        bundle.bake.bleed,
        bundle.bake.bits,
        bundle.bake.edges,
        bundle.bake.edge_angle if bundle.bake.edges == "angle" else 0.0,
        bundle.alpha_mode,
    )
    surfaces = (scene.surfaces[key] for key in bundle.objects)
    return digest_of(layout.made_from, layout.placements, repr(settings), *surfaces)


def bake(scene: Scene, bundle: Bundle, store: PixelStore, *, progress: Progress = SILENT) -> Texturing:
    """Bake the maps of a bundle that has been laid out.

    Raises
    ------
    UsageError
        When there is no layout, or islands overlap on it.
    """
    layout = bundle.layout
    if layout is None or layout.scale <= 0:
        raise UsageError("there is no layout to bake into.", item=bundle.name, hint="Pack the bundle first.")
    if layout.border_gap < 0:
        layout = measured(layout)
    if layout.overlap > 0:
        raise UsageError(
            "islands overlap, and would be baked over each other.",
            item=bundle.name,
            hint="Pack the bundle again.",
        )
    objects = tuple(scene.object(key) for key in bundle.objects)
    needs = needs_of(scene, objects, wanted=bundle.bake.maps)
    progress.update(0.0, f"Preparing {bundle.name}")
    target = build_target(scene, layout, bundle.bake.edges, bundle.bake.edge_angle)
    recipe = Recipe(
        maps=needs.maps,
        width=layout.across,
        height=layout.height,
        bits=bundle.bake.bits,
        samples=bundle.bake.samples,
        bleed=bundle.bake.bleed,
        opaque=bundle.alpha_mode == OPAQUE,
        cutoff=needs.cutoff,
        emission=1.0 / needs.strength,
    )
    arrays = bake_carried(scene, target, recipe, lambda image: store.get(image.pixels), progress.part(0.02, 0.95))
    maps = []
    for number, (name, pixels) in enumerate(arrays.items()):
        progress.part(0.95, 1.0).update(number / len(arrays), "Keeping the maps")
        if name == "base_color" and bundle.alpha_mode == OPAQUE:
            pixels = pixels[..., :3]
        maps.append(
            BakedMap(
                name,
                store.put(pixels),
                layout.across,
                layout.height,
                recipe.bits,
                "srgb" if name in SRGB else "linear",
                pixels.shape[2],
                needs.strength if name == "emissive" else 1.0,
                layout.tiles,
            )
        )
    return Texturing(
        maps=tuple(maps),
        metallic=needs.metallic,
        roughness=needs.roughness,
        alpha_cutoff=needs.cutoff or 0.5,
        double_sided=needs.double_sided,
        unlit=needs.unlit,
        made_from=bake_digest(scene, bundle),
        extensions=needs.extensions,
    )
