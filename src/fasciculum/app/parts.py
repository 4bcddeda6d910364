"""Small parts that several columns use: labelled rows, notes, headings, plots."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPaintEvent
from PySide6.QtWidgets import (
    QBoxLayout,
    QCheckBox,
    QColorDialog,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from fasciculum.app.look import Theme
from fasciculum.io.codecs import CODECS
from fasciculum.io.formats.table import READ_FORMATS
from fasciculum.model.lighting import Triple
from fasciculum.units import density_words, linear_to_srgb, srgb_to_linear

#: what file dialogs offer of pictures and of models
IMAGES = " ".join(f"*{suffix}" for codec in CODECS for suffix in codec.suffixes)
MODELS = f"Models ({' '.join(f'*{suffix}' for suffix in READ_FORMATS)})"


def heading(words: str) -> QLabel:
    """Return a quiet heading."""
    label = QLabel(words)
    label.setProperty("heading", True)
    return label


def note(words: str = "") -> QLabel:
    """Return small text that wraps."""
    label = QLabel(words)
    label.setProperty("quiet", True)
    label.setWordWrap(True)
    label.setMinimumWidth(60)
    return label


def small_button(words: str, tip: str, call: Callable[[], None]) -> QPushButton:
    """Return a button for a row of several."""
    button = QPushButton(words)
    button.setToolTip(tip)
    button.setMinimumHeight(26)
    button.setStyleSheet("padding: 2px 3px")
    button.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
    button.clicked.connect(lambda _=False: call())
    return button


def button_line(box: QBoxLayout, *buttons: QPushButton) -> QWidget:
    """Add a row of buttons, each as wide as its words ask, to a box and return it."""
    whole = QWidget()
    line = QHBoxLayout(whole)
    line.setContentsMargins(0, 0, 0, 0)
    line.setSpacing(3)
    for button in buttons:
        line.addWidget(button, len(button.text()) + 2)
    box.addWidget(whole)
    return whole


def set_state(label: QLabel, state: str) -> None:
    """Colour a label by a state: good, broken or none."""
    if label.property("state") != state:
        label.setProperty("state", state)
        label.style().unpolish(label)
        label.style().polish(label)


class Switch(QCheckBox):
    """A box to tick."""

    def __init__(self, words: str = "") -> None:
        super().__init__(words)
        # a click leaves the keyboard where it was, so that Space still flips the views
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)


class Form(QWidget):
    """Rows of a name, a control, and a note below the control that says what it changes."""

    def __init__(self) -> None:
        super().__init__()
        self._grid = QGridLayout(self)
        self._grid.setContentsMargins(0, 0, 0, 0)
        self._grid.setHorizontalSpacing(8)
        self._grid.setVerticalSpacing(3)
        self._grid.setColumnStretch(1, 1)
        self._grid.setColumnMinimumWidth(0, 76)

    def row(self, name: str, control: QWidget, tip: str, below: QLabel | None = None) -> None:
        """Add a row."""
        label = QLabel(name)
        label.setBuddy(control)
        label.setToolTip(tip)
        control.setToolTip(tip)
        control.setAccessibleName(name)
        control.setMinimumHeight(26)
        control.setMinimumWidth(60)
        control.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        line = self._grid.rowCount()
        self._grid.addWidget(label, line, 0, Qt.AlignmentFlag.AlignTop)
        label.setMinimumHeight(26)
        self._grid.addWidget(control, line, 1)
        if below is not None:
            self._grid.addWidget(below, line + 1, 1)
        self._grid.setRowMinimumHeight(line + 2, 3)

    def show_row(self, control: QWidget, on: bool) -> None:
        """Show or hide a row."""
        control.setVisible(on)
        for label in self.findChildren(QLabel):
            if label.buddy() is control:
                label.setVisible(on)


class Histogram(QWidget):
    """How much surface has which density, about a target."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        self.setMinimumHeight(92)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("Density histogram")
        self.target = 0.0
        self.counts = np.zeros(0)
        self.reason = ""

    def show_values(self, values: np.ndarray, weights: np.ndarray, target: float) -> None:
        """Show densities (px/m) weighted by surface, a factor of four to either side of the target."""
        self.target = target
        usable = np.isfinite(values) & (values > 0)
        if target > 0 and usable.any():
            place = np.log2(values[usable] / target)
            self.counts, _ = np.histogram(np.clip(place, -1.99, 1.99), bins=17, range=(-2, 2), weights=weights[usable])
        else:
            self.counts = np.zeros(0)
        self.setToolTip(
            "Surface by texel density. The middle is the sheet's target; one step to the side is a factor of about 1.2."
        )
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        font = painter.font()
        font.setPixelSize(10)
        painter.setFont(font)
        painter.setPen(QColor(self.theme.quiet))
        base = self.height() - 18
        if not len(self.counts) or self.counts.max() <= 0:
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, self.reason or "Pack to see it.")
            return
        width = self.width() / len(self.counts)
        for index, count in enumerate(self.counts):
            high = (base - 6) * count / self.counts.max()
            middle = abs(index - len(self.counts) // 2) <= 1
            painter.fillRect(
                QRectF(index * width + 1, base - max(high, 1), width - 2, max(high, 1)),
                QColor(self.theme.accent if middle else self.theme.quiet),
            )
        for place, factor in ((0.0, 0.25), (0.5, 1.0), (1.0, 4.0)):
            words = density_words(self.target * factor)
            words = words if factor == 1.0 else words.removesuffix(" px/m")
            wide = painter.fontMetrics().horizontalAdvance(words)
            x = min(max(place * self.width() - wide / 2, 0), self.width() - wide)
            painter.drawText(QRectF(x, base + 3, wide + 2, 14), Qt.AlignmentFlag.AlignLeft, words)


class Column(QWidget):
    """A column's content from the top down."""

    def __init__(self) -> None:
        super().__init__()
        self.box = QVBoxLayout(self)
        self.box.setContentsMargins(12, 8, 12, 10)
        self.box.setSpacing(6)


def shown_color(color: Triple) -> QColor:
    """Return a linear colour as a screen shows it, its brightest part as bright as can be where it is more."""
    most = max(*color, 1.0)
    return QColor.fromRgbF(*(float(linear_to_srgb(np.array(part / most))) for part in color))


def picked_color(color: QColor) -> Triple:
    """Return a colour of the window as a linear one."""
    red, green, blue = srgb_to_linear(np.array([color.redF(), color.greenF(), color.blueF()])).tolist()
    return red, green, blue


class ColorButton(QPushButton):
    """A button that shows a colour and asks for another."""

    def __init__(self, name: str, took: Callable[[Triple], None]) -> None:
        super().__init__()
        self.name, self._took = name, took
        self.color: Triple = (1.0, 1.0, 1.0)
        self.clicked.connect(self.ask)

    def show_color(self, color: Triple) -> None:
        """Show a colour, linear."""
        self.color = color
        plain = shown_color(color)
        self.setStyleSheet(f"background: {plain.name()}; min-height: 18px")
        self.setAccessibleDescription(f"{self.name}: {', '.join(f'{part:.3g}' for part in color)}")

    def ask(self) -> None:
        """Ask for a colour; brighter ones stay as bright."""
        most = max(*self.color, 1.0)
        result = QColorDialog.getColor(shown_color(self.color), self.window(), self.name)
        if result.isValid():
            red, green, blue = picked_color(result)
            self._took((red * most, green * most, blue * most))
