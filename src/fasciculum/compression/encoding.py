"""Levels to blocks, band by band on all cores; the same to the byte, however many there are."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.compression.blocks import BlockFormat
from fasciculum.compression.encoders import LIBRARIES, encode_band, library
from fasciculum.compression.processes import PROCESSES
from fasciculum.progress import SILENT, Progress
from fasciculum.threads import in_pieces, thread_count

#: texels of a band, and of a level below which it is not worth a process
BAND, SMALL = 1 << 17, 1 << 16


def _padded(texels: NDArray[Any], edges: tuple[int, int]) -> NDArray[Any]:
    """Return a level that fills whole blocks, its edge repeated."""
    down, across = -texels.shape[0] % edges[1], -texels.shape[1] % edges[0]
    if not down and not across:
        return np.ascontiguousarray(texels)
    return np.ascontiguousarray(np.pad(texels, ((0, down), (0, across), (0, 0)), mode="edge"))


def encode_level(texels: NDArray[Any], form: BlockFormat, progress: Progress = SILENT) -> bytes:
    """Encode a level, shape (H, W, C): uint8, or half floats where the format holds them.

    Raises
    ------
    UnsupportedInput
        When a library is missing.
    Cancelled
        Within the time that one band takes.
    """
    library(LIBRARIES.get(form.codec, "numpy"))
    whole = _padded(texels, form.edges)
    height, width = whole.shape[:2]
    rows = max(BAND // width // form.edges[1], 1) * form.edges[1]
    bands = [whole[first : first + rows] for first in range(0, height, rows)]
    if height * width <= SMALL or form.codec not in LIBRARIES or thread_count() == 1:
        parts = []
        for number, band in enumerate(bands):
            progress.update(number / len(bands), "Compressing textures")
            parts.append(encode_band(band, form.codec, form.edges))
        return b"".join(parts)
    results: dict[int, bytes] = {}

    def work(number: int) -> None:
        results[number] = PROCESSES.encode((bands[number], form.codec, form.edges))

    in_pieces(work, range(len(bands)), words="Compressing textures", progress=progress)
    return b"".join(results[number] for number in range(len(bands)))
