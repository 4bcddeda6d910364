"""Automatic unwrapping of a surface: cut into charts, laid flat, joined, turned square; alike parts alike."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fasciculum.model.unwrapping import UnwrapSettings
from fasciculum.progress import SILENT, Progress
from fasciculum.uv.islands import renumber
from fasciculum.uv.unwrap.alike import Alike, find_alike
from fasciculum.uv.unwrap.cut_methods import cut_best
from fasciculum.uv.unwrap.square import squared
from fasciculum.uv.unwrap.surface import Mesh, mesh_of


@dataclass(frozen=True, eq=False)
class Unwrapped:
    """A surface that has been unwrapped.

    Attributes
    ----------
    corners : ndarray of float64, shape (T, 3, 2)
        Flat, metres; the box of each chart begins at (0, 0).
    islands : ndarray of int32, shape (T,)
    seams : ndarray of bool, shape (T, 3)
        Edges (from corner k to corner k + 1) along which the surface was cut.
    parts : int
        Connected parts of the surface.
    """

    corners: NDArray[np.float64]
    islands: NDArray[np.int32]
    seams: NDArray[np.bool_]
    parts: int


def unwrap(
    corners: NDArray[np.float64],
    settings: UnwrapSettings,
    *,
    groups: NDArray[np.int64] | None = None,
    seams: NDArray[np.bool_] | None = None,
    joined: NDArray[np.bool_] | None = None,
    progress: Progress = SILENT,
) -> Unwrapped:
    """Unwrap a surface.

    Parameters
    ----------
    corners : ndarray of float64, shape (T, 3, 3)
        Metres.
    settings : UnwrapSettings
    groups : ndarray of int64, shape (T,), optional
        Triangles of different groups are not joined, wherever they lie.
    seams : ndarray of bool, shape (T, 3), optional
        Edges along which the surface is cut in any case.
    joined : ndarray of bool, shape (T, 3), optional
        Edges that are no seams however sharp they are.

    Returns
    -------
    Unwrapped
        No chart lies on itself and no triangle is turned over; slivers without area may lie as they like.
    """
    if not len(corners):
        none = np.zeros((0, 3), bool)
        return Unwrapped(np.zeros((0, 3, 2)), np.zeros(0, np.int32), none, 0)
    progress.update(0.0, "Joining triangles")
    mesh = mesh_of(corners, groups)
    wanted, whole = (_edges_of(mesh, given) for given in (seams, joined))
    marked: NDArray[np.bool_] = np.asarray((wanted | whole).reshape(-1, 3).any(axis=1))
    progress.update(0.05, "Looking for alike parts")
    alike = find_alike(mesh, marked)
    leading = np.flatnonzero(alike.leads)
    half = (3 * leading[:, None] + np.arange(3)).ravel()
    place, cut = np.zeros((len(mesh), 3, 2)), np.zeros((len(mesh), 3), np.bool_)
    label = np.zeros(len(mesh), np.int64)
    leaders = mesh.some(leading)
    charts = cut_best(leaders, settings, wanted[half], whole[half], progress.part(0.1, 0.95))
    place[leading] = squared(charts.place, charts.label, charts.cut | (leaders.across < 0))
    label[leading], cut[leading] = charts.label, charts.cut.reshape(-1, 3)
    _copy(mesh, alike, place, cut, label)
    progress.update(1.0)
    place[mesh.turned] = place[mesh.turned][:, [0, 2, 1]]
    cut[mesh.turned] = cut[mesh.turned][:, [2, 1, 0]]
    return Unwrapped(place, renumber(label.astype(np.int32)), cut, int(mesh.part.max()) + 1)


def _edges_of(mesh: Mesh, given: NDArray[np.bool_] | None) -> NDArray[np.bool_]:
    """Return half-edges of the surface for edges of its triangles, on both sides of each."""
    if given is None:
        return np.zeros(3 * len(mesh), np.bool_)
    result = given.copy()
    result[mesh.turned] = result[mesh.turned][:, [2, 1, 0]]
    flat = result.ravel()
    present = np.flatnonzero(flat & (mesh.across >= 0))
    flat[mesh.across[present]] = True
    return flat


def _copy(
    mesh: Mesh,
    alike: Alike,
    place: NDArray[np.float64],
    cut: NDArray[np.bool_],
    label: NDArray[np.int64],
) -> None:
    """Give parts the charts of those that they are alike to; mirrored ones mirrored."""
    following = np.flatnonzero(~alike.leads)
    if not len(following):
        return
    home, flip = alike.home[following], alike.mirrored[following]
    for k in range(3):
        corner = alike.corner(following, k)
        place[following, k] = place[home, corner]
        cut[following, k] = cut[home, np.where(flip, (corner + 2) % 3, corner)]
    low = np.full(int(label.max()) + 1, 0.0)
    np.maximum.at(low, label[home], place[home].max(axis=1)[:, 0])
    wide = low[label[home]][:, None]
    place[following, :, 0] = np.where(flip[:, None], wide - place[following, :, 0], place[following, :, 0])
    # a chart of its own for each part that follows
    key = mesh.part[following] * (int(label.max()) + 1) + label[home]
    _, number = np.unique(key, return_inverse=True)
    label[following] = int(label.max()) + 1 + number.reshape(-1)
