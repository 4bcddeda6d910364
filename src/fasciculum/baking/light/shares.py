"""How many texels islands of a light sheet are worth: few where light is even, more where it has edges."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fasciculum.baking.light.gathering import ALL, finished
from fasciculum.baking.light.passes import LightPasses, brightest
from fasciculum.model.layout import Layout
from fasciculum.progress import SILENT, Progress
from fasciculum.units import brightness

#: rays of a texel that light is looked at with, and the part of the sheet's edge that it is looked at on
RAYS, PART, LEAST = 8, 4, 64
#: shares of islands at least and at most, and the steps that they have
FEWEST, MOST, STEP = 0.4, 2.0, 1.25
#: how much more texels an island is worth where light changes faster, as a power of that
POWER = 0.4


def shares_of(passes: LightPasses, layout: Layout, progress: Progress = SILENT) -> NDArray[np.float64]:
    """Return for each island of a layout how many texels along a metre it is worth, about 1.

    Parameters
    ----------
    passes : LightPasses
        On the same layout, of a few samples.
    """
    passes.run(passes.terms.rays, progress)
    gathered = finished(passes, {ALL}, passes.noise(), seams=None, denoise=True, progress=progress)
    bright = max(brightest(gathered.light[passes.lit]), 1e-12)
    # as light is seen: steps among dark shades count for more
    shade = np.sqrt(np.clip(brightness(gathered.light) / bright, 0, 1))
    ids = passes.tiles.whole()
    numbers = np.concatenate([layout.islands_of(index) for index in range(len(layout.surfaces))])
    island = np.where((ids >= 0) & passes.lit, numbers[np.maximum(ids, 0)], -1)
    count = len(layout.placements)
    steps, many = np.zeros(count), np.zeros(count)
    for axis in (0, 1):
        one, other = (island[:-1], island[1:]) if axis == 0 else (island[:, :-1], island[:, 1:])
        away = np.abs(np.diff(shade, axis=axis))
        same = (one == other) & (one >= 0)
        np.add.at(steps, one[same], away[same])
        np.add.at(many, one[same], 1)
    change = steps / np.maximum(many, 1)
    known = many > 0
    if not known.any() or change[known].max() <= 0:
        return np.ones(count)
    usual = max(float(np.average(change[known], weights=many[known])), 1e-9)
    share = np.where(known, (np.maximum(change, 1e-9) / usual) ** POWER, 1.0)
    # in steps, so that the least change of light moves nothing
    result: NDArray[np.float64] = np.clip(STEP ** np.round(np.log(share) / np.log(STEP)), FEWEST, MOST)
    return result
