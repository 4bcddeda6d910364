"""A bar above the ledger that asks for a decision, one at a time: a source changed, work was found again."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QPushButton


@dataclass(frozen=True)
class Choice:
    """A button of a notice: its words, its tip, and what it does."""

    words: str
    tip: str
    call: Callable[[], None]


@dataclass(frozen=True)
class Notice:
    """Words with choices. A new one of the same kind takes the place of the old."""

    kind: str
    words: str
    choices: tuple[Choice, ...]


class NoticeBar(QFrame):
    """Shows the first notice that waits; any choice puts it away."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("notice")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.notices: list[Notice] = []
        self._line = QHBoxLayout(self)
        self._line.setContentsMargins(12, 5, 8, 5)
        self._line.setSpacing(6)
        self.words = QLabel()
        self.words.setWordWrap(True)
        self._line.addWidget(self.words, 1)
        self.buttons: list[QPushButton] = []
        self.hide()

    def tell(self, kind: str, words: str, choices: Sequence[Choice]) -> None:
        """Show a notice, in place of an earlier one of its kind."""
        notice = Notice(kind, words, tuple(choices))
        places = [index for index, other in enumerate(self.notices) if other.kind == kind]
        if places:
            self.notices[places[0]] = notice
        else:
            self.notices.append(notice)
        self._refresh()

    def withdraw(self, kind: str) -> None:
        """Put a notice away that has become moot."""
        self.notices = [notice for notice in self.notices if notice.kind != kind]
        self._refresh()

    def _refresh(self) -> None:
        for button in self.buttons:
            button.hide()
            button.deleteLater()
        self.buttons = []
        self.setVisible(bool(self.notices))
        if not self.notices:
            return
        notice = self.notices[0]
        more = len(self.notices) - 1
        self.words.setText(notice.words + (f"  ({more} more)" if more else ""))
        for choice in notice.choices:
            button = QPushButton(choice.words)
            button.setToolTip(choice.tip)
            button.setAccessibleName(choice.words)
            button.setMinimumHeight(26)
            button.clicked.connect(lambda _=False, choice=choice: self._choose(notice, choice))
            self._line.addWidget(button)
            self.buttons.append(button)

    def _choose(self, notice: Notice, choice: Choice) -> None:
        self.notices = [other for other in self.notices if other is not notice]
        self._refresh()
        choice.call()
