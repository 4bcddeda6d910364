"""What was worked out last, kept for as long as nothing that it depends on changes."""

from __future__ import annotations

from collections.abc import Callable
from typing import Generic, TypeVar

Found = TypeVar("Found")


class Latest(Generic[Found]):
    """Keeps one thing, by a digest of what it was made from."""

    def __init__(self) -> None:
        self._kept: tuple[str, Found] | None = None

    def get(self, digest: str, make: Callable[[], Found]) -> Found:
        """Return what is kept where that has the digest; else have it made, and keep it."""
        kept = self._kept
        if kept is None or kept[0] != digest:
            kept = self._kept = digest, make()
        return kept[1]
