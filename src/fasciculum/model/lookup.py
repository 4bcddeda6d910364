"""Where files that models name may be found, beside the models' own folders."""

from __future__ import annotations

from dataclasses import dataclass

from fasciculum.model.stored import FilePath


@dataclass(frozen=True)
class Lookup:
    """What the artist allowed and located.

    ``folders`` may be read from, and are looked through for missing files by name; ``moved`` are pairs of the path
    at which a file is missing and the file that stands for it.
    """

    folders: tuple[FilePath, ...] = ()
    moved: tuple[tuple[FilePath, FilePath], ...] = ()


#: nothing beside the model's own folder
HERE = Lookup()
