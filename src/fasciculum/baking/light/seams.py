"""Seams of a sheet: both sides of one show one line of the surface, and are to agree."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fasciculum.baking.light.passes import LightPasses
from fasciculum.progress import SILENT, Progress


class Seams:
    """The seams of a sheet that light is gathered on."""

    def __init__(self, passes: LightPasses) -> None:
        self._passes = passes

    def close(self, layer: NDArray[np.float32], progress: Progress = SILENT) -> None:
        """Bring both sides of each seam together."""
