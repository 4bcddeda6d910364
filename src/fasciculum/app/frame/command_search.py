"""Find any command, setting, map, check, page, object or bundle, by its name or by what else people call it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QDialog, QLineEdit, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from fasciculum.cli.find import Entry, search

MOST = 60
DOWN, UP = Qt.Key.Key_Down, Qt.Key.Key_Up


@dataclass(frozen=True)
class Hit:
    """Something that can be found, and what choosing it does."""

    entry: Entry
    call: Callable[[], None]

    @property
    def words(self) -> str:
        """What the list says of it: its title, its kind and place, its shortcut; below, what it does."""
        entry = self.entry
        place = entry.where or entry.option or ""
        parts = [entry.title, f"{entry.kind}{f', {place}' if place else ''}", entry.shortcut or ""]
        first = "   ·   ".join(part for part in parts if part)
        return f"{first}\n{entry.text}" if entry.text else first


class CommandSearch(QDialog):
    """A field and the hits below it; Up and Down choose, Return does, Escape leaves."""

    def __init__(self, parent: QWidget, hits: list[Hit]) -> None:
        super().__init__(parent, Qt.WindowType.Popup)
        self.setObjectName("search")
        self.hits = hits
        box = QVBoxLayout(self)
        box.setContentsMargins(8, 8, 8, 8)
        self.field = QLineEdit()
        self.field.setPlaceholderText("A command, setting, map, page, object: any word for it")
        self.field.setAccessibleName("Find by name")
        self.list = QListWidget()
        self.list.setAccessibleName("Search results")
        self.list.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.setWordWrap(True)
        self.list.setSpacing(2)
        box.addWidget(self.field)
        box.addWidget(self.list)
        self.field.textChanged.connect(self.fill)
        self.field.returnPressed.connect(self.choose)
        self.list.itemClicked.connect(lambda _: self.choose())
        self.field.installEventFilter(self)
        self.resize(560, 420)
        self.fill("")

    def fill(self, wanted: str) -> None:
        """Show the hits for some words, best first."""
        self.list.clear()
        number = {id(hit.entry): index for index, hit in enumerate(self.hits)}
        every = [hit.entry for hit in self.hits]
        entries = search(wanted, every, MOST) if wanted.strip() else every[:MOST]
        for entry in entries:
            index = number[id(entry)]
            item = QListWidgetItem(self.hits[index].words)
            item.setToolTip(entry.text)
            item.setData(Qt.ItemDataRole.UserRole, index)
            self.list.addItem(item)
        if not entries:
            self.list.addItem(f"Nothing is known as “{wanted}”. Try another word, or F1 for the guide.")
        self.list.setCurrentRow(0)

    def choose(self) -> None:
        """Do what the current row stands for."""
        entry = self.list.currentItem()
        index = entry.data(Qt.ItemDataRole.UserRole) if entry is not None else None
        if index is not None:
            self.close()
            self.hits[index].call()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress and event.key() in (DOWN, UP):
            step = 1 if event.key() == DOWN else -1
            self.list.setCurrentRow(min(max(self.list.currentRow() + step, 0), self.list.count() - 1))
            return True
        return super().eventFilter(watched, event)
