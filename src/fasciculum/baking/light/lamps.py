"""Lamps as kernels read them."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from fasciculum.kernels.light.emitters import POINT, SPOT, SUN
from fasciculum.model.lighting import Lamp, LampKind

#: kinds as kernels number them
KINDS = {LampKind.SUN: SUN, LampKind.POINT: POINT, LampKind.SPOT: SPOT}
#: columns of a lamp's row
LAMP_ROW = 16


def lamp_rows(lamps: Sequence[Lamp]) -> NDArray[np.float64]:
    """Return the lamps that shine as rows, (L, 16).

    Kind, strength (3), place (3), direction (3), reach, cosine of the inner cone less that of the outer, cosine of the
    outer cone, size (of a sun the tangent of its half).
    """
    rows = []
    for lamp in lamps:
        if not lamp.on or lamp.strength <= 0 or max(lamp.color) <= 0:
            continue
        row = np.zeros(LAMP_ROW)
        row[0] = KINDS[lamp.kind]
        row[1:4] = np.array(lamp.color) * lamp.strength
        row[4:7], row[7:10] = lamp.place, lamp.direction
        row[10] = lamp.reach
        outer = math.cos(max(lamp.outer, 1e-4))
        row[11], row[12] = max(math.cos(min(lamp.inner, lamp.outer)) - outer, 1e-3), outer
        row[13] = math.tan(math.radians(lamp.size) / 2) if lamp.kind is LampKind.SUN else lamp.size
        rows.append(row)
    return np.array(rows).reshape(-1, LAMP_ROW)
