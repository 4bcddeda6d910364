"""Find any command, object, bundle or setting by name."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QDialog, QLineEdit, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

MOST = 60
DOWN, UP = Qt.Key.Key_Down, Qt.Key.Key_Up


@dataclass(frozen=True)
class Hit:
    """Something that can be found: its title, what kind it is, its shortcut, and what choosing it does."""

    title: str
    kind: str
    call: Callable[[], None]
    shortcut: str = ""


def rank(title: str, wanted: str) -> int | None:
    """Return how well a title matches, lower being better; None when not all words occur in it."""
    lowered = title.lower()
    score = 0
    for word in wanted.lower().split():
        at = lowered.find(word)
        if at < 0:
            return None
        score += 0 if at == 0 else 1 if lowered[at - 1] in " -_(" else 3
    return score * 100 + len(title)


class CommandSearch(QDialog):
    """A field and the hits below it; Up and Down choose, Return does, Escape leaves."""

    def __init__(self, parent: QWidget, hits: list[Hit]) -> None:
        super().__init__(parent, Qt.WindowType.Popup)
        self.setObjectName("search")
        self.hits = hits
        box = QVBoxLayout(self)
        box.setContentsMargins(8, 8, 8, 8)
        self.field = QLineEdit()
        self.field.setPlaceholderText("A command, object, bundle or setting")
        self.field.setAccessibleName("Find by name")
        self.list = QListWidget()
        self.list.setAccessibleName("Found")
        self.list.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        box.addWidget(self.field)
        box.addWidget(self.list)
        self.field.textChanged.connect(self.fill)
        self.field.returnPressed.connect(self.choose)
        self.list.itemClicked.connect(lambda _: self.choose())
        self.field.installEventFilter(self)
        self.resize(460, 380)
        self.fill("")

    def fill(self, wanted: str) -> None:
        """Show the hits for some words, best first."""
        self.list.clear()
        ranked = [
            (score, index) for index, hit in enumerate(self.hits) if (score := rank(hit.title, wanted)) is not None
        ]
        if wanted:
            ranked.sort()
        for _, index in ranked[:MOST]:
            hit = self.hits[index]
            words = f"{hit.title}   ·   {hit.kind}" + (f"   ·   {hit.shortcut}" if hit.shortcut else "")
            entry = QListWidgetItem(words)
            entry.setData(Qt.ItemDataRole.UserRole, index)
            self.list.addItem(entry)
        if not ranked:
            self.list.addItem(f"Nothing is called “{wanted}”.")
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
