"""The channel editor: files whose channels each hold one of a map, inverted or not, or a constant."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QMimeData, QPoint, QSize, Qt, Signal
from PySide6.QtGui import QDrag, QDragEnterEvent, QDropEvent, QIcon, QImage, QMouseEvent, QPixmap
from PySide6.QtWidgets import (
    QApplication,
    QFileDialog,
    QHBoxLayout,
    QInputDialog,
    QLineEdit,
    QMenu,
    QPushButton,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from fasciculum.app.parts import Column, Switch, note
from fasciculum.errors import FasciculumError, InputError
from fasciculum.model.map_overrides import CHANNEL_SETS, LETTERS, Cell, ChannelFile, read_channels
from fasciculum.model.maps import KINDS

#: px along the edge of a cell's picture
EDGE = 40
#: px across a cell, so that four fit beside each other
WIDE = 55
NAMES = ("red", "green", "blue", "alpha")
#: what a dragged map is, among what can be dropped
MAP_TYPE = "application/x-fasciculum-map"
PictureOf = Callable[[Cell], NDArray[np.uint8] | None]


class MapSwitch(Switch):
    """A map's box to tick, which can be dragged onto a channel."""

    def __init__(self, words: str, name: str) -> None:
        super().__init__(words)
        self._name = name
        self._pressed: QPoint | None = None

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._pressed = event.position().toPoint()
        super().mousePressEvent(event)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        start = QApplication.startDragDistance()
        if self._pressed is not None and (event.position().toPoint() - self._pressed).manhattanLength() > start:
            self._pressed = None
            self.setDown(False)
            drag = QDrag(self)
            drag.setMimeData(map_data(self._name))
            drag.exec(Qt.DropAction.CopyAction)
            return
        super().mouseMoveEvent(event)


def map_data(name: str) -> QMimeData:
    """Return what a map's being dragged hands over."""
    data = QMimeData()
    data.setData(MAP_TYPE, name.encode())
    return data


class CellButton(QToolButton):
    """One channel of a file: a small picture of what it will hold, and its name under it."""

    chosen = Signal(object)

    def __init__(self, which: int) -> None:
        super().__init__()
        self.which = which
        self.cell = Cell()
        #: the menu's parts, which nothing else keeps
        self._parts: list[QMenu] = []
        self.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextUnderIcon)
        self.setIconSize(QSize(EDGE, EDGE))
        self.setFixedWidth(WIDE)
        self.setStyleSheet("QToolButton { font-size: 10px; padding: 2px } QToolButton::menu-indicator { image: none }")
        self.setAcceptDrops(True)
        self.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.setMenu(QMenu(self))
        self.menu().aboutToShow.connect(self._fill_menu)

    def show_cell(self, cell: Cell, there: bool, picture: NDArray[np.uint8] | None) -> None:
        """Show what the channel holds; one that is not there is empty."""
        self.cell = cell
        words = cell.text if there else "none"
        self.setText(self.fontMetrics().elidedText(words, Qt.TextElideMode.ElideMiddle, WIDE - 6))
        shown = picture if picture is not None else np.full((EDGE, EDGE), round(cell.value * 255), np.uint8)
        shown = np.ascontiguousarray(shown)
        image = QImage(shown.data, shown.shape[1], shown.shape[0], shown.shape[1], QImage.Format.Format_Grayscale8)
        self.setIcon(QIcon(QPixmap.fromImage(image.copy())))
        name = NAMES[self.which]
        self.setAccessibleName(f"{name}: {words}")
        state = "" if picture is not None or not cell.map else " It is not baked yet and shows black."
        self.setToolTip(f"What {name} holds: {words}. Click to choose, or drop a map here.{state}")

    def _fill_menu(self) -> None:
        menu = self.menu()
        menu.clear()
        self._parts.clear()
        for kind in KINDS.values():
            if kind.channels == 1:
                menu.addAction(kind.title, lambda name=kind.name: self.chosen.emit(Cell(name)))
                continue
            parts = QMenu(kind.title, menu)
            menu.addMenu(parts)
            self._parts.append(parts)
            for channel, letter in enumerate(LETTERS[: kind.channels]):
                words = kind.parts[channel] if kind.parts else NAMES[channel]
                parts.addAction(
                    f"{letter}   {words}", lambda name=kind.name, at=channel: self.chosen.emit(Cell(name, at))
                )
        menu.addSeparator()
        inverted = menu.addAction("Inverted", self._invert)
        inverted.setCheckable(True)
        inverted.setChecked(self.cell.inverted)
        inverted.setEnabled(bool(self.cell.map))
        menu.addAction("Constant 0", lambda: self.chosen.emit(Cell()))
        menu.addAction("Constant 1", lambda: self.chosen.emit(Cell(value=1.0)))
        menu.addAction("Another constant …", self._ask)

    def _invert(self) -> None:
        self.chosen.emit(Cell(self.cell.map, self.cell.channel, not self.cell.inverted))

    def _ask(self) -> None:
        value, done = QInputDialog.getDouble(self, "Constant", "From 0 to 1", self.cell.value, 0.0, 1.0, 3)
        if done:
            self.chosen.emit(Cell(value=value))

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasFormat(MAP_TYPE):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        name = bytes(event.mimeData().data(MAP_TYPE).data()).decode()
        if name in KINDS:
            # red takes a map's first channel, green its second, as far as it has so many
            self.chosen.emit(Cell(name, min(self.which, KINDS[name].channels - 1)))
            event.acceptProposedAction()


class FileBar(QWidget):
    """A packed file: its name, and a bar of four cells."""

    changed = Signal(object)

    def __init__(self, file: ChannelFile) -> None:
        super().__init__()
        self.file = file
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(2)
        top = QHBoxLayout()
        self.name = QLineEdit(file.name)
        self.name.setAccessibleName("Name of the packed file")
        self.name.setToolTip("What the file is called: NAME_BUNDLE_this.png")
        self.name.editingFinished.connect(self._rename)
        self.away = QPushButton("Leave out")
        self.away.setToolTip("Do not write this file")
        self.away.setStyleSheet("padding: 2px 6px")
        self.away.clicked.connect(lambda: self.changed.emit(None))
        top.addWidget(self.name)
        top.addWidget(self.away)
        box.addLayout(top)
        row = QHBoxLayout()
        row.setSpacing(2)
        self.cells = [CellButton(which) for which in range(4)]
        for button in self.cells:
            button.chosen.connect(lambda cell, which=button.which: self._put(which, cell))
            row.addWidget(button)
        row.addStretch(1)
        box.addLayout(row)

    def show_file(self, file: ChannelFile, picture: PictureOf) -> None:
        """Show what the file holds."""
        self.file = file
        if not self.name.hasFocus():
            self.name.setText(file.name)
        for which, button in enumerate(self.cells):
            present = which < len(file.cells) or which < 3
            cell = file.cells[which] if which < len(file.cells) else Cell()
            button.show_cell(cell, present, picture(cell) if cell.map else None)

    def _put(self, which: int, cell: Cell) -> None:
        cells = [*self.file.cells, *(Cell() for _ in range(which + 1 - len(self.file.cells)))]
        cells[which] = cell
        self.changed.emit(ChannelFile(self.file.name, tuple(cells)))

    def _rename(self) -> None:
        if self.name.text() != self.file.name:
            self.changed.emit(ChannelFile(self.name.text().strip(), self.file.cells))


class ChannelEditor(Column):
    """All packed files of a bundle; ``changed`` tells them as settings hold them, ``said`` what went wrong."""

    changed = Signal(tuple)
    said = Signal(str)

    def __init__(self) -> None:
        super().__init__()
        self.box.setContentsMargins(0, 0, 0, 0)
        self.bars: list[FileBar] = []
        self.words = note()
        self._texts: tuple[str, ...] = ()
        self._place = QVBoxLayout()
        self._place.setSpacing(8)
        self.box.addWidget(self.words)
        self.box.addLayout(self._place)
        row = QHBoxLayout()
        self.add = QPushButton("Add a file")
        self.add.setToolTip("Add a texture whose four channels you choose")
        self.add.clicked.connect(self._add)
        self.sets = QToolButton()
        self.sets.setText("Presets …")
        self.sets.setToolTip("Presets of packed files for common engines, and presets that you saved")
        self.sets.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        menu = QMenu(self.sets)
        for title, texts in CHANNEL_SETS.items():
            menu.addAction(title, lambda texts=texts: self._join(texts))
        menu.addSeparator()
        menu.addAction("Load presets …", self._open)
        menu.addAction("Save presets …", self._save)
        self.sets.setMenu(menu)
        row.addWidget(self.add)
        row.addWidget(self.sets)
        row.addStretch(1)
        self.box.addLayout(row)

    def show_files(self, texts: tuple[str, ...], picture: PictureOf) -> None:
        """Show packed files as settings hold them."""
        self._texts = texts
        while len(self.bars) > len(texts):
            bar = self.bars.pop()
            self._place.removeWidget(bar)
            bar.hide()
            bar.deleteLater()
        for number, text in enumerate(texts):
            file = read_channels(text)
            if number >= len(self.bars):
                bar = FileBar(file)
                bar.changed.connect(lambda file, bar=bar: self._changed(bar, file))
                self.bars.append(bar)
                self._place.addWidget(bar)
            self.bars[number].show_file(file, picture)
        self.words.setText("" if texts else "None yet. A packed file holds channels of several maps in one texture.")
        self.words.setVisible(not texts)

    def _changed(self, bar: FileBar, file: ChannelFile | None) -> None:
        number = self.bars.index(bar)
        texts = list(self._texts)
        texts[number : number + 1] = [] if file is None else [file.text]
        self._tell(tuple(texts))

    def _tell(self, texts: tuple[str, ...]) -> None:
        try:
            names = [read_channels(text).name for text in texts]
            twice = next((name for name in names if names.count(name) > 1), None)
            if twice is not None:
                raise InputError(f"there is a packed file {twice} already.", hint="Choose another name.")
        except FasciculumError as error:
            self.said.emit(str(error))
            return
        self.changed.emit(texts)

    def _add(self) -> None:
        names = {read_channels(text).name for text in self._texts}
        name = next(name for number in range(1, 100) if (name := f"packed{number}") not in names)
        self._tell((*self._texts, f"{name}=0,0,0"))

    def _join(self, texts: tuple[str, ...]) -> None:
        """Take files in; those of the same names give way."""
        new = {read_channels(text).name for text in texts}
        self._tell((*(text for text in self._texts if read_channels(text).name not in new), *texts))

    def _open(self) -> None:
        path, _ = QFileDialog.getOpenFileName(self, "Packed files", "", "Packed files (*.json)")
        if path:
            self.read_set(Path(path))

    def read_set(self, path: Path) -> None:
        """Take the packed files of a JSON file in."""
        try:
            result = json.loads(path.read_text())
            texts = tuple(result["channels"])
            for text in texts:
                read_channels(text)
        except FasciculumError as error:
            self.said.emit(f"{path.name}: {error}")
            return
        except (OSError, ValueError, KeyError, TypeError):
            self.said.emit(f"{path.name} contains no presets of packed files. Choose another file.")
            return
        self._join(texts)

    def _save(self) -> None:
        path, _ = QFileDialog.getSaveFileName(self, "Save packed files", "channels.json", "Packed files (*.json)")
        if path:
            self.write_set(Path(path))

    def write_set(self, path: Path) -> None:
        """Keep the packed files as a JSON file that can be handed on."""
        try:
            path.write_text(json.dumps({"version": 1, "channels": list(self._texts)}, indent=1) + "\n")
        except OSError as error:
            self.said.emit(f"{path.name} cannot be written ({error.strerror}). Choose another folder.")
