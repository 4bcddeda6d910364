"""Colours that stand for objects and figures. Numbers to colours is done here once, for both views."""

from __future__ import annotations

import hashlib

import numpy as np
from numpy.typing import NDArray
from PySide6.QtGui import QColor

from fasciculum.model.choices import Treatment

#: low, target, high: blue over pale grey to ochre, even in lightness on both sides and told apart by colour-blind eyes
SCALE = np.array([[0.11, 0.26, 0.52], [0.36, 0.56, 0.76], [0.86, 0.86, 0.84], [0.80, 0.56, 0.26], [0.50, 0.24, 0.05]])
#: factors off the target at the ends of the scale
FARTHEST = 4.0


WAY_WORDS = {
    Treatment.BAKE: "baked in",
    Treatment.LANE: "on a lane",
    Treatment.APART: "kept apart",
    Treatment.CUT: "cut at its repeats",
    Treatment.SLICE: "in a slice",
    Treatment.SWATCH: "on a swatch",
    Treatment.BLOCK: "in shared blocks",
}
#: the same where there is little room
WAY_SHORT = WAY_WORDS | {
    Treatment.CUT: "cut",
    Treatment.SWATCH: "swatch",
    Treatment.BLOCK: "block",
    Treatment.SLICE: "slice",
    Treatment.LANE: "lane",
}
#: told apart by lightness too, so that nobody needs the hue
WAY_COLORS = {
    Treatment.BAKE: "#8A9089",
    Treatment.LANE: "#4F8F83",
    Treatment.APART: "#3E5C76",
    Treatment.CUT: "#D9D3C0",
    Treatment.SLICE: "#7A4E7E",
    Treatment.SWATCH: "#B2603F",
    Treatment.BLOCK: "#5E7A4A",
}


def way_color(way: Treatment) -> QColor:
    """Return the colour that stands for a way of treating a material."""
    return QColor(WAY_COLORS[way])


def object_color(key: str) -> QColor:
    """Return the muted colour that stands for an object everywhere."""
    digest = hashlib.blake2b(key.encode(), digest_size=4).digest()
    hue = (digest[0] + digest[1] * 256) % 360
    return QColor.fromHsv(hue, 70 + digest[2] % 50, 140 + digest[3] % 40)


def scale_colors(ratios: NDArray[np.floating]) -> NDArray[np.float64]:
    """Return sRGB colours (N, 3) for ratios to the target: 1 is the middle, a quarter and four times the ends."""
    position = np.log(np.clip(np.nan_to_num(ratios, nan=1.0), 1e-6, 1e6)) / np.log(FARTHEST)
    place = np.clip((position + 1) / 2, 0, 1) * (len(SCALE) - 1)
    low = np.minimum(place.astype(int), len(SCALE) - 2)
    part = (place - low)[:, None]
    colors: NDArray[np.float64] = SCALE[low] * (1 - part) + SCALE[low + 1] * part
    return colors
