"""Moves and exchanges of objects between sheets, each kept when the division gets cheaper by it."""

from __future__ import annotations

import numpy as np
from numba import njit

#: how much of the texels' cost the spread of objects counts, and what too full and empty sheets cost
SPREAD, OVER, EMPTY = 0.25, 10.0, 1e5


@njit(cache=True, nogil=True)
def division_cost(loads, moments, members, whole, capacity, reach):
    """Return what a division costs; see `fasciculum.operations.plan.dividing`.

    Parameters
    ----------
    loads : float64 (S,)
        Texels of each sheet.
    moments : float64 (S, 5)
        Sum of weights, of weighted places (3), and of weighted squares of places.
    members : int64 (S,)
        Objects of each sheet.
    whole : float
        Texels when nothing is there twice.
    capacity : float64 (S,)
        Texels that each sheet holds.
    reach : float
        Root mean square distance of all objects from their middle, metres.
    """
    total = 0.0
    for sheet in range(len(loads)):
        total += loads[sheet]
    cost = total / whole
    for sheet in range(len(loads)):
        if members[sheet] == 0:
            cost += EMPTY
            continue
        mass = moments[sheet, 0]
        x, y, z = moments[sheet, 1] / mass, moments[sheet, 2] / mass, moments[sheet, 3] / mass
        spread = np.sqrt(max(moments[sheet, 4] / mass - x * x - y * y - z * z, 0.0))
        if total > 0:
            cost += SPREAD * loads[sheet] / total * spread / reach
        if loads[sheet] > capacity[sheet]:
            cost += OVER * (loads[sheet] / capacity[sheet] - 1)
    return cost


@njit(cache=True, nogil=True)
def move(objects, to, labels, starts, resources, texels, places, weights, counts, loads, moments, members):
    """Put objects onto a sheet and keep all sums up to date."""
    for number in objects:
        at = labels[number]
        if at == to:
            continue
        for entry in range(starts[number], starts[number + 1]):
            resource = resources[entry]
            counts[at, resource] -= 1
            if counts[at, resource] == 0:
                loads[at] -= texels[resource]
            if counts[to, resource] == 0:
                loads[to] += texels[resource]
            counts[to, resource] += 1
        mass = weights[number]
        x, y, z = places[number, 0], places[number, 1], places[number, 2]
        square = mass * (x * x + y * y + z * z)
        for sheet, sign in ((at, -1.0), (to, 1.0)):
            moments[sheet, 0] += sign * mass
            moments[sheet, 1] += sign * mass * x
            moments[sheet, 2] += sign * mass * y
            moments[sheet, 3] += sign * mass * z
            moments[sheet, 4] += sign * square
        members[at] -= 1
        members[to] += 1
        labels[number] = to


@njit(cache=True, nogil=True)
def _back(objects, before, labels, starts, resources, texels, places, weights, counts, loads, moments, members):
    """Put objects back onto the sheets that they came from."""
    for place in range(len(objects)):
        move(
            objects[place : place + 1],
            before[place],
            labels,
            starts,
            resources,
            texels,
            places,
            weights,
            counts,
            loads,
            moments,
            members,
        )


@njit(cache=True, nogil=True)
def refine(
    labels, starts, resources, texels, places, weights, bunch_starts, bunch_members, pairs, sums, whole, capacity, reach
):
    """Go once over all bunches of objects: move each where the division is cheapest, then try exchanges.

    Parameters
    ----------
    labels : int64 (N,)
        The sheet of each object; changed.
    starts : int64 (N + 1,)
        Object ``i`` reads ``resources[starts[i]:starts[i + 1]]``.
    texels : float64 (R,)
    places : float64 (N, 3)
    weights : float64 (N,)
    bunch_starts, bunch_members : int64
        Objects that are moved together, as ``starts`` and ``resources``.
    pairs : int64 (P, 2)
        Bunches whose sheets are exchanged.
    sums : tuple
        counts (S, R), loads (S,), moments (S, 5), members (S,) of the division; changed.
    whole, capacity, reach
        Those of `division_cost`.

    Returns
    -------
    float
        The cost at the end.
    """
    counts, loads, moments, members = sums
    sheets = len(loads)
    cost = division_cost(loads, moments, members, whole, capacity, reach)
    for bunch in range(len(bunch_starts) - 1):
        objects = bunch_members[bunch_starts[bunch] : bunch_starts[bunch + 1]]
        before = labels[objects].copy()
        best, best_cost = -1, cost - 1e-12
        for to in range(sheets):
            move(objects, to, labels, starts, resources, texels, places, weights, counts, loads, moments, members)
            tried = division_cost(loads, moments, members, whole, capacity, reach)
            if tried < best_cost:
                best, best_cost = to, tried
        if best >= 0:
            move(objects, best, labels, starts, resources, texels, places, weights, counts, loads, moments, members)
            cost = best_cost
        else:
            _back(objects, before, labels, starts, resources, texels, places, weights, counts, loads, moments, members)
    for pair in range(len(pairs)):
        one = bunch_members[bunch_starts[pairs[pair, 0]] : bunch_starts[pairs[pair, 0] + 1]]
        two = bunch_members[bunch_starts[pairs[pair, 1]] : bunch_starts[pairs[pair, 1] + 1]]
        first, second = labels[one[0]], labels[two[0]]
        if first == second:
            continue
        before_one, before_two = labels[one].copy(), labels[two].copy()
        move(one, second, labels, starts, resources, texels, places, weights, counts, loads, moments, members)
        move(two, first, labels, starts, resources, texels, places, weights, counts, loads, moments, members)
        tried = division_cost(loads, moments, members, whole, capacity, reach)
        if tried < cost - 1e-12:
            cost = tried
            continue
        _back(two, before_two, labels, starts, resources, texels, places, weights, counts, loads, moments, members)
        _back(one, before_one, labels, starts, resources, texels, places, weights, counts, loads, moments, members)
    return cost
