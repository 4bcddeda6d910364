"""The first screen: one picture and three doors. It is there until something has been gathered."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QPainter, QPaintEvent, QPen, QPixmap, QPolygonF
from PySide6.QtWidgets import QFrame, QGridLayout, QHBoxLayout, QLabel, QPushButton, QSizePolicy, QVBoxLayout, QWidget

from fasciculum.app.look import Theme
from fasciculum.app.parts import note
from fasciculum.app.workspace import Workspace
from fasciculum.io.formats.table import suffixes
from fasciculum.session.pictures import picture_of

#: recent projects behind the third door
MOST = 3
PICTURE = QSize(96, 60)
#: islands of many objects, flat, on a sheet of 16 x 10: left, top, width, height, and the muted tone of their object
ISLANDS = (
    (0.4, 0.4, 4.6, 2.0, 0),
    (5.4, 0.4, 2.2, 3.4, 1),
    (8.0, 0.4, 3.4, 1.4, 2),
    (0.4, 2.8, 2.0, 3.0, 3),
    (2.8, 2.8, 2.2, 1.4, 0),
    (8.0, 2.2, 1.5, 1.6, 1),
    (9.9, 2.2, 1.5, 1.6, 1),
    (2.8, 4.6, 4.8, 1.2, 4),
    (0.4, 6.2, 3.2, 3.4, 2),
    (4.0, 6.2, 3.6, 1.5, 3),
    (4.0, 8.1, 1.6, 1.5, 4),
    (6.0, 8.1, 1.6, 1.5, 4),
    (8.0, 4.2, 3.4, 5.4, 0),
    (11.8, 0.4, 3.8, 2.6, 3),
    (11.8, 3.4, 1.7, 6.2, 2),
    (13.9, 3.4, 1.7, 2.9, 1),
    (13.9, 6.7, 1.7, 2.9, 1),
)
TONES = ("#6f8a80", "#8a7f6a", "#67798a", "#8a6f6a", "#7b7f8f")


class _Picture(QWidget):
    """Islands of many things on one sheet, held together by a band: what the program does."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        self.setMinimumSize(320, 160)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName("Islands of many objects on one sheet")

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        unit = min(self.width() / 16.8, self.height() / 10.6)
        painter.translate((self.width() - 16 * unit) / 2, (self.height() - 10 * unit) / 2)
        painter.setPen(QPen(QColor(self.theme.line), 1.2))
        painter.setBrush(QColor(self.theme.view))
        painter.drawRoundedRect(QRectF(0, 0, 16 * unit, 10 * unit), 6, 6)
        painter.setPen(Qt.PenStyle.NoPen)
        for left, top, wide, high, tone in ISLANDS:
            painter.setBrush(QColor(TONES[tone]))
            cut = 0.28 * unit
            x, y, w, h = left * unit, top * unit, wide * unit, high * unit
            corners = ((x + cut, y), (x + w, y), (x + w, y + h - cut), (x + w - cut, y + h), (x, y + h), (x, y + cut))
            painter.drawPolygon(QPolygonF([QPointF(*corner) for corner in corners]))
        band = QColor(self.theme.accent)
        painter.setBrush(band)
        painter.drawRoundedRect(QRectF(-0.35 * unit, 4.75 * unit, 16.7 * unit, 0.5 * unit), 3, 3)
        painter.drawEllipse(QPointF(8 * unit, 5 * unit), 0.62 * unit, 0.62 * unit)


class _Door(QFrame):
    """A title, a few words, and what can be done."""

    def __init__(self, title: str, words: str) -> None:
        super().__init__()
        self.setObjectName("door")
        self.box = QVBoxLayout(self)
        self.box.setContentsMargins(16, 14, 16, 14)
        self.box.setSpacing(8)
        head = QLabel(title)
        head.setStyleSheet("font-weight: 600; font-size: 15px")
        self.box.addWidget(head)
        self.words = note(words)
        self.box.addWidget(self.words)
        self.setMinimumWidth(220)


class Welcome(QWidget):
    """What is seen while there are no models."""

    def __init__(
        self,
        workspace: Workspace,
        theme: Theme,
        acts: Callable[[str], Callable[[], None]],
        go_on: Callable[[Path], None],
    ) -> None:
        super().__init__()
        self.workspace, self._go_on = workspace, go_on
        outer = QVBoxLayout(self)
        outer.setContentsMargins(40, 24, 40, 28)
        outer.setSpacing(18)
        outer.addWidget(_Picture(theme), 1)
        words = QLabel("Many objects with many materials become bundles with one texture set each.")
        words.setAlignment(Qt.AlignmentFlag.AlignCenter)
        words.setWordWrap(True)
        outer.addWidget(words)
        doors = QHBoxLayout()
        doors.setSpacing(16)
        models = _Door("Your models", f"Drop {suffixes()} files on the window, or a folder of them.")
        self.add = self._button(
            "Choose models …", "Add model files to a new project (Ctrl+Shift+A)", acts("add_models")
        )
        self.add.setProperty("main", True)
        models.box.addStretch(1)
        models.box.addWidget(self.add)
        self.add_folder = self._button(
            "Choose a folder …", "Add all models of a folder and its subfolders", acts("add_folder")
        )
        models.box.addWidget(self.add_folder)
        demo = _Door("The demo station", "A mountain ropeway station to try everything on.")
        self.demo = self._button("Open the demo station", "Open the ropeway station that is included", acts("demo"))
        demo.box.addStretch(1)
        demo.box.addWidget(self.demo)
        self.recent = _Door("Go on", "")
        self._rows = QGridLayout()
        self._rows.setHorizontalSpacing(10)
        self._rows.setColumnStretch(1, 1)
        self.recent.box.addLayout(self._rows)
        self.projects: list[QPushButton] = []
        self.open = self._button("Open a project …", "Open a saved project (Ctrl+O)", acts("open"))
        self.recent.box.addStretch(1)
        self.recent.box.addWidget(self.open)
        for door in (models, demo, self.recent):
            doors.addWidget(door, 1)
        outer.addLayout(doors)
        self.refresh()

    def _button(self, words: str, tip: str, call: Callable[[], None]) -> QPushButton:
        button = QPushButton(words)
        button.setToolTip(tip)
        button.setAccessibleName(words)
        button.setMinimumHeight(36)
        button.clicked.connect(lambda _=False: call())
        return button

    def refresh(self) -> None:
        """List the last projects, with a small picture of each."""
        while (item := self._rows.takeAt(0)) is not None:
            widget = item.widget()
            if widget is not None:
                widget.deleteLater()
        self.projects = []
        names = self.workspace.recent()[:MOST]
        self.recent.words.setText("" if names else "Projects that you saved are listed here.")
        for row, name in enumerate(names):
            path = Path(name)
            picture = QLabel()
            picture.setFixedSize(PICTURE)
            picture.setObjectName("picture")
            shown = QPixmap(str(picture_of(path)))
            if not shown.isNull():
                mode = Qt.AspectRatioMode.KeepAspectRatioByExpanding
                picture.setPixmap(shown.scaled(PICTURE, mode, Qt.TransformationMode.SmoothTransformation))
            button = QPushButton(path.stem)
            button.setProperty("flat", True)
            button.setToolTip(f"Open {path}")
            button.setAccessibleName(f"Open {path.stem}")
            button.setMinimumHeight(30)
            button.clicked.connect(partial(self._open, path))
            self._rows.addWidget(picture, row, 0)
            self._rows.addWidget(button, row, 1)
            self.projects.append(button)

    def _open(self, path: Path, _checked: bool = False) -> None:
        self._go_on(path)
