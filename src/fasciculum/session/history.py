"""Undo as a list of documents: versions share their arrays, so that keeping them costs little."""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass
from typing import Any

import numpy as np

from fasciculum.model.document import Document

#: bytes of distinct arrays that the history may hold before the oldest steps are forgotten
MOST_BYTES = 1 << 30
MOST_STEPS = 500
#: steps between two counts of those bytes
COUNTED = 8


@dataclass(frozen=True)
class Step:
    """A document and the words for what led to it."""

    label: str
    document: Document


def _arrays(value: Any, seen: dict[int, int]) -> None:
    if isinstance(value, np.ndarray):
        seen[id(value)] = value.nbytes
    elif isinstance(value, tuple):
        for part in value:
            _arrays(part, seen)
    elif dataclasses.is_dataclass(value):
        if id(value) in seen:
            return
        seen[id(value)] = 0
        for field in dataclasses.fields(value):
            _arrays(getattr(value, field.name), seen)


class History:
    """Steps done and undone."""

    def __init__(self, document: Document) -> None:
        self._steps = [Step("Open", document)]
        self._at = 0

    @property
    def document(self) -> Document:
        """The document as it is now."""
        return self._steps[self._at].document

    def push(self, label: str, document: Document) -> None:
        """Add a step; what had been undone is forgotten."""
        del self._steps[self._at + 1 :]
        self._steps.append(Step(label, document))
        self._at += 1
        if len(self._steps) > MOST_STEPS:
            self._forget()
        if len(self._steps) % COUNTED == 0:
            while len(self._steps) > 2 and self.bytes_held() > MOST_BYTES:
                self._forget()

    def _forget(self) -> None:
        del self._steps[0]
        self._at -= 1

    def replace(self, document: Document) -> None:
        """Change the present step without making a new one."""
        self._steps[self._at] = Step(self._steps[self._at].label, document)

    def bytes_held(self) -> int:
        """Return the bytes of all distinct arrays in the history."""
        seen: dict[int, int] = {}
        for step in self._steps:
            _arrays(step.document, seen)
        return sum(seen.values())

    def undo(self) -> str:
        """Go back one step and return the words for it, empty when there is none."""
        if self._at == 0:
            return ""
        self._at -= 1
        return self._steps[self._at + 1].label

    def redo(self) -> str:
        """Go forward one step and return the words for it, empty when there is none."""
        if self._at + 1 >= len(self._steps):
            return ""
        self._at += 1
        return self._steps[self._at].label

    @property
    def undo_label(self) -> str:
        """The words for what undo would take back."""
        return self._steps[self._at].label if self._at else ""

    @property
    def redo_label(self) -> str:
        """The words for what redo would do again."""
        return self._steps[self._at + 1].label if self._at + 1 < len(self._steps) else ""
