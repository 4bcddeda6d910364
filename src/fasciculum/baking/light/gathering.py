"""From passes of light to maps of it: noise removed, seams closed, joined with what materials give."""

from __future__ import annotations

from collections.abc import Callable, Collection
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fasciculum.baking.bleeding import bleed
from fasciculum.baking.light.noise import Denoiser, guide_of, remove_noise
from fasciculum.baking.light.passes import LightPasses, brightest, steps_of
from fasciculum.baking.light.seams import Seams
from fasciculum.baking.tiling import NO_AMOUNTS, Source
from fasciculum.kernels.light.gathering import BACK, FREE, THERE, TOTAL
from fasciculum.kernels.sampling.tiles import TILE
from fasciculum.progress import SILENT, Progress

#: values of a texel: light, what of it was sent back, how it looks when lit with its opacity, what of light
#: comes straight, what of lamps' light arrives
ALL, SENT_BACK, LOOK, STRAIGHT, SHADOWED, GATHERED = 0, 3, 6, 10, 13, 14


@dataclass(frozen=True, eq=False)
class Gathered:
    """Light on a sheet.

    Attributes
    ----------
    light : ndarray of float32, shape (H, W, 3)
        What falls on a white surface, nits; continued beyond the islands.
    bounced : ndarray of float32, shape (H, W, 3), optional
        What of it was sent back from other surfaces.
    shadow : ndarray of float32, shape (H, W, 1), optional
    rays : int
        Samples that each texel had.
    noise : float
        Before it was removed; see `fasciculum.baking.light.passes.LightPasses.noise`.
    bright : float
        What 99 of 100 texels are below.
    denoiser : Denoiser
        What removed noise.
    """

    light: NDArray[np.float32]
    bounced: NDArray[np.float32] | None
    shadow: NDArray[np.float32] | None
    rays: int
    noise: float
    bright: float
    denoiser: Denoiser


def gather_light(
    passes: LightPasses,
    wanted: Collection[int],
    *,
    seams: Callable[[], Seams] | None = None,
    show: Callable[[Gathered], None] | None = None,
    progress: Progress = SILENT,
) -> Gathered:
    """Gather light in passes until there are as many samples as are asked for, or the best so far is good enough.

    Parameters
    ----------
    passes : LightPasses
    wanted : collection of int
        Which of the values are wanted, by the first of each.
    seams : callable, optional
        Returns the seams to close.
    show : callable, optional
        Hears of what there is after each pass.

    Raises
    ------
    Cancelled
    """
    rays = passes.terms.rays
    spent = 0.0
    noise = 1.0
    for last in steps_of(rays):
        share = (last - passes.done) / rays * 0.85
        text = f", noise {noise:.1%}" if passes.done > 1 else ""
        progress.update(spent, f"Tracing light, {passes.done} of {rays} rays{text}")
        passes.run(last, progress.part(spent, spent + share))
        spent += share
        noise = passes.noise()
        if show is not None and last < rays:
            show(finished(passes, wanted, noise, seams=None, denoise=False))
        if progress.stop_early():
            break
    progress.update(0.86, f"Removing noise of {noise:.1%}" if passes.terms.denoise else "Combining light")
    return finished(passes, wanted, noise, seams=seams, denoise=passes.terms.denoise, progress=progress.part(0.86, 1.0))


def finished(
    passes: LightPasses,
    wanted: Collection[int],
    noise: float,
    *,
    seams: Callable[[], Seams] | None,
    denoise: bool,
    progress: Progress = SILENT,
) -> Gathered:
    """Return what has been gathered so far as light on the sheet."""
    sums, many = passes.sums, np.float32(1 / max(passes.done, 1))
    lit = passes.lit
    light = np.ascontiguousarray(sums[..., TOTAL : TOTAL + 3]) * many
    apart = STRAIGHT in wanted or SENT_BACK in wanted
    bounced = np.ascontiguousarray(sums[..., BACK : BACK + 3]) * many if apart else None
    shadow = None
    if SHADOWED in wanted:
        free = sums[..., FREE : FREE + 1]
        shadow = np.ones(free.shape, np.float32)
        np.divide(sums[..., THERE : THERE + 1], free, out=shadow, where=free > 0)
        np.clip(shadow, 0.0, 1.0, out=shadow)
    layers = [layer for layer in (light, bounced, shadow) if layer is not None]
    used = Denoiser.NONE
    if not denoise:
        bleed(lit, [(layer, None) for layer in layers])
    else:
        guide = guide_of(passes)
        for number, layer in enumerate(layers):
            part = progress.part(0.8 * number / len(layers), 0.8 * (number + 1) / len(layers))
            used = remove_noise(passes, layer, guide, progress=part)
            bleed(lit, [(layer, None)])
    if bounced is not None:
        # each was freed of noise by itself
        np.minimum(bounced, light, out=bounced)
    if seams is not None:
        closing = seams()
        for layer in layers:
            closing.close(layer, progress)
    if shadow is not None:
        # removing noise and closing seams may overshoot
        np.clip(shadow, 0.0, 1.0, out=shadow)
    return Gathered(light, bounced, shadow, passes.done, noise, brightest(light[lit]), used)


class LightSource:
    """Light that was gathered on a sheet, and how its materials look in it.

    Parameters
    ----------
    gathered : Gathered
    materials : Source, optional
        What the materials give, where the look is wanted.
    emission : bool
        Whether what surfaces emit is part of it.
    look : Gathered, optional
        The light of how things look, where normal maps have it differ.
    """

    values = GATHERED

    def __init__(
        self, gathered: Gathered, materials: Source | None, *, emission: bool, look: Gathered | None = None
    ) -> None:
        self.gathered, self.materials, self.emission = gathered, materials, emission
        self.look = gathered if look is None else look

    def detail(self) -> NDArray[np.float32]:
        """Nothing: light is read as it is."""
        return NO_AMOUNTS

    def fill(self, tiles: NDArray[np.int64], across: int, ids: NDArray[np.int32], found: NDArray[np.float32]) -> None:
        """Write the values at some tiles' texels into ``found`` (N, WIDE, WIDE, 14)."""
        gathered = self.gathered
        height, width = gathered.light.shape[:2]
        found[:] = 0.0
        for number, tile in enumerate(tiles.tolist()):
            top, left = tile // across * TILE, tile % across * TILE
            low, right = min(top + TILE, height), min(left + TILE, width)
            box, own = np.s_[top:low, left:right], found[number, 1 : 1 + low - top, 1 : 1 + right - left]
            own[..., ALL : ALL + 3] = gathered.light[box]
            if self.materials is not None:
                # the light of the look; its colours follow below
                own[..., LOOK : LOOK + 3] = self.look.light[box]
            if gathered.bounced is not None:
                own[..., SENT_BACK : SENT_BACK + 3] = gathered.bounced[box]
                own[..., STRAIGHT : STRAIGHT + 3] = np.maximum(gathered.light[box] - gathered.bounced[box], 0)
            if gathered.shadow is not None:
                own[..., SHADOWED : SHADOWED + 1] = gathered.shadow[box]
        if self.materials is not None:
            given = np.zeros((*ids.shape, self.materials.values), np.float32)
            self.materials.fill(tiles, across, ids, given)
            diffuse = given[..., 0:3] * (1.0 - given[..., 10:11])
            found[..., LOOK : LOOK + 3] *= diffuse
            if self.emission:
                found[..., LOOK : LOOK + 3] += given[..., 12:15]
            found[..., LOOK + 3] = given[..., 3]
