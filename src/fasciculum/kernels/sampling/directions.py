"""Directions over a hemisphere: Sobol's sequence, scrambled for each texel (Owen 1995; Burley 2020)."""

from __future__ import annotations

import numpy as np
from numba import njit


@njit(cache=True, nogil=True, inline="always")
def reversed_bits(x):
    """Return a 32-bit number with its bits the other way round."""
    x = np.uint32(x)
    x = ((x >> np.uint32(1)) & np.uint32(0x55555555)) | ((x & np.uint32(0x55555555)) << np.uint32(1))
    x = ((x >> np.uint32(2)) & np.uint32(0x33333333)) | ((x & np.uint32(0x33333333)) << np.uint32(2))
    x = ((x >> np.uint32(4)) & np.uint32(0x0F0F0F0F)) | ((x & np.uint32(0x0F0F0F0F)) << np.uint32(4))
    x = ((x >> np.uint32(8)) & np.uint32(0x00FF00FF)) | ((x & np.uint32(0x00FF00FF)) << np.uint32(8))
    return np.uint32((x >> np.uint32(16)) | (x << np.uint32(16)))


@njit(cache=True, nogil=True, inline="always")
def hashed(x):
    """Return a well-mixed 32-bit number (Wellons' lowbias32)."""
    x = np.uint32(x)
    x = np.uint32((x ^ (x >> np.uint32(16))) * np.uint32(0x7FEB352D))
    x = np.uint32((x ^ (x >> np.uint32(15))) * np.uint32(0x846CA68B))
    return np.uint32(x ^ (x >> np.uint32(16)))


@njit(cache=True, nogil=True, inline="always")
def scrambled(x, seed):
    """Return a number of a sequence scrambled as Owen does, by the hash of Laine and Karras; its bits come reversed."""
    x = np.uint32(np.uint32(x) + np.uint32(seed))
    x = np.uint32(x ^ np.uint32(x * np.uint32(0x6C50B47C)))
    x = np.uint32(x ^ np.uint32(x * np.uint32(0xB82F1E52)))
    x = np.uint32(x ^ np.uint32(x * np.uint32(0xC7AFE638)))
    x = np.uint32(x ^ np.uint32(x * np.uint32(0x8D22F6E6)))
    return reversed_bits(x)


@njit(cache=True, nogil=True, inline="always")
def second_of(index):
    """Return the second dimension of Sobol's sequence, 32 bits, reversed.

    Its matrix is Pascal's triangle modulo 2: bit j is the sum of all bits whose numbers hold those of j.
    """
    x = np.uint32(index)
    x = np.uint32(x ^ ((x >> np.uint32(1)) & np.uint32(0x55555555)))
    x = np.uint32(x ^ ((x >> np.uint32(2)) & np.uint32(0x33333333)))
    x = np.uint32(x ^ ((x >> np.uint32(4)) & np.uint32(0x0F0F0F0F)))
    x = np.uint32(x ^ ((x >> np.uint32(8)) & np.uint32(0x00FF00FF)))
    return np.uint32(x ^ (x >> np.uint32(16)))


@njit(cache=True, nogil=True, inline="always")
def point_of(index, seed):
    """Return a point of the unit square: number ``index`` of the sequence that a seed has."""
    order = scrambled(reversed_bits(index), seed)
    # the order is shuffled too, so that neighbours' first points differ in all dimensions
    one = scrambled(order, hashed(np.uint32(seed) ^ np.uint32(0x9E3779B9)))
    two = scrambled(second_of(order), hashed(np.uint32(seed) ^ np.uint32(0x85EBCA6B)))
    return one * 2.3283064365386963e-10, two * 2.3283064365386963e-10


@njit(cache=True, nogil=True, inline="always")
def sine_of_turns(x):
    """Return the sine of an angle of 0 to 2 whole turns, right to 1e-9, in as few steps as many at once take.

    By its series (to the 13th power) on a quarter of a turn either way.
    """
    x -= np.floor(x)
    # rising from -1/4 to 1/4 of a turn, and falling beyond
    x = x if x < 0.25 else (0.5 - x if x < 0.75 else x - 1.0)
    x *= 2.0 * np.pi
    s = x * x
    t = 1.6059043836821613e-10
    t = t * s - 2.5052108385441720e-08
    t = t * s + 2.7557319223985893e-06
    t = t * s - 1.9841269841269841e-04
    t = t * s + 8.3333333333333333e-03
    t = t * s - 1.6666666666666667e-01
    return x + x * s * t


@njit(cache=True, nogil=True, inline="always")
def cosine_direction(a, b):
    """Return a direction about +z, more of them where the cosine is greater, of a point of the unit square."""
    radius = np.sqrt(a)
    return radius * sine_of_turns(b + 0.25), radius * sine_of_turns(b), np.sqrt(max(1.0 - a, 0.0))


@njit(cache=True, nogil=True, inline="always")
def frame_about(x, y, z):
    """Return two unit vectors that are upright on a third and on each other (Duff et al. 2017)."""
    sign = 1.0 if z >= 0.0 else -1.0
    a = -1.0 / (sign + z)
    b = x * y * a
    return 1.0 + sign * x * x * a, sign * b, -sign * x, b, sign + y * y * a, -y
