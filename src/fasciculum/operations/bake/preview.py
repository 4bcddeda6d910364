"""A quick look at what a bake will give on one object, at low resolution."""

from __future__ import annotations

from dataclasses import replace

from fasciculum.io.pixels import PixelStore
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import TwinRule
from fasciculum.model.maps import AUTO, KINDS, Values
from fasciculum.model.scene import Scene
from fasciculum.operations.bake.bake import bake
from fasciculum.operations.lay_out.lay_out import lay_out, measured
from fasciculum.progress import SILENT, Progress

#: edges of the sheet and rays a texel, step by step
STEPS = ((128, 8), (512, 32))


def preview(
    scene: Scene, bundle: Bundle, key: str, step: int, store: PixelStore, *, progress: Progress = SILENT
) -> Bundle:
    """Return an object alone in a bundle, baked small as its own bundle bakes it.

    Parameters
    ----------
    step : int
        Of `STEPS`: each takes longer and shows more.
    """
    edge, rays = STEPS[step]
    cast = tuple(name for name in bundle.bake.named if KINDS[name].source is Values.RAYS)
    sheet = replace(bundle.sheet, width=edge, height=edge, tiles=1, padding=2, margin=None, seconds=0.0, wanted=0.0)
    maps = (AUTO, *cast)
    settings = replace(bundle.bake, maps=maps, wishes=(), channels=(), rays=min(bundle.bake.rays, rays), bits=8)
    shapings = tuple(one for one in bundle.shapings if one[0] == key)
    alone = Bundle(
        f"preview {key}",
        (key,),
        bundle.alpha_mode,
        sheet,
        settings,
        shapings=shapings,
        twin_rules=((key, TwinRule.APART),),
    )
    laid = lay_out(scene, alone, progress=progress.part(0.0, 0.4))
    alone = replace(alone, layout=measured(laid))
    return replace(alone, texturing=bake(scene, alone, store, progress=progress.part(0.4, 1.0)))
