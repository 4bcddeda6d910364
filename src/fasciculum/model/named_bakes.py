"""Named bakes: maps and how they are baked, kept under a title, for one bundle or as a preset for all."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

from fasciculum.errors import UsageError
from fasciculum.model.bake_settings import BakeSettings


@dataclass(frozen=True)
class NamedBake:
    """Maps and their settings under a title.

    Attributes
    ----------
    title : str
        Also the folder that its files are written into.
    settings : BakeSettings
    bundle : str
        The identity of the bundle that it is for; empty for a preset, which suits every bundle.
    """

    title: str = ""
    settings: BakeSettings = field(default_factory=BakeSettings)
    bundle: str = ""

    def suits(self, identity: str) -> bool:
        """Tell whether a bundle can be baked by it."""
        return self.bundle in ("", identity)


def find_bakes(titles: Iterable[str], kept: Iterable[NamedBake]) -> list[NamedBake]:
    """Return the named bakes of these titles, whatever their letters' case; of ``all`` every one.

    Raises
    ------
    UsageError
        Names the title that there is none of, and those that there are.
    """
    kept = tuple(kept)
    results: list[NamedBake] = []
    for title in titles:
        fitting = [one for one in kept if title == "all" or one.title.lower() == title.lower()]
        if not fitting:
            known = ", ".join(dict.fromkeys(one.title for one in kept)) or "none yet"
            raise UsageError(f"there is no bake named {title!r}.", hint=f"There are: {known}.")
        results += [one for one in fitting if one not in results]
    return results
