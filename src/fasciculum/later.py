"""Modules that are loaded once something of them is asked for, so that the window stands without waiting for them."""

from __future__ import annotations

from importlib import import_module
from typing import Any

_NAMES: list[str] = []


def load_now() -> None:
    """Load all that is still waited with."""
    for name in _NAMES:
        import_module(name)


class Later:
    """A module in whose place this stands until it is needed.

    Parameters
    ----------
    name : str
        Its full name.
    """

    def __init__(self, name: str) -> None:
        self._name = name
        _NAMES.append(name)

    def __getattr__(self, wanted: str) -> Any:
        return getattr(import_module(self._name), wanted)
