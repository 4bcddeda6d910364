"""Folds: parts of a column that open and close, each telling in a few words what it comes to."""

from __future__ import annotations

from PySide6.QtCore import QPoint, QRectF, QSettings, QSize, Qt, QTimer, Signal
from PySide6.QtGui import QColor, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QAbstractButton, QScrollArea, QSizePolicy, QVBoxLayout, QWidget

from fasciculum.app.look import Theme
from fasciculum.app.parts import Column

HIGH = 28


class _Head(QAbstractButton):
    """The line of a fold: a mark, its title, and at the right what it comes to."""

    def __init__(self, title: str, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        self.words, self.state = "", ""
        self.setText(title)
        self.setCheckable(True)
        self.setFixedHeight(HIGH)
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)

    def sizeHint(self) -> QSize:
        return QSize(120, HIGH)

    def say(self, words: str, state: str) -> None:
        self.words, self.state = words, state
        opened = "open" if self.isChecked() else "closed"
        self.setAccessibleName(f"{self.text()}: {words}, {opened}" if words else f"{self.text()}, {opened}")
        self.setToolTip(f"{self.text()}: {words}" if words else self.text())
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        theme = self.theme
        painter.setPen(QPen(QColor(theme.line), 1))
        painter.drawLine(0, 0, self.width(), 0)
        if self.underMouse() or self.hasFocus():
            painter.fillRect(self.rect().adjusted(0, 1, 0, 0), QColor(theme.raised))
        if self.hasFocus():
            painter.setPen(QPen(QColor(theme.accent), 1))
            painter.drawRect(self.rect().adjusted(0, 1, -1, -1))
        self._mark(painter)
        font = painter.font()
        font.setPixelSize(13)
        font.setBold(self.isChecked())
        painter.setFont(font)
        painter.setPen(QColor(theme.text))
        room = self.rect().adjusted(22, 1, -12, 0)
        painter.drawText(room, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, self.text())
        taken = painter.fontMetrics().horizontalAdvance(self.text()) + 12
        font.setPixelSize(11)
        font.setBold(False)
        painter.setFont(font)
        painter.setPen(QColor({"good": theme.good, "broken": theme.broken}.get(self.state, theme.quiet)))
        room = room.adjusted(taken, 0, 0, 0)
        words = painter.fontMetrics().elidedText(self.words, Qt.TextElideMode.ElideRight, max(room.width(), 0))
        painter.drawText(room, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, words)

    def _mark(self, painter: QPainter) -> None:
        """Draw a sheaf's tie: a bar that stands while the fold is closed, and lies while it is open."""
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(self.theme.accent if self.isChecked() else self.theme.quiet))
        wide, high = (8.0, 3.0) if self.isChecked() else (3.0, 8.0)
        painter.drawRoundedRect(QRectF(13.0 - wide / 2, HIGH / 2 - high / 2 + 0.5, wide, high), 1, 1)


class Fold(QWidget):
    """A part of a column under a line with its title."""

    toggled = Signal(bool)

    def __init__(self, title: str, theme: Theme, *contents: QWidget) -> None:
        super().__init__()
        self.title = title
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(0)
        self.head = _Head(title, theme)
        self.body = QWidget()
        self.inner = inner = QVBoxLayout(self.body)
        inner.setContentsMargins(12, 4, 12, 10)
        inner.setSpacing(6)
        for part in contents:
            inner.addWidget(part)
        box.addWidget(self.head)
        box.addWidget(self.body)
        self.body.hide()
        self.head.say("", "")
        self.head.toggled.connect(self._show_body)

    def _show_body(self, on: bool) -> None:
        self.body.setVisible(on)
        self.head.say(self.head.words, self.head.state)
        self.toggled.emit(on)

    @property
    def open(self) -> bool:
        """Whether what is in it is seen."""
        return self.head.isChecked()

    def set_open(self, on: bool) -> None:
        """Open or close it."""
        self.head.setChecked(on)

    def say(self, words: str, state: str = "") -> None:
        """Tell what it comes to, open or closed; ``state`` is good, broken or neither."""
        self.head.say(words, state)


class FoldColumn(Column):
    """A column of folds; which of them are open is remembered."""

    def __init__(self, name: str, settings: QSettings, first: tuple[str, ...] = ()) -> None:
        super().__init__()
        self._name, self._settings = name, settings
        stored = settings.value(f"folds/{name}")
        self._opened = first if stored is None else stored if isinstance(stored, list) else [str(stored)]
        self.box.setContentsMargins(0, 0, 0, 12)
        self.box.setSpacing(0)
        self.folds: dict[str, Fold] = {}

    def fold(self, title: str, theme: Theme, *contents: QWidget) -> Fold:
        """Add a fold, open as it was left, or at first when it is one of the first."""
        fold = Fold(title, theme, *contents)
        self.folds[title] = fold
        self.box.addWidget(fold)
        fold.set_open(title in self._opened)
        fold.toggled.connect(lambda _: self._keep())
        return fold

    def _keep(self) -> None:
        opened = [title for title, fold in self.folds.items() if fold.open]
        self._settings.setValue(f"folds/{self._name}", opened or ["none"])

    def show_fold(self, title: str) -> None:
        """Scroll a fold to the top of what is seen of the column, as far as the column goes."""

        def scroll() -> None:
            parent: QWidget | None = self
            while parent is not None and not isinstance(parent, QScrollArea):
                parent = parent.parentWidget()
            if isinstance(parent, QScrollArea):
                parent.verticalScrollBar().setValue(self.folds[title].mapTo(self, QPoint(0, 0)).y())

        # once the fold has its size
        QTimer.singleShot(0, scroll)

    def reveal(self, inside: QWidget) -> None:
        """Open the fold that a control is in."""
        for fold in self.folds.values():
            if fold.isAncestorOf(inside):
                fold.set_open(True)
