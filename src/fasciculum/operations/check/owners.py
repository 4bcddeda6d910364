"""Which island each texel of a sheet shows, bleed included."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fasciculum.baking.bleeding import nearest_covered
from fasciculum.model.layout import Layout
from fasciculum.operations.lay_out.lay_out import claimed, island_labels
from fasciculum.progress import SILENT, Progress


def owners_of(
    layout: Layout, bleed: int | None, progress: Progress = SILENT
) -> tuple[NDArray[np.int32], NDArray[np.int32]]:
    """Return the islands that own texels and those that cover them, as `fasciculum.checks.mixing` takes them.

    Parameters
    ----------
    layout : Layout
        Without slices.
    bleed : int, optional
        How far colour goes on beside islands, texels; all the way without.
    """
    covered = claimed(layout, island_labels(layout), layout.across, layout.height)
    nearest = nearest_covered(covered >= 0, progress)
    owned = np.where(nearest >= 0, covered.reshape(-1)[np.maximum(nearest, 0)], -1)
    if bleed is not None:
        rows, columns = np.divmod(nearest, layout.across)
        away = np.hypot(rows - np.arange(layout.height)[:, None], columns - np.arange(layout.across)[None, :])
        # beyond it lies what is nobody's, which no island may read
        owned = np.where(away <= bleed, owned, len(layout.placements))
    return owned.astype(np.int32), covered
