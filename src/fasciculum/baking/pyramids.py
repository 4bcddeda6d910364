"""A material's textures with every mip level, in linear light, as `fasciculum.kernels.sampling.textures` reads them.

They are kept between bakes by what is in them.
"""

from __future__ import annotations

import tempfile
import threading
import weakref
from collections import OrderedDict
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.errors import OutputError
from fasciculum.kernels.sampling.mip_levels import fill_lanes, half_size
from fasciculum.kernels.sampling.textures import LEVELS
from fasciculum.memory import mapped, memory_limit, on_pressure
from fasciculum.model.maps import Role
from fasciculum.model.scene import Image, Material, TextureSlot
from fasciculum.threads import in_pieces
from fasciculum.units import srgb_to_linear

#: in the order of the kernels' slots
ROLES = (Role.BASE_COLOR, Role.METALLIC_ROUGHNESS, Role.NORMAL, Role.OCCLUSION, Role.EMISSIVE)
#: the channels of an image that a role reads, and what the kernels number them as
CHANNELS_OF: dict[Role, tuple[tuple[int, int], ...]] = {
    Role.BASE_COLOR: ((0, 0), (1, 1), (2, 2), (3, 3)),
    Role.METALLIC_ROUGHNESS: ((1, 9), (2, 10)),
    Role.NORMAL: ((0, 4), (1, 5), (2, 6)),
    Role.OCCLUSION: ((0, 8),),
    Role.EMISSIVE: ((0, 12), (1, 13), (2, 14)),
}
IN_LIGHT = (Role.BASE_COLOR, Role.EMISSIVE)
#: bytes of levels that are kept for the next bake
KEPT = 512 << 20
#: bytes of levels in memory, beyond which they are made on disk
IN_MEMORY = 1536 << 20
#: texels of a band of rows that is worked on at once
ROWS_OF = 1 << 18
PixelsOf = Callable[[Image], NDArray[Any]]


@dataclass(frozen=True, eq=False)
class Group:
    """Textures of one size that are read through one slot's coordinates, interleaved.

    Attributes
    ----------
    slot : int
        Whose coordinates and wrap modes.
    lanes : tuple of int
        The channel that each value of a texel is, -1 for none.
    levels : tuple of ndarray of uint16
        The finest first.
    sizes : tuple of (int, int)
        Width and height of each level.
    """

    slot: int
    lanes: tuple[int, ...]
    levels: tuple[NDArray[np.uint16], ...]
    sizes: tuple[tuple[int, int], ...]


class _Kept:
    """Levels by what they were made from, the least lately used given up first; for any thread."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._found: OrderedDict[tuple, tuple[NDArray[np.uint16], ...]] = OrderedDict()

    def get(self, key: tuple) -> tuple[NDArray[np.uint16], ...] | None:
        with self._lock:
            result = self._found.get(key)
            if result is not None:
                self._found.move_to_end(key)
            return result

    def put(self, key: tuple, levels: tuple[NDArray[np.uint16], ...]) -> None:
        with self._lock:
            self._found[key] = levels
            total = sum(level.nbytes for kept in self._found.values() for level in kept)
            while total > min(KEPT, memory_limit() // 8) and self._found:
                _, given_up = self._found.popitem(last=False)
                total -= sum(level.nbytes for level in given_up)

    def forget(self) -> None:
        with self._lock:
            self._found.clear()


_KEPT = _Kept()
on_pressure(_KEPT.forget)


class _Room:
    """Hands out arrays: in memory up to `IN_MEMORY`, beyond that on disk, where the system makes room as it needs."""

    def __init__(self) -> None:
        # an array may be given back while another is asked for, in the same thread
        self._lock = threading.RLock()
        self.taken = 0

    def blank(self, count: int) -> NDArray[np.uint16]:
        """Return an array of so many values, which is given back once nobody has it any more."""
        size = 2 * count
        with self._lock:
            fits = self.taken + size <= min(IN_MEMORY, memory_limit() // 4)
            self.taken += size if fits else 0
        if fits:
            result = np.zeros(count, np.uint16)
            weakref.finalize(result, self._give_back, size)
            return result
        try:
            # a file without a name: it is gone with the array, whatever happens
            with tempfile.TemporaryFile(prefix="fasciculum-levels-") as file:
                return mapped(np.memmap(file, np.uint16, "w+", shape=(count,)))
        except OSError as error:
            raise OutputError(
                f"the textures' mip levels cannot be stored ({error.strerror or error}).",
                file=tempfile.gettempdir(),
                hint="Free some space there, or set TMPDIR to a folder with more space.",
            ) from error

    def _give_back(self, size: int) -> None:
        with self._lock:
            self.taken -= size


_ROOM = _Room()


def forget_pyramids() -> None:
    """Give up all levels that are kept, for whoever measures what making them takes."""
    _KEPT.forget()


def _table(kind: np.dtype, decode: bool) -> NDArray[np.uint16]:
    top = 255 if kind == np.uint8 else 65535
    values = np.arange(top + 1) / top
    return np.round((srgb_to_linear(values) if decode else values) * 65535).astype(np.uint16)


def level_sizes(width: int, height: int) -> list[tuple[int, int]]:
    """Return the sizes of an image's levels of detail, halved down to one texel."""
    sizes = [(width, height)]
    while sizes[-1] != (1, 1) and len(sizes) < LEVELS:
        width, height = max(width // 2, 1), max(height // 2, 1)
        sizes.append((width, height))
    return sizes


def _alike(one: TextureSlot, two: TextureSlot, images: tuple[Image, ...]) -> bool:
    """Tell whether two slots are read at the same texels."""
    a, b = images[one.image], images[two.image]
    return (a.width, a.height, one.uv_set, one.wrap_u, one.wrap_v, one.nearest) == (
        b.width,
        b.height,
        two.uv_set,
        two.wrap_u,
        two.wrap_v,
        two.nearest,
    ) and bool((one.matrix() == two.matrix()).all())


def _together(
    material: Material, images: tuple[Image, ...], roles: frozenset[Role]
) -> Iterator[list[tuple[int, TextureSlot]]]:
    """Yield the slots of a material that are read at the same texels, as those of one group."""
    left = [
        (number, slot)
        for number, role in enumerate(ROLES)
        if role in roles and (slot := getattr(material, role)) is not None and not images[slot.image].missing
    ]
    while left:
        first = left[0][1]
        group = [(number, slot) for number, slot in left if _alike(first, slot, images)]
        left = [entry for entry in left if entry not in group]
        yield group


def build_groups(
    material: Material, images: tuple[Image, ...], pixels: PixelsOf, roles: frozenset[Role] = frozenset(ROLES)
) -> list[Group]:
    """Decode the textures of a material and reduce them level by level.

    Parameters
    ----------
    material : Material
    images : tuple of Image
    pixels : callable
        Returns an image's stored values, shape (H, W, C), uint8 or uint16.
    roles : frozenset of Role
        The textures that are wanted.
    """
    groups = []
    for together in _together(material, images, roles):
        wanted = [
            (slot.image, ROLES[number] in IN_LIGHT, channel, lane)
            for number, slot in together
            for channel, lane in CHANNELS_OF[ROLES[number]]
        ]
        count = -(-len(wanted) // 4) * 4
        first = images[together[0][1].image]
        sizes = level_sizes(first.width, first.height)
        key = (
            count,
            (first.width, first.height),
            *((images[image].pixels, decode, channel, lane) for image, decode, channel, lane in wanted),
        )
        levels = _KEPT.get(key)
        if levels is None:
            levels = _made(wanted, count, sizes, images, pixels)
            _KEPT.put(key, levels)
        lanes = tuple(lane for *_, lane in wanted) + (-1,) * (count - len(wanted))
        groups.append(Group(together[0][0], lanes, levels, tuple(sizes)))
    return groups


def _made(
    wanted: list[tuple[int, bool, int, int]],
    count: int,
    sizes: list[tuple[int, int]],
    images: tuple[Image, ...],
    pixels: PixelsOf,
) -> tuple[NDArray[np.uint16], ...]:
    levels = [_ROOM.blank(-(-width // 8) * -(-height // 8) * 64 * count) for width, height in sizes]
    sources: dict[tuple[int, bool], list[tuple[int, int]]] = {}
    for at, (image, decode, channel, _) in enumerate(wanted):
        sources.setdefault((image, decode), []).append((channel, at))
    for (image, decode), chosen in sources.items():
        stored = pixels(images[image])
        plain = _table(stored.dtype, False)
        table = _table(stored.dtype, True) if decode else plain
        leading = (stored, table, plain, np.array(chosen, np.int64), count)
        _in_rows(sizes[0], lambda first, last, leading=leading: fill_lanes(*leading, first, last, levels[0]))  # type: ignore[misc, call-arg]
    for number, (width, height) in enumerate(sizes[:-1]):
        larger = (levels[number], width, height, count)
        smaller = levels[number + 1]
        _in_rows(sizes[number + 1], lambda first, last, a=larger, b=smaller: half_size(*a, first, last, b))  # type: ignore[misc, call-arg]
    return tuple(levels)


def _in_rows(size: tuple[int, int], work: Callable[[int, int], None]) -> None:
    """Do something with bands of rows of an image, several at once where it is large."""
    width, height = size
    step = max(8, ROWS_OF // width)
    in_pieces(lambda first: work(first, min(first + step, height)), range(0, height, step))
