"""Images of models into the pixel store, several at a time; what cannot be used becomes an image without pixels."""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from contextlib import AbstractContextManager, nullcontext
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.errors import FasciculumError, InputError, MissingFile, OutsideFolder, UnsupportedInput
from fasciculum.io.codecs import codec_of, decode, texels_of
from fasciculum.io.pixels import PixelStore
from fasciculum.io.places import Places
from fasciculum.model.digests import digest_of
from fasciculum.model.finding import ALLOW, LOCATE, WARNING, Finding
from fasciculum.model.scene import Image
from fasciculum.progress import Progress
from fasciculum.threads import thread_count

#: texels along an edge of the sample that an image's average is taken from
SAMPLE = 64
#: seconds between two looks at whether the work was cancelled
LOOK = 0.05
#: texels from which images are decoded one at a time, so that memory holds one of them on any number of cores
LARGE = 4096 * 4096

_one_large = threading.Lock()


@dataclass(frozen=True)
class Wanted:
    """An image that a file names: what it is called, how it was named, and how its bytes are had."""

    name: str
    item: str
    source: str
    data: Callable[[], bytes]


def read_images(
    wanted: Sequence[Wanted], places: Places, store: PixelStore, progress: Progress
) -> tuple[tuple[Image, ...], list[Finding]]:
    """Decode images into the store, as many at a time as there are cores.

    Parameters
    ----------
    wanted : sequence of Wanted
    places : Places
        Where files are looked for.
    store : PixelStore

    Returns
    -------
    images : tuple of Image
        In the order of `wanted`.
    findings : list of Finding
        One for each image that cannot be used.

    Raises
    ------
    Cancelled
    OutputError
        When the store has no room.
    """
    images: dict[int, Image] = {}
    problems: dict[int, Finding] = {}
    with ThreadPoolExecutor(max_workers=thread_count()) as pool:
        waiting: dict[Future[Image], int] = {}
        try:
            for index, entry in enumerate(wanted):
                waiting[pool.submit(_read, entry, places, store)] = index
            while waiting:
                done, _ = wait(waiting, timeout=LOOK, return_when=FIRST_COMPLETED)
                for future in done:
                    index = waiting.pop(future)
                    try:
                        images[index] = future.result()
                    except InputError as error:
                        images[index], problems[index] = missing_image(wanted[index], places, error)
                    # told for each, however many were ready at once
                    progress.update(len(images) / len(wanted), _words(wanted, len(images)))
                progress.check()
        except BaseException:
            pool.shutdown(wait=False, cancel_futures=True)
            raise
    return tuple(images[index] for index in range(len(wanted))), [problems[index] for index in sorted(problems)]


def _words(wanted: Sequence[Wanted], done: int) -> str:
    return f"Reading {wanted[done].name}" if done < len(wanted) else "Images read"


def missing_image(entry: Wanted, places: Places, error: FasciculumError) -> tuple[Image, Finding]:
    """Return an image without pixels, and the finding that says why."""
    outside = isinstance(error, OutsideFolder)
    path = str(places.folder / entry.source) if entry.source else ""
    told = entry.source, not entry.source, False, error.message, path, (), outside
    image = Image(entry.name, 0, 0, 0, 0, "", *told, broken=not outside and not isinstance(error, MissingFile))
    finding = Finding(
        image.fault,
        WARNING,
        f"The image {entry.name} cannot be used: {error.message}",
        f"{error.hint} Until then the material's factor is baked instead.".strip(),
        image=entry.name,
        act=ALLOW if outside else LOCATE,
    )
    return image, finding


def _read(entry: Wanted, places: Places, store: PixelStore) -> Image:
    try:
        data = entry.data()
        path = places.read.get(entry.source)
        return store_image(entry.name, data, store, item=entry.item, source=entry.source, path=path)
    except MemoryError as error:
        raise UnsupportedInput("there is not enough memory to decode it.", item=entry.item) from error


def store_image(
    name: str, data: bytes, store: PixelStore, *, item: str = "", source: str = "", path: Path | None = None
) -> Image:
    """Decode one encoded image into the store.

    Raises
    ------
    MalformedFile, UnsupportedInput
        When it cannot be decoded.
    OutputError
        When the store has no room.
    """
    key = digest_of(data)
    alone: AbstractContextManager[object] = _one_large if texels_of(data) > LARGE else nullcontext()
    with alone:
        if store.has(key):
            pixels = store.get(key)
        else:
            pixels = decode(data, place=item or name)
            store.put(pixels, key=key)
        store.put_encoded(key, data)
        codec = codec_of(data)
        return replace(image_of(name, pixels, key, source, path), linear=codec is not None and codec.linear)


def image_of(name: str, pixels: NDArray[Any], key: str, source: str = "", path: Path | None = None) -> Image:
    """Return the image that describes pixels in the store, shape (H, W, C)."""
    height, width, channels = pixels.shape
    top = np.iinfo(pixels.dtype).max
    alpha = channels == 4 and bool((pixels[..., 3] < top).any())
    sample = pixels[:: max(height // SAMPLE, 1), :: max(width // SAMPLE, 1)]
    mean = tuple(float(value) / top for value in sample.reshape(-1, channels).mean(axis=0))
    bits = pixels.dtype.itemsize * 8
    level: tuple[float, ...] = ()
    if bool((sample == sample[0, 0]).all()) and bool((pixels == pixels[0, 0]).all()):
        level = tuple(float(value) / top for value in pixels[0, 0])
    where = str(path.resolve()) if path else ""
    return Image(name, width, height, channels, bits, key, source, not source, alpha, "", where, mean, level=level)
