"""Bleed all the way against a copy of the image: ``./run bench bleed [SIZE]``."""

import sys

import numpy as np
from timing import least

from fasciculum.baking.bleeding import bleed


def main():
    size = int(sys.argv[1]) if len(sys.argv) > 1 else 4096
    y, x = np.mgrid[0:size, 0:size]
    covered = ((x // 61 + y // 83) % 5 != 0) & (x % 61 > 4) & (y % 83 > 4)
    pixels = np.random.default_rng(0).integers(0, 255, (size, size, 3)).astype(np.uint8)
    other = np.empty_like(pixels)
    bleed(covered, [(pixels, None)])
    copy = least(lambda: np.copyto(other, pixels), 7)
    for words, maps in (
        ("one map", [(pixels, None)]),
        ("three maps", [(pixels, None)] * 3),
        ("8 texels", [(pixels, 8)]),
    ):
        result = least(lambda maps=maps: bleed(covered, maps))
        print(
            f"{size} px, {words}: {result:.3f} s, {result / copy / len(maps):.1f} x a copy of each "
            f"({copy * 1000:.1f} ms)"
        )


if __name__ == "__main__":
    main()
