"""Modules that are loaded once something of them is asked for, so that the window stands without waiting for them."""

from __future__ import annotations

from importlib import import_module
from typing import Any

_NAMES: list[str] = []


def load_now() -> None:
    """Load all that is still waited with, but for what few sessions need."""
    for name in _NAMES:
        import_module(name)


class Later:
    """A module in whose place this stands until it is needed.

    Parameters
    ----------
    name : str
        Its full name.
    rare : bool
        Few sessions need it, so that it is loaded when it is needed and not before.
    """

    def __init__(self, name: str, *, rare: bool = False) -> None:
        self._name = name
        if not rare:
            _NAMES.append(name)

    def __getattr__(self, wanted: str) -> Any:
        return getattr(import_module(self._name), wanted)
