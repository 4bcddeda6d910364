"""Counts in words, so that one is never told as several."""

from __future__ import annotations


def counted(number: int, one: str, several: str = "") -> str:
    """Return a count with its noun: "1 object", "2 objects", "1,024 objects".

    Parameters
    ----------
    number : int
    one : str
        The noun in the singular.
    several : str, optional
        Its plural, where that is not formed with an s.
    """
    return f"{number:,} {one if number == 1 else several or f'{one}s'}"
