"""Fields to choose and type in. A field without the keyboard leaves the wheel to the column that it stands in."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtGui import QWheelEvent
from PySide6.QtWidgets import QComboBox, QDoubleSpinBox, QSlider, QSpinBox


class _LeavesWheel:
    """Takes the wheel only while it has the keyboard, and never takes the keyboard by the wheel."""

    def __init__(self, *arguments: Any, **more: Any) -> None:
        super().__init__(*arguments, **more)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)  # type: ignore[attr-defined]

    def wheelEvent(self, event: QWheelEvent) -> None:
        if self.hasFocus():  # type: ignore[attr-defined]
            super().wheelEvent(event)  # type: ignore[misc]
        else:
            event.ignore()


class _Value:
    """Holds a value as it is: Qt would turn a member of a text enum into plain text."""

    def __init__(self, value: Any) -> None:
        self.value = value


class ComboBox(_LeavesWheel, QComboBox):
    """A list to choose from. Its values come back as the objects that were added."""

    def addItem(self, words: str, value: Any = None) -> None:  # type: ignore[override]
        """Add an entry."""
        super().addItem(words, _Value(value))

    def itemData(self, index: int, role: int = Qt.ItemDataRole.UserRole) -> Any:
        """Return the value of an entry."""
        data = super().itemData(index, role)
        return data.value if isinstance(data, _Value) else data

    def currentData(self, role: int = Qt.ItemDataRole.UserRole) -> Any:
        """Return the chosen value."""
        return self.itemData(self.currentIndex(), role)

    def findData(self, value: Any, *_: Any) -> int:  # type: ignore[override]
        """Return the index of a value, or -1."""
        return next((index for index in range(self.count()) if self.itemData(index) == value), -1)


class SpinBox(_LeavesWheel, QSpinBox):
    """A whole number."""


class DoubleSpinBox(_LeavesWheel, QDoubleSpinBox):
    """A number."""


class Slider(_LeavesWheel, QSlider):
    """A value to drag."""
