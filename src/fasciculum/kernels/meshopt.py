"""Decoders of ``EXT_meshopt_compression``: vertex attributes, triangles, index sequences, and its filters.

As that extension's specification describes the bit streams. Every read is checked: a decoder that would go beyond its
data returns False.
"""

from __future__ import annotations

import numpy as np
from numba import njit

#: the first byte of each stream
ATTRIBUTES, TRIANGLES, INDICES = 0xA0, 0xE1, 0xD1
#: bytes of a block, its most elements, elements of a group, least bytes behind the blocks
BLOCK_BYTES, BLOCK_ELEMENTS, GROUP, TAIL = 8192, 256, 16, 32


@njit(cache=True, nogil=True)
def decode_attributes(data, count, stride, result):
    """Decode ``count`` elements of ``stride`` bytes into ``result``, uint8 (count, stride); return whether it went."""
    tail = max(stride, TAIL)
    end = len(data) - tail
    if end < 1 or data[0] != ATTRIBUTES:
        return False
    last = data[len(data) - stride :].copy()
    most = min((BLOCK_BYTES // stride) & ~(GROUP - 1), BLOCK_ELEMENTS)
    at = 1
    deltas = np.empty(BLOCK_ELEMENTS, np.uint8)
    for first in range(0, count, most):
        elements = min(most, count - first)
        groups = (elements + GROUP - 1) // GROUP
        for byte in range(stride):
            header = at
            at += (groups + 3) // 4
            if at > end:
                return False
            for group in range(groups):
                kind = (data[header + group // 4] >> (2 * (group % 4))) & 3
                if kind == 0:
                    for place in range(GROUP):
                        deltas[group * GROUP + place] = 0
                elif kind == 3:
                    if at + GROUP > end:
                        return False
                    for place in range(GROUP):
                        deltas[group * GROUP + place] = data[at + place]
                    at += GROUP
                else:
                    # two or four bits for each, the highest first; those that are all set stand for a byte behind them
                    bits = 2 * kind
                    top = (1 << bits) - 1
                    more = at + GROUP * bits // 8
                    if more > end:
                        return False
                    for place in range(GROUP):
                        bit = place * bits
                        value = (data[at + bit // 8] >> (8 - bits - bit % 8)) & top
                        if value == top:
                            if more >= end:
                                return False
                            value = data[more]
                            more += 1
                        deltas[group * GROUP + place] = value
                    at = more
            before = last[byte]
            for place in range(elements):
                delta = deltas[place]
                before = np.uint8((before + ((delta >> 1) ^ ((256 - (delta & 1)) & 255))) & 255)
                result[first + place, byte] = before
            last[byte] = before
    return at == end


@njit(cache=True, nogil=True)
def _number(data, at, end):
    """Return a number of seven bits a byte, and the place behind it, -1 beyond the end."""
    value, shift = np.int64(0), 0
    for _ in range(5):
        if at >= end:
            return value, -1
        byte = np.int64(data[at])
        at += 1
        value |= (byte & 127) << shift
        if byte < 128:
            break
        shift += 7
    return value & 0xFFFFFFFF, at


@njit(cache=True, nogil=True)
def _signed(value):
    """Return a number whose lowest bit is its sign."""
    return (value >> 1) ^ -(value & 1)


@njit(cache=True, nogil=True)
def decode_triangles(data, count, result):
    """Decode ``count`` indices of triangles into ``result``, int64 (count,); return whether that went."""
    triangles = count // 3
    end = len(data) - 16
    if count % 3 or end < 1 + triangles or data[0] != TRIANGLES:
        return False
    edges = np.full((16, 2), -1, np.int64)
    vertices = np.full(16, -1, np.int64)
    edge = vertex = 0
    after = last = np.int64(0)
    at = 1 + triangles
    for triangle in range(triangles):
        code = np.int64(data[1 + triangle])
        if code < 0xF0:
            way = code >> 4
            a, b = edges[(edge - 1 - way) & 15]
            kind = code & 15
            new = kind == 0
            if kind < 13:
                if new:
                    c = after
                    after += 1
                else:
                    c = vertices[(vertex - 1 - kind) & 15]
            else:
                if kind == 15:
                    value, at = _number(data, at, end)
                    if at < 0:
                        return False
                    last += _signed(value)
                else:
                    last += -1 if kind == 13 else 1
                c = last
                new = True
            vertices[vertex] = c
            vertex = (vertex + new) & 15
            edges[edge, 0], edges[edge, 1] = c, b
            edges[(edge + 1) & 15, 0], edges[(edge + 1) & 15, 1] = a, c
            edge = (edge + 2) & 15
        else:
            if code < 0xFE:
                more = np.int64(data[end + (code & 15)])
                one = np.int64(0)
            else:
                if at >= end:
                    return False
                more = np.int64(data[at])
                at += 1
                one = np.int64(0 if code == 0xFE else 15)
                if more == 0:
                    after = np.int64(0)
            two, three = more >> 4, more & 15
            a = b = c = np.int64(0)
            if one == 0:
                a = after
                after += 1
            if two == 0:
                b = after
                after += 1
            elif two < 15 or code < 0xFE:
                b = vertices[(vertex - two) & 15]
            if three == 0:
                c = after
                after += 1
            elif three < 15 or code < 0xFE:
                c = vertices[(vertex - three) & 15]
            if code >= 0xFE:
                for corner in range(3):
                    explicit = one == 15 if corner == 0 else two == 15 if corner == 1 else three == 15
                    if not explicit:
                        continue
                    value, at = _number(data, at, end)
                    if at < 0:
                        return False
                    last += _signed(value)
                    if corner == 0:
                        a = last
                    elif corner == 1:
                        b = last
                    else:
                        c = last
            vertices[vertex] = a
            vertex = (vertex + 1) & 15
            vertices[vertex] = b
            vertex = (vertex + (two == 0 or (two == 15 and code >= 0xFE))) & 15
            vertices[vertex] = c
            vertex = (vertex + (three == 0 or (three == 15 and code >= 0xFE))) & 15
            for start, stop in ((b, a), (c, b), (a, c)):
                edges[edge, 0], edges[edge, 1] = start, stop
                edge = (edge + 1) & 15
        result[3 * triangle], result[3 * triangle + 1], result[3 * triangle + 2] = a, b, c
    return at == end


@njit(cache=True, nogil=True)
def decode_sequence(data, count, result):
    """Decode ``count`` indices in any order into ``result``, int64 (count,); return whether that went."""
    end = len(data) - 4
    if end < 1 or data[0] != INDICES:
        return False
    last = np.zeros(2, np.int64)
    at = 1
    for place in range(count):
        value, at = _number(data, at, end)
        if at < 0:
            return False
        which = value & 1
        last[which] += _signed(value >> 1)
        result[place] = last[which]
    return at == end


@njit(cache=True, nogil=True)
def _rounded(value):
    return int(value + (0.5 if value >= 0 else -0.5))


@njit(cache=True, nogil=True)
def filter_octahedral(rows, top):
    """Turn octahedral directions, int (N, 4), into unit vectors of so many steps; the fourth value stays."""
    for row in range(len(rows)):
        x, y = float(rows[row, 0]), float(rows[row, 1])
        z = float(rows[row, 2]) - abs(x) - abs(y)
        fold = min(z, 0.0)
        x += fold if x >= 0 else -fold
        y += fold if y >= 0 else -fold
        length = np.sqrt(x * x + y * y + z * z)
        scale = top / length if length > 0 else 0.0
        rows[row, 0], rows[row, 1], rows[row, 2] = _rounded(x * scale), _rounded(y * scale), _rounded(z * scale)


@njit(cache=True, nogil=True)
def filter_quaternions(rows):
    """Turn quaternions without their largest part, int16 (N, 4), into whole ones."""
    for row in range(len(rows)):
        scale = 1 / np.sqrt(2.0) / (rows[row, 3] | 3)
        which = rows[row, 3] & 3
        x, y, z = rows[row, 0] * scale, rows[row, 1] * scale, rows[row, 2] * scale
        w = np.sqrt(max(1 - x * x - y * y - z * z, 0.0))
        rows[row, (which + 1) & 3] = _rounded(x * 32767)
        rows[row, (which + 2) & 3] = _rounded(y * 32767)
        rows[row, (which + 3) & 3] = _rounded(z * 32767)
        rows[row, which] = _rounded(w * 32767)
