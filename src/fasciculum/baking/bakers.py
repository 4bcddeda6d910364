"""Who bakes which kinds of maps. A kind of `fasciculum.model.maps.KINDS` has an entry here, in a baker's list."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any, Protocol

from numpy.typing import NDArray

from fasciculum.baking.carried import WRITTEN, PixelsOf, Recipe, bake_carried
from fasciculum.baking.target import Target
from fasciculum.model.scene import Scene
from fasciculum.progress import SILENT, Progress


class Bake(Protocol):
    """Bakes some kinds of maps at once; see `fasciculum.baking.carried.bake_carried`."""

    def __call__(
        self, scene: Scene, target: Target, recipe: Recipe, pixels: PixelsOf, progress: Progress = ...
    ) -> dict[str, NDArray[Any]]:
        """Return stored values by map, shape (H, W, C), bleed included."""


@dataclass(frozen=True)
class Baker:
    """Kinds of maps, by name, and the function that bakes any of them together."""

    kinds: tuple[str, ...]
    bake: Bake


BAKERS: tuple[Baker, ...] = (Baker(tuple(WRITTEN), bake_carried),)


def bake_maps(
    scene: Scene,
    target: Target,
    recipe: Recipe,
    pixels: PixelsOf,
    *,
    bakers: Sequence[Baker] = BAKERS,
    progress: Progress = SILENT,
) -> dict[str, NDArray[Any]]:
    """Bake the maps of a recipe, each by its baker, and return them in the recipe's order."""
    found: dict[str, NDArray[Any]] = {}
    shares = [(baker, tuple(kind for kind in recipe.kinds if kind.name in baker.kinds)) for baker in bakers]
    shares = [(baker, kinds) for baker, kinds in shares if kinds]
    for number, (baker, kinds) in enumerate(shares):
        part = progress.part(number / len(shares), (number + 1) / len(shares))
        found |= baker.bake(scene, target, replace(recipe, kinds=kinds), pixels, part)
    return {kind.name: found[kind.name] for kind in recipe.kinds}
