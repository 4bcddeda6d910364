"""The texels that islands touch, row by row as spans, and the gaps between them: no picture of the sheet is made."""

from __future__ import annotations

import numpy as np
from numba import njit

from fasciculum.kernels.packing.texels import span_in_slab


@njit(cache=True, nogil=True)
def list_spans(corners, labels, width, height, spans):
    """Write each triangle's touched texels as spans (row, label, first, last); return how many there are.

    ``spans`` may be too short, or empty, to learn how many there will be. Texels off the sheet are left out.
    """
    count = 0
    for t in range(len(corners)):
        low_y = min(corners[t, 0, 1], corners[t, 1, 1], corners[t, 2, 1])
        high_y = max(corners[t, 0, 1], corners[t, 1, 1], corners[t, 2, 1])
        for y in range(max(int(np.floor(low_y)), 0), min(int(np.floor(high_y)), height - 1) + 1):
            left, right = span_in_slab(corners[t], float(y), y + 1.0)
            if right < left:
                continue
            first, last = max(int(np.floor(left)), 0), min(int(np.floor(right)), width - 1)
            if first > last:
                continue
            if count < len(spans):
                spans[count, 0], spans[count, 1], spans[count, 2], spans[count, 3] = y, labels[t], first, last
            count += 1
    return count


@njit(cache=True, nogil=True)
def join_spans(spans):
    """Join spans of one row and label that meet, in place; ``spans`` (S, 4) sorted by row, label, first.

    Returns how many are left.
    """
    kept = 0
    for s in range(len(spans)):
        same = kept > 0 and spans[kept - 1, 0] == spans[s, 0] and spans[kept - 1, 1] == spans[s, 1]
        if same and spans[s, 2] <= spans[kept - 1, 3] + 1:
            spans[kept - 1, 3] = max(spans[kept - 1, 3], spans[s, 3])
        else:
            spans[kept] = spans[s]
            kept += 1
    return kept


@njit(cache=True, nogil=True)
def count_clashes(spans, starts):
    """Return how many texels are touched by more labels than one; spans sorted by row and first.

    ``starts`` (H + 1,) says where each row begins.
    """
    clashes = 0
    for row in range(len(starts) - 1):
        # up to where texels are touched already, and up to where they are counted as touched twice
        reach, counted = -1, -1
        for s in range(starts[row], starts[row + 1]):
            first, last = max(spans[s, 2], counted + 1), min(spans[s, 3], reach)
            if last >= first:
                clashes += last - first + 1
                counted = last
            reach = max(reach, spans[s, 3])
    return clashes


@njit(cache=True, nogil=True)
def gap_of_rows(spans, a, a_end, b, b_end, best):
    """Return the fewest texels across between spans a..a_end-1 and b..b_end-1 of unlike labels, ``best`` at most.

    Both runs are sorted by their first texel, and no two spans of one run share a texel.
    """
    while a < a_end and b < b_end:
        # whichever ends first is nearest to the other and to what follows it
        if spans[a, 3] <= spans[b, 3]:
            j = b
            while j < b_end and spans[j, 2] - spans[a, 3] - 1 < best:
                if spans[j, 1] != spans[a, 1]:
                    best = min(best, max(spans[j, 2] - spans[a, 3] - 1, 0))
                    break
                j += 1
            a += 1
        else:
            i = a
            while i < a_end and spans[i, 2] - spans[b, 3] - 1 < best:
                if spans[i, 1] != spans[b, 1]:
                    best = min(best, max(spans[i, 2] - spans[b, 3] - 1, 0))
                    break
                i += 1
            b += 1
    return best


@njit(cache=True, nogil=True)
def smallest_gap_of(spans, starts):
    """Return the fewest free texels between texels of two labels, or -1 when there are not two.

    Spans sorted by row and first, none sharing a texel with another; ``starts`` (H + 1,) says where each row begins.
    """
    rows = len(starts) - 1
    far = 1 << 30
    best = far
    for row in range(rows):
        for s in range(starts[row], starts[row + 1] - 1):
            if spans[s, 1] != spans[s + 1, 1]:
                best = min(best, spans[s + 1, 2] - spans[s, 3] - 1)
    down = 1
    while down < rows and down - 1 < best:
        for row in range(rows - down):
            result = gap_of_rows(spans, starts[row], starts[row + 1], starts[row + down], starts[row + down + 1], best)
            if result < best:
                best = max(result, down - 1)
        down += 1
    return best if best < far else -1
