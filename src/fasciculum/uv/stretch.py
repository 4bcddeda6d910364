"""Stretch: the singular values of the map from UV space to the surface."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fasciculum.uv.corners import signed_uv_areas, surface_areas


@dataclass(frozen=True)
class Stretch:
    """L2 and Linf stretch, and the share of area whose singular values differ by more than a factor of two.

    Sander, Snyder, Gortler and Hoppe 2001, doi:10.1145/383259.383307.
    """

    l2: float
    linf: float
    share_over_2: float


def metric(world: NDArray[np.float64], uvs: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return the first fundamental form of the map from UV to surface, rows (E, F, G), NaN where degenerate."""
    area = 2 * signed_uv_areas(uvs)
    safe = np.where(np.abs(area) > 0, area, np.nan)[:, None]
    e1, e2 = world[:, 1] - world[:, 0], world[:, 2] - world[:, 0]
    d1, d2 = uvs[:, 1] - uvs[:, 0], uvs[:, 2] - uvs[:, 0]
    along_u = (e1 * d2[:, 1:] - e2 * d1[:, 1:]) / safe
    along_v = (e2 * d1[:, :1] - e1 * d2[:, :1]) / safe
    return np.stack([(along_u * along_u).sum(1), (along_u * along_v).sum(1), (along_v * along_v).sum(1)], axis=1)


def singular_values(
    world: NDArray[np.float64], uvs: NDArray[np.float64]
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Return the greater and lesser singular value of each triangle's map, surface units per UV unit."""
    e, f, g = metric(world, uvs).T
    mean, half = (e + g) / 2, np.sqrt(((e - g) / 2) ** 2 + f**2)
    return np.sqrt(mean + half), np.sqrt(np.maximum(mean - half, 0))


def angle_stretch(world: NDArray[np.float64], uvs: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return the greater over the lesser singular value of each triangle's map; NaN where it is degenerate."""
    s1, s2 = singular_values(world, uvs)
    result: NDArray[np.float64] = s1 / np.where(s2 > 0, s2, np.nan)
    return result


def measure_stretch(world: NDArray[np.float64], uvs: NDArray[np.float64]) -> Stretch:
    """Measure a surface's stretch, scaled so that the total areas agree.

    Parameters
    ----------
    world : ndarray of float64, shape (T, 3, 3)
    uvs : ndarray of float64, shape (T, 3, 2)
    """
    areas, flat = surface_areas(world), np.abs(signed_uv_areas(uvs))
    s1, s2 = singular_values(world, uvs)
    usable = (areas > 0) & (flat > 0) & np.isfinite(s1)
    if not usable.any():
        return Stretch(math.nan, math.nan, math.nan)
    areas, flat, s1, s2 = areas[usable], flat[usable], s1[usable], s2[usable]
    scale = math.sqrt(flat.sum() / areas.sum())
    s1, s2 = s1 * scale, s2 * scale
    l2 = math.sqrt(float((areas * (s1**2 + s2**2) / 2).sum() / areas.sum()))
    return Stretch(l2, float(s1.max()), float(areas[s1 > 2 * s2].sum() / areas.sum()))
