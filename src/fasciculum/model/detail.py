"""High-poly models beside what was gathered, and which of them are read into which object."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING

from fasciculum.model.choices import PairBy

if TYPE_CHECKING:
    from fasciculum.model.scene import Scene

#: out and in along the smoothed normal, metres
Span = tuple[float, float]
#: a part that has not been measured
UNKNOWN = -1.0


@dataclass(frozen=True)
class Handle:
    """A reach set by hand at a place of an object's own space, metres: out and in there, and less so around it."""

    place: tuple[float, float, float]
    span: Span


@dataclass(frozen=True)
class Pairing:
    """What is said about which high-poly objects are read into which object.

    Attributes
    ----------
    by : PairBy
        The rule for what nothing else is said of.
    low_suffix, high_suffix : str
        What names end in, beside the usual endings.
    told : tuple of (str, tuple of str)
        From a file: an object, and the high-poly objects or group nodes that are read into it.
    hand : tuple of (str, tuple of str)
        Said by hand of single objects; one with nothing is read from nothing.
    spans : tuple of (str, Span)
        Reaches of single objects.
    handles : tuple of (str, tuple of Handle)
    """

    by: PairBy = PairBy.NAME
    low_suffix: str = ""
    high_suffix: str = ""
    told: tuple[tuple[str, tuple[str, ...]], ...] = ()
    hand: tuple[tuple[str, tuple[str, ...]], ...] = ()
    spans: tuple[tuple[str, Span], ...] = ()
    handles: tuple[tuple[str, tuple[Handle, ...]], ...] = ()


@dataclass(frozen=True)
class Pair:
    """An object and what is read into it.

    Attributes
    ----------
    low : str
    high : tuple of str
    by : PairBy
        How they were found.
    span : Span
        The reach that holds both surfaces, found by itself.
    missed : float
        The part of the object's surface that is likely to meet nothing.
    own : Span, optional
        The reach set for this object.
    handles : tuple of Handle
    cage : str
        The object of the cages that it has, empty for none.
    """

    low: str
    high: tuple[str, ...]
    by: PairBy
    span: Span = (0.0, 0.0)
    missed: float = UNKNOWN
    own: Span | None = None
    handles: tuple[Handle, ...] = ()
    cage: str = ""

    def reach(self, told: Span = (0.0, 0.0)) -> Span:
        """Return the reach in force: the object's own, else what its bundle says, else what was found."""
        if self.own is not None:
            return self.own
        return told[0] or self.span[0], told[1] or self.span[1]

    def greatest(self, told: Span = (0.0, 0.0)) -> float:
        """Return the greatest reach anywhere, in or out: what height is told by."""
        return max(*self.reach(told), *(value for handle in self.handles for value in handle.span), 0.0)


@dataclass(frozen=True, eq=False)
class Detail:
    """High-poly models, cages, and the pairs that were made of them."""

    scene: Scene
    pairs: tuple[Pair, ...] = ()
    cages: Scene | None = field(default=None)

    def pair(self, low: str) -> Pair | None:
        """Return the pair of an object, None when nothing is read into it."""
        return self._by_low.get(low)

    def cage_of(self, pair: Pair) -> tuple[Scene, str] | None:
        """Return the cage of a pair, with the scene that holds it; None without one."""
        return (self.cages, pair.cage) if pair.cage and self.cages is not None else None

    @cached_property
    def _by_low(self) -> dict[str, Pair]:
        return {pair.low: pair for pair in self.pairs}

    @cached_property
    def paired(self) -> frozenset[str]:
        """The high-poly objects that are read into some object."""
        return frozenset(key for pair in self.pairs for key in pair.high)

    @property
    def loose(self) -> Iterator[str]:
        """The high-poly objects that found no partner."""
        return (item.key for item in self.scene.objects if item.key not in self.paired)
