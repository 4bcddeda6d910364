"""Tonight's list, under the queue: what is on it, where it is done, and how it went."""

from __future__ import annotations

import os

from PySide6.QtCore import Qt, QUrl
from PySide6.QtGui import QDesktopServices
from PySide6.QtWidgets import QHBoxLayout, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from fasciculum.app.fields import ComboBox
from fasciculum.app.parts import heading, note, small_button
from fasciculum.app.tonight import Tonight

#: rows that are shown without scrolling
ROWS = 4


class TonightPart(QWidget):
    """The list with its buttons."""

    def __init__(self, tonight: Tonight) -> None:
        super().__init__()
        self.tonight = tonight
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 6, 0, 0)
        box.setSpacing(4)
        box.addWidget(heading("Batch list"))
        self.about = note()
        box.addWidget(self.about)
        self.list = QListWidget()
        self.list.setAccessibleName("Tonight's list")
        self.list.setToolTip("Projects as they were when they were put here; each is redone, checked and delivered")
        self.list.setTextElideMode(Qt.TextElideMode.ElideRight)
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        box.addWidget(self.list)
        self.where = ComboBox()
        self.where.setEditable(True)
        self.where.setToolTip("Where jobs are done: one by one, in several processes here, or by a scheduler's workers")
        self.where.addItem("one after the other", "")
        for count in range(2, max(os.cpu_count() or 1, 2) + 1):
            self.where.addItem(f"{count} at once, here", f"local:{count}")
        line_edit = self.where.lineEdit()
        assert line_edit is not None
        line_edit.setPlaceholderText("tcp://HOST:PORT")
        box.addWidget(self.where)
        self.add = small_button("Add this", "Put what is open on the list, as it is now", lambda: tonight.add())
        self.remove = small_button("Remove", "Take the chosen job off the list", self._remove)
        self.begin = small_button("Start", "Do the jobs of the list", self._start)
        self.page = small_button("Open report", "Open the page that sums up the last run", self._open)
        line = QHBoxLayout()
        line.setSpacing(3)
        for button in (self.add, self.remove, self.begin, self.page):
            line.addWidget(button)
        box.addLayout(line)
        tonight.changed.connect(self.refresh)
        tonight.workspace.document_changed.connect(lambda *_: self.refresh())
        self.list.currentRowChanged.connect(lambda _: self._enable())
        self.refresh()

    def _remove(self) -> None:
        row = self.list.currentRow()
        if 0 <= row < len(self.tonight.jobs):
            self.tonight.remove(self.tonight.jobs[row].name)

    def _start(self) -> None:
        if self.tonight.running:
            self.tonight.stop()
            return
        known = self.where.findText(self.where.currentText())
        self.tonight.farm = str(self.where.itemData(known)) if known >= 0 else self.where.currentText().strip()
        self.tonight.start()

    def _open(self) -> None:
        QDesktopServices.openUrl(QUrl.fromLocalFile(str(self.tonight.page)))

    def refresh(self) -> None:
        """Show the list as it is."""
        chosen = self.list.currentRow()
        self.list.clear()
        for job in self.tonight.jobs:
            item = QListWidgetItem(f"{job.name} · {job.state}")
            item.setToolTip(f"{job.name}: {job.state}. Goes to {job.out}")
            self.list.addItem(item)
        self.list.setVisible(bool(self.tonight.jobs))
        self.list.setFixedHeight(min(max(len(self.tonight.jobs), 1), ROWS) * 26 + 6)
        self.list.setCurrentRow(min(chosen, len(self.tonight.jobs) - 1))
        count = len(self.tonight.jobs)
        words = f"{count} job{'' if count == 1 else 's'}" if count else "Nothing yet"
        self.about.setText(f"{words}{', being done' if self.tonight.running else ''}.")
        self._enable()

    def _enable(self) -> None:
        running = self.tonight.running
        self.add.setEnabled(bool(self.tonight.workspace.document.scene.objects) and not running)
        self.remove.setEnabled(self.list.currentRow() >= 0 and not running)
        self.begin.setText("Stop" if running else "Start")
        self.begin.setEnabled(bool(self.tonight.jobs))
        self.where.setEnabled(not running)
        self.page.setEnabled(self.tonight.page.is_file() and not running)
