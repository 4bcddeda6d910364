"""The table of textures: what each is, who reads it, and what looks wrong, the worst first."""

from __future__ import annotations

from typing import Protocol

import numpy as np
from PySide6.QtCore import QSize, Qt
from PySide6.QtGui import QIcon, QImage, QPixmap
from PySide6.QtWidgets import (
    QAbstractItemView,
    QDialog,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from fasciculum.app.parts import note
from fasciculum.app.workspace import Workspace
from fasciculum.checks.textures import CheckedTexture, textures_of
from fasciculum.model.counting import counted
from fasciculum.operations.gather.thumbnails import thumbnails
from fasciculum.session.tasks import Kind, Task
from fasciculum.units import MIB, memory_words, texture_bytes

COLUMNS = ("Texture", "Size", "Bits", "Read as", "Memory", "Users", "What looks wrong")
EDGE = 36
SPACES = {"srgb": "colour (sRGB)", "linear": "data (linear)", "linear+srgb": "both", "unused": "nothing"}


class Repairs(Protocol):
    """What puts textures right."""

    def locate(self, name: str) -> None: ...

    def do_without(self, name: str) -> None: ...


class TextureTable(QDialog):
    """A window of its own that may stay open."""

    def __init__(self, workspace: Workspace, repairs: Repairs, parent: QWidget) -> None:
        super().__init__(parent)
        self.workspace, self.repairs = workspace, repairs
        self.setWindowTitle("Textures")
        self.setObjectName("textures")
        self.entries: list[CheckedTexture] = []
        self.pictures: dict[str, QIcon] = {}
        box = QVBoxLayout(self)
        box.setContentsMargins(10, 10, 10, 10)
        self.count = note()
        box.addWidget(self.count)
        self.rows = QTableWidget(0, len(COLUMNS))
        self.rows.setAccessibleName("Textures")
        self.rows.setHorizontalHeaderLabels(COLUMNS)
        self.rows.setIconSize(QSize(EDGE, EDGE))
        self.rows.verticalHeader().hide()
        self.rows.verticalHeader().setDefaultSectionSize(EDGE + 6)
        self.rows.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.rows.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.rows.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.rows.setShowGrid(False)
        self.rows.setWordWrap(False)
        self.rows.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        head = self.rows.horizontalHeader()
        head.setSectionResizeMode(QHeaderView.ResizeMode.Interactive)
        head.setStretchLastSection(True)
        head.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        for column, width in enumerate((190, 112, 44, 116, 76, 172, 100)):
            self.rows.setColumnWidth(column, width)
        self.rows.itemSelectionChanged.connect(self._chosen)
        self.rows.itemActivated.connect(lambda _: self.show_users())
        box.addWidget(self.rows, 1)
        line = QHBoxLayout()
        self.about = QLabel()
        self.about.setWordWrap(True)
        line.addWidget(self.about, 1)
        self.locate = self._button("Locate …", "Choose the missing file. Other missing files are searched beside it")
        self.locate.clicked.connect(lambda: self.repairs.locate(self._name()))
        self.without = self._button(
            "Use factor colour", "Continue without the image and use the material's factor colour"
        )
        self.without.clicked.connect(lambda: self.repairs.do_without(self._name()))
        self.users = self._button("Show users", "Choose the objects that read it and frame them in both views")
        self.users.clicked.connect(self.show_users)
        for button in (self.locate, self.without, self.users):
            line.addWidget(button)
        box.addLayout(line)
        self.resize(960, 520)
        workspace.document_changed.connect(lambda *_: self.refresh() if self.isVisible() else None)

    @staticmethod
    def _button(words: str, tip: str) -> QPushButton:
        button = QPushButton(words)
        button.setToolTip(tip)
        button.setAccessibleName(words)
        button.setAutoDefault(False)
        return button

    def _entry(self) -> CheckedTexture | None:
        row = self.rows.currentRow()
        return self.entries[row] if 0 <= row < len(self.entries) else None

    def _name(self) -> str:
        entry = self._entry()
        return self.workspace.document.scene.images[entry.image].name if entry is not None else ""

    def refresh(self) -> None:
        """List every texture of the project as it is now."""
        document = self.workspace.document
        scene = document.scene
        chosen = self._name() if self.entries and self.entries[-1].image < len(scene.images) else ""
        self.entries = sorted(textures_of(scene), key=lambda entry: (entry.rank, scene.images[entry.image].name))
        wrong = sum(bool(entry.faults) for entry in self.entries)
        total = sum(texture_bytes(image.width, image.height) for image in scene.images) / MIB
        self.count.setText(
            f"{counted(len(self.entries), 'texture')}, {total:.0f} MiB uncompressed with mip levels; "
            + {0: "no problems.", 1: "1 with a problem is listed first."}.get(
                wrong, f"{wrong} with problems are listed first."
            )
        )
        self.rows.setRowCount(len(self.entries))
        for row, entry in enumerate(self.entries):
            image = scene.images[entry.image]
            users = ", ".join(entry.objects) or "none"
            faults = "; ".join(words for _, words in entry.faults)
            if image.missing and image.name in document.accepted:
                faults = "missing; the factor colour stands for it"
            texts = (
                image.name,
                "–" if image.missing else f"{image.width} × {image.height}",
                "–" if image.missing else f"{image.bits}",
                SPACES[entry.space],
                "–" if image.missing else memory_words(texture_bytes(image.width, image.height)),
                f"{len(entry.objects)}: {users}" if entry.objects else "none",
                f"!  {faults}" if faults else "",
            )
            for column, text in enumerate(texts):
                cell = QTableWidgetItem(text)
                cell.setToolTip(text if column != 0 or not image.source else f"{image.name}\n{image.path}")
                if column == 0:
                    cell.setIcon(self.pictures.get(image.pixels, QIcon(self._blank())))
                self.rows.setItem(row, column, cell)
            if chosen and image.name == chosen:
                self.rows.selectRow(row)
        if self.entries and self.rows.currentRow() < 0:
            self.rows.selectRow(0)
        self._chosen()
        self._ask_for_pictures()

    def _blank(self) -> QPixmap:
        blank = QPixmap(EDGE, EDGE)
        blank.fill(Qt.GlobalColor.transparent)
        return blank

    def _ask_for_pictures(self) -> None:
        images = self.workspace.document.scene.images
        wanted = tuple(
            {image.pixels: image for image in images if image.pixels and image.pixels not in self.pictures}.values()
        )
        if not wanted or self.workspace.scheduler.busy(Kind.MEASURE, part="thumbnails"):
            return

        def take(pictures: dict[int, np.ndarray]) -> None:
            for number, pixels in pictures.items():
                height, width = pixels.shape[:2]
                data = np.ascontiguousarray(pixels)
                picture = QImage(data.data, width, height, width * 4, QImage.Format.Format_RGBA8888).copy()
                self.pictures[wanted[number].pixels] = QIcon(QPixmap.fromImage(picture))
            self.refresh()

        arguments = (wanted, self.workspace.session.store)
        self.workspace.run(Task(Kind.MEASURE, "Draw thumbnails", thumbnails, arguments, part="thumbnails"), take)

    def _chosen(self) -> None:
        entry = self._entry()
        image = self.workspace.document.scene.images[entry.image] if entry is not None else None
        self.locate.setVisible(image is not None and image.missing)
        accepted = image is not None and image.name in self.workspace.document.accepted
        self.without.setVisible(image is not None and image.missing and not accepted)
        self.users.setEnabled(entry is not None and bool(entry.objects))
        self.about.setText(f"{image.name}: {image.problem}" if image is not None and image.missing else "")

    def show_users(self) -> None:
        """Choose the objects that read the chosen texture."""
        entry = self._entry()
        if entry is not None and entry.objects:
            self.workspace.select(entry.objects)
            self.workspace.frame_wanted.emit()
