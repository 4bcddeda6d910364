"""Actions as data: menu, shortcut, command search and tests share one list."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PySide6.QtGui import QAction, QKeySequence
from PySide6.QtWidgets import QWidget


@dataclass(frozen=True)
class Command:
    """One thing that can be done: its id, title, tip and shortcut, when it can be done, and the doing."""

    id: str
    title: str
    tip: str
    call: Callable[[], None]
    shortcut: str = ""
    enabled: Callable[[], bool] = lambda: True
    menu: str = ""


def add_actions(acts: list[Command], window: QWidget) -> dict[str, QAction]:
    """Make Qt actions of acts and give the window their shortcuts."""
    actions = {}
    for act in acts:
        action = QAction(act.title, window)
        action.setToolTip(act.tip)
        action.setStatusTip(act.tip)
        if act.shortcut:
            action.setShortcuts([QKeySequence(part) for part in act.shortcut.split("|")])

        def run(_checked: bool = False, act: Command = act) -> None:
            if act.enabled():
                act.call()

        action.triggered.connect(run)
        window.addAction(action)
        actions[act.id] = action
    return actions
