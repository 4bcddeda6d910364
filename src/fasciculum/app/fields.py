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


class ComboBox(_LeavesWheel, QComboBox):
    """A list to choose from."""


class SpinBox(_LeavesWheel, QSpinBox):
    """A whole number."""


class DoubleSpinBox(_LeavesWheel, QDoubleSpinBox):
    """A number."""


class Slider(_LeavesWheel, QSlider):
    """A value to drag."""
