"""Encoders of ``EXT_meshopt_compression``: vertex attributes and triangles.

They write the bit streams that the extension's specification describes, without filters: what is decoded is what was
given, bit for bit; triangles may begin at another of their corners.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from fasciculum.kernels.meshopt import ATTRIBUTES, BLOCK_BYTES, BLOCK_ELEMENTS, GROUP, TAIL, TRIANGLES

#: what a triangle without a known edge may be told with in one byte: where its second and third corner are found
TABLE = np.array((0x00, 0x10, 0x20, 0x01, 0x02, 0x12, 0x21, 0x13, 0x31, 0x23, 0x32, 0x24, 0x42, 0x34, 0, 0), np.uint8)
#: codes that stand for an entry of the table
ENTRIES = 14
#: bytes that a triangle takes at most: its code, one for its corners, three numbers of five
MOST_OF_TRIANGLE = 17


@njit(cache=True, nogil=True)
def encode_attributes(rows, result):
    """Encode rows of bytes, uint8 (N, stride), into ``result`` and return how many bytes that took.

    ``result`` needs room for ``N * stride`` bytes and a quarter more, and 1024 beyond.
    """
    count, stride = rows.shape
    result[0] = ATTRIBUTES
    at = 1
    most = min((BLOCK_BYTES // stride) & ~(GROUP - 1), BLOCK_ELEMENTS)
    last = np.zeros(stride, np.uint8)
    if count:
        last[:] = rows[0]
    deltas = np.zeros(BLOCK_ELEMENTS, np.uint8)
    for first in range(0, count, most):
        elements = min(most, count - first)
        groups = (elements + GROUP - 1) // GROUP
        for byte in range(stride):
            before = last[byte]
            for place in range(elements):
                change = np.uint8(rows[first + place, byte] - before)
                # the sign goes to the lowest bit
                deltas[place] = np.uint8((change << 1) ^ (255 if change & 128 else 0))
                before = rows[first + place, byte]
            last[byte] = before
            deltas[elements : groups * GROUP] = 0
            header = at
            at += (groups + 3) // 4
            result[header:at] = 0
            for group in range(groups):
                at = _group(deltas[group * GROUP : (group + 1) * GROUP], result, at, header + group // 4, group % 4)
    tail = max(stride, TAIL)
    result[at : at + tail] = 0
    if count:
        result[at + tail - stride : at + tail] = rows[0]
    return at + tail


@njit(cache=True, nogil=True)
def _group(deltas, result, at, header, place):
    """Write sixteen bytes in whichever of four ways is shortest, note which, and return the place behind them."""
    beyond_two, beyond_four, largest = 0, 0, 0
    for value in deltas:
        beyond_two += value >= 3
        beyond_four += value >= 15
        largest = max(largest, value)
    sizes = (0 if largest == 0 else 1 << 20, 4 + beyond_two, 8 + beyond_four, GROUP)
    kind = 0
    for other in range(1, 4):
        if sizes[other] < sizes[kind]:
            kind = other
    result[header] |= np.uint8(kind << (2 * place))
    if kind == 0:
        return at
    if kind == 3:
        result[at : at + GROUP] = deltas
        return at + GROUP
    bits = 2 * kind
    top = (1 << bits) - 1
    more = at + GROUP * bits // 8
    result[at:more] = 0
    for number in range(GROUP):
        value = deltas[number]
        bit = number * bits
        result[at + bit // 8] |= np.uint8(min(value, top) << (8 - bits - bit % 8))
        if value >= top:
            result[more] = value
            more += 1
    return more


@njit(cache=True, nogil=True)
def _put_number(value, result, at):
    """Write a difference, seven bits a byte with its sign lowest, and return the place behind it."""
    rest = ((value << 1) ^ (value >> 63)) & 0xFFFFFFFF
    while rest > 127:
        result[at] = np.uint8(rest & 127 | 128)
        rest >>= 7
        at += 1
    result[at] = np.uint8(rest)
    return at + 1


@njit(cache=True, nogil=True)
def _corner(index, after, vertices, vertex):
    """Return where a corner of a triangle without a known edge is found: 0 the next new one, 15 nowhere."""
    if index == after:
        return 0
    for way in range(1, 15):
        if vertices[(vertex - way) & 15] == index:
            return way
    return 15


@njit(cache=True, nogil=True)
def encode_triangles(triangles, result):
    """Encode triangles, int64 (T, 3), into ``result`` and return how many bytes that took.

    ``result`` needs room for `MOST_OF_TRIANGLE` bytes a triangle and 32 beyond.
    """
    count = len(triangles)
    result[0] = TRIANGLES
    edges = np.full((16, 2), -1, np.int64)
    vertices = np.full(16, -1, np.int64)
    edge = vertex = 0
    after = last = np.int64(0)
    at = 1 + count
    for number in range(count):
        a, b, c = triangles[number]
        way = -1
        for place in range(15):
            one, two = edges[(edge - 1 - place) & 15]
            if one == a and two == b:
                way = place
            elif one == b and two == c:
                way = place
                a, b, c = b, c, a
            elif one == c and two == a:
                way = place
                a, b, c = c, a, b
            if way >= 0:
                break
        if way >= 0:
            kind = 15
            if c == after:
                kind = 0
                after += 1
            else:
                for place in range(1, 13):
                    if vertices[(vertex - 1 - place) & 15] == c:
                        kind = place
                        break
            new = kind == 0 or kind == 15
            if kind == 15:
                if c - last == -1 or c - last == 1:
                    kind = 13 if c < last else 14
                else:
                    at = _put_number(c - last, result, at)
                last = c
            result[1 + number] = np.uint8(way << 4 | kind)
            vertices[vertex] = c
            vertex = (vertex + new) & 15
            edges[edge, 0], edges[edge, 1] = c, b
            edges[(edge + 1) & 15, 0], edges[(edge + 1) & 15, 1] = a, c
            edge = (edge + 2) & 15
            continue
        if b == after:
            a, b, c = b, c, a
        elif c == after:
            a, b, c = c, a, b
        one = 0 if a == after else 15
        after += one == 0
        two = _corner(b, after, vertices, vertex)
        after += two == 0
        three = _corner(c, after, vertices, vertex)
        if one == 15 and two == 0 and three == 0:
            # these three together would begin the numbers anew
            three = 15
        after += three == 0
        corners = np.uint8(two << 4 | three)
        code = 0
        if one == 0:
            for entry in range(ENTRIES):
                if TABLE[entry] == corners:
                    code = 0xF0 + entry
                    break
        if code == 0:
            code = 0xFE if one == 0 else 0xFF
            result[at] = corners
            at += 1
        result[1 + number] = np.uint8(code)
        for place, index in ((one, a), (two, b), (three, c)):
            if place == 15:
                at = _put_number(index - last, result, at)
                last = index
        vertices[vertex] = a
        vertex = (vertex + 1) & 15
        vertices[vertex] = b
        vertex = (vertex + (two == 0 or two == 15)) & 15
        vertices[vertex] = c
        vertex = (vertex + (three == 0 or three == 15)) & 15
        for start, stop in ((b, a), (c, b), (a, c)):
            edges[edge, 0], edges[edge, 1] = start, stop
            edge = (edge + 1) & 15
    result[at : at + 16] = TABLE
    return at + 16
