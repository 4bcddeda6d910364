"""What a check is: what it looks at, what has to be measured for it, and which findings it may tell."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import Choice
from fasciculum.model.finding import Finding
from fasciculum.model.scene import Scene


class Scope(Choice):
    """What a check is about: all that was gathered, one bundle as it is now, or a delivered file."""

    SCENE = "scene"
    BUNDLE = "bundle"
    DELIVERED = "delivered"


class Measure(Choice):
    """What is measured for checks beforehand, by `fasciculum.operations.check.measures`.

    ``reading``: for each object whose material reads an unsuitable UV set, that set and a better one. ``overlaps``: for
    each material of a delivered file, the area on which its islands overlap, square texels.
    """

    READING = "reading"
    OVERLAPS = "overlaps"


def words_of_role(role: str) -> str:
    """Return what people call a texture's place in a material."""
    return role.replace("_", " ").replace("color", "colour")


@dataclass(frozen=True, eq=False)
class Facts:
    """What a check may look at."""

    scene: Scene
    bundle: Bundle = field(default_factory=lambda: Bundle("", (), "OPAQUE"))  # type: ignore[arg-type]
    measured: Mapping[Measure, Any] = field(default_factory=dict)


@dataclass(frozen=True)
class Check:
    """One check.

    Attributes
    ----------
    id : str
    scope : Scope
    codes : tuple of str
        Of the findings that it may tell.
    run : callable
    needs : tuple of Measure
    rank : int
        Those of less are told first.
    """

    id: str
    scope: Scope
    codes: tuple[str, ...]
    run: Callable[[Facts], list[Finding]]
    needs: tuple[Measure, ...] = ()
    rank: int = 100
