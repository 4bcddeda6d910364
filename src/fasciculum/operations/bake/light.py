"""Light of a bundle: how it is gathered, what it depends on, and the light sheet that it may have for itself."""

from __future__ import annotations

from dataclasses import replace
from functools import lru_cache
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from fasciculum.baking.light.passes import LightPasses, LightScene, LightTerms, shining_of, world_in
from fasciculum.baking.light.shares import LEAST, PART, RAYS, shares_of
from fasciculum.baking.light.surfaces import World
from fasciculum.baking.target import build_target
from fasciculum.errors import MissingFile
from fasciculum.io.codecs import decode_panorama
from fasciculum.io.pixels import PixelStore
from fasciculum.io.places import read_file
from fasciculum.model.bake_settings import BakeSettings
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import Turns, UvPolicy
from fasciculum.model.digests import digest_of, digest_text
from fasciculum.model.lamps import lamps_of
from fasciculum.model.layout import Layout
from fasciculum.model.lighting import Sky, SkyKind
from fasciculum.model.maps import KINDS, Values
from fasciculum.model.scene import Image, Scene
from fasciculum.model.sheet import SheetSettings
from fasciculum.operations.bake.latest import Latest
from fasciculum.operations.lay_out.lay_out import lay_out, measured
from fasciculum.progress import SILENT, Progress

#: seconds that a light sheet's layout is improved for at most
MOST_IMPROVED = 1.0
#: width and height of a sky's small picture
THUMBNAIL = 256, 128


def light_terms(bake: BakeSettings) -> LightTerms:
    """Return how light is gathered for a bundle's maps."""
    return LightTerms(bake.light_rays, bake.bounces, bake.denoise, bake.light_emission, bake.exposure)


def bakes_light(bundle: Bundle) -> bool:
    """Whether some map of a bundle is made of light."""
    return bundle.bake.lit_only or any(KINDS[name].source is Values.LIGHT for name in bundle.bake.named)


@lru_cache(maxsize=8)
def light_digest(scene: Scene) -> str:
    """Return a digest of all that light comes from and meets: lamps, sky, and every surface."""
    lighting = scene.lighting
    return digest_of(digest_text((lamps_of(scene), lighting.sky.content, lighting.glow)), surfaces_digest(scene))


@lru_cache(maxsize=8)
def surfaces_digest(scene: Scene) -> str:
    """Return a digest of every surface that light meets, and where it stands."""
    beside: list[str] = []
    if scene.detail is not None:
        detailed = scene.detail.scene
        beside = [*scene.partners.values(), *detailed.occluder_digests.values(), *detailed.surfaces.values()]
    return digest_of(*scene.occluder_digests.values(), *scene.surfaces.values(), *beside)


#: for as long as no surface changes: lights alone may be moved without building it anew
_worlds = Latest[World]()


def shining_in(scene: Scene, store: PixelStore, *, progress: Progress = SILENT) -> LightScene:
    """Return what shines in a scene, and all that its light meets.

    Raises
    ------
    MissingFile, MalformedFile, UnsupportedInput
        When its sky has a picture that cannot be read.
    """
    digest = digest_of(surfaces_digest(scene), str(scene.lighting.glow))

    def pixels(image: Image) -> NDArray[Any]:
        return store.get(image.pixels)

    panorama = panorama_of(scene.lighting.sky)
    world = _worlds.get(digest, lambda: world_in(scene, pixels, progress=progress))
    return shining_of(scene, pixels, panorama, world=world)


def panorama_of(sky: Sky) -> NDArray[np.float32] | None:
    """Return the picture of a sky, (H, W, 3), linear; None for a sky that is none.

    Raises
    ------
    MissingFile, MalformedFile, UnsupportedInput
    """
    if sky.kind is not SkyKind.PICTURE:
        return None
    return read_panorama(sky.picture)[0]


def read_panorama(file: str) -> tuple[NDArray[np.float32], str]:
    """Return an equirectangular picture, (H, W, 3), linear, and a digest of its file.

    Raises
    ------
    MissingFile, MalformedFile, UnsupportedInput
    """
    if not Path(file).is_file():
        raise MissingFile("there is no such sky picture.", file=file, hint="Check its path, or choose another sky.")
    data = read_file(Path(file))
    return decode_panorama(data, place=file), digest_of(data)


def light_sheet_bundle(bundle: Bundle) -> Bundle:
    """Return a bundle whose sheet is the light sheet: a place for every island of every copy."""
    bake, sheet = bundle.bake, bundle.sheet
    light = SheetSettings(
        width=bake.light_width,
        height=bake.light_height,
        padding=bake.light_padding,
        turns=Turns.QUARTER if sheet.turns in (Turns.NONE, Turns.HALF) else sheet.turns,
        uv=UvPolicy.AUTO if sheet.uv is UvPolicy.KEEP else sheet.uv,
        twins=False,
        seconds=min(sheet.seconds, MOST_IMPROVED),
        seed=sheet.seed,
        unwrap=sheet.unwrap,
    )
    plain = BakeSettings(edges=bake.edges, edge_angle=bake.edge_angle)
    return Bundle(
        bundle.name, bundle.objects, bundle.alpha_mode, light, plain, shapings=bundle.shapings, identity=bundle.identity
    )


def light_sheet_digest(scene: Scene, bundle: Bundle) -> str:
    """Return a digest of what a bundle's light sheet is made from, the light itself aside."""
    own = light_sheet_bundle(bundle)
    told = digest_text((own.objects, replace(own.sheet, seconds=0.0), own.shapings, bundle.bake.light_shares))
    return digest_of(told, *(scene.shapes[key] for key in own.objects))


def light_layout_digest(scene: Scene, bundle: Bundle) -> str:
    """Return a digest of a bundle's lightmap layout: of what it is made from, and of what the hand has done to it."""
    digest = light_sheet_digest(scene, bundle)
    layout = bundle.texturing.light_layout if bundle.texturing is not None else None
    return layout.made_from if layout is not None and _made_from(layout) == digest else digest


def changed_by_hand(layout: Layout) -> Layout:
    """Return a lightmap layout that says of itself that its islands were moved by hand."""
    return replace(layout, made_from=f"{_made_from(layout)}:{digest_of(layout.placements)}")


def _made_from(layout: Layout) -> str:
    """Return a digest of what a lightmap layout was made from, whatever the hand has done to it since."""
    return layout.made_from.partition(":")[0]


def light_layout_of(
    scene: Scene, bundle: Bundle, shining: LightScene | None = None, *, progress: Progress = SILENT
) -> Layout:
    """Return the layout of a bundle's light sheet: the one that it has where that still holds, else a fresh one.

    Parameters
    ----------
    shining : Shining, optional
        What shines in the scene: with it, islands get texels by how light varies on them, where that is asked for.
    """
    digest = light_sheet_digest(scene, bundle)
    before = bundle.texturing.light_layout if bundle.texturing is not None else None
    if before is not None and _made_from(before) == digest:
        return before if before.border_gap >= 0 else measured(before)
    progress.update(0.0, "Laying out the lightmap")
    own = light_sheet_bundle(bundle)
    shared = shining is not None and bundle.bake.light_shares
    first = replace(own, sheet=replace(own.sheet, seconds=0.0)) if shared else own
    # layouts in the making are no light
    result = lay_out(scene, first, fresh=True, progress=progress.part(0.0, 0.4).unseen())
    if shining is not None and shared and result.scale > 0:
        shares = _shares(scene, bundle, result, shining, progress.part(0.4, 0.6).unseen())
        own = replace(own, layout=replace(result, shares=shares))
        result = lay_out(scene, own, fresh=True, progress=progress.part(0.6, 1.0).unseen())
    return measured(replace(result, made_from=digest))


def _shares(
    scene: Scene, bundle: Bundle, layout: Layout, shining: LightScene, progress: Progress
) -> NDArray[np.float64]:
    """Return how many texels each island of a light sheet is worth."""
    bake = bundle.bake
    width, height = (max(edge // PART, LEAST) for edge in (layout.width, layout.height))
    target = build_target(scene, layout, bake.edges, bake.edge_angle)
    small = target.resized(width / layout.across, height / layout.height)
    terms = replace(light_terms(bake), rays=min(RAYS, bake.light_rays))
    shaded = {"edges": bake.edges, "angle": bake.edge_angle}
    passes = LightPasses(shining, scene, layout, small, width, height, terms, **shaded, progress=progress)  # type: ignore[arg-type]
    return shares_of(passes, layout, progress)


def sky_thumbnail(file: str, *, progress: Progress = SILENT) -> NDArray[np.float32]:
    """Return a sky's picture, small, shape (H, W, 3), linear: its middle column is north.

    Raises
    ------
    MissingFile, MalformedFile, UnsupportedInput
    """
    progress.update(0.0, f"Reading {Path(file).name}")
    picture = read_panorama(file)[0]
    size = min(THUMBNAIL[0], picture.shape[1]), min(THUMBNAIL[1], picture.shape[0])
    return np.asarray(cv2.resize(picture, size, interpolation=cv2.INTER_AREA), np.float32)


def sky_digest(file: str, *, progress: Progress = SILENT) -> str:
    """Return a digest of a sky's picture, once it has been read.

    Raises
    ------
    MissingFile, MalformedFile, UnsupportedInput
    """
    progress.update(0.0, f"Reading {Path(file).name}")
    return read_panorama(file)[1]
