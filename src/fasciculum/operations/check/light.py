"""Findings about light: what copies share it, and what nothing shines on."""

from __future__ import annotations

from collections.abc import Iterator

from fasciculum.baking.light.noise import Denoiser, available
from fasciculum.model.bundle import Bundle
from fasciculum.model.counting import counted
from fasciculum.model.document import Document
from fasciculum.model.finding import INFO, WARNING, Finding
from fasciculum.model.lamps import lamps_of
from fasciculum.model.lighting import SkyKind
from fasciculum.model.scene import Scene
from fasciculum.operations.bake.light import bakes_light


def light_findings(document: Document) -> list[Finding]:
    """Return what is to be said about the light of a document's bundles."""
    lit = [bundle for bundle in document.bundles if bakes_light(bundle) and bundle.objects]
    if not lit:
        return []
    results = [*_dark(document.scene)]
    for bundle in lit:
        results += _shared(bundle)
        results += _noisy(bundle)
    return results


def _dark(scene: Scene) -> Iterator[Finding]:
    sky = scene.lighting.sky
    lamps = any(lamp.on and lamp.strength > 0 for lamp in lamps_of(scene))
    glows = scene.lighting.glow and any(max(one.emissive_factor) * one.emissive_strength > 0 for one in scene.materials)
    # without anything else an untold sky is white
    none = sky.kind is SkyKind.NONE or sky.strength <= 0
    if none and not lamps and not glows:
        yield Finding("no_light", WARNING, "Nothing shines: light comes out black.", "Add a sky, a sun or a lamp.")


def _shared(bundle: Bundle) -> Iterator[Finding]:
    layout = bundle.layout
    if layout is None or bundle.bake.light_uv:
        return
    shared = [key for surface in layout.surfaces for key in surface.objects[1:]]
    inside = layout.doubles - sum(surface.count * (len(surface.objects) - 1) for surface in layout.surfaces)
    if not shared and not inside:
        return
    named = (
        f"{counted(len(shared), 'copy', 'copies')} ({', '.join(shared[:3])}{', ...' if len(shared) > 3 else ''})"
        if shared
        else counted(inside, "island")
    )
    yield Finding(
        "light_shared",
        WARNING,
        f"{bundle.name}: {named} lie on the place of another and get its light.",
        "Give light a sheet of its own under Bake, or lay the bundle out without twins.",
        bundle=bundle.name,
    )


def _noisy(bundle: Bundle) -> Iterator[Finding]:
    figures = bundle.texturing.light if bundle.texturing is not None else None
    if figures is None or not bundle.bake.denoise or figures.denoiser == Denoiser.OIDN or available():
        return
    yield Finding(
        "no_denoiser",
        INFO,
        f"{bundle.name}: noise of light was removed by the simple filter, since Open Image Denoise is not installed.",
        "Install the package pyoidn (pip install fasciculum[denoise]) for cleaner light with fewer rays.",
        bundle=bundle.name,
    )
