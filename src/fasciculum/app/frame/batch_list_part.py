"""Batch list, under the queue: what is on it, where it is done, and how it went."""

from __future__ import annotations

import os

from PySide6.QtCore import Qt, QUrl
from PySide6.QtGui import QDesktopServices
from PySide6.QtWidgets import QHBoxLayout, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from fasciculum.app.batch_list import BatchList
from fasciculum.app.fields import ComboBox
from fasciculum.app.parts import heading, note, small_button

#: rows that are shown without scrolling
ROWS = 4


class BatchListPart(QWidget):
    """The list with its buttons."""

    def __init__(self, batch_list: BatchList) -> None:
        super().__init__()
        self.batch_list = batch_list
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 6, 0, 0)
        box.setSpacing(4)
        box.addWidget(heading("Batch list"))
        self.about = note()
        box.addWidget(self.about)
        self.list = QListWidget()
        self.list.setAccessibleName("Batch list")
        self.list.setToolTip(
            "Copies of projects as they were when they were added. Each is made, checked and delivered"
        )
        self.list.setTextElideMode(Qt.TextElideMode.ElideRight)
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        box.addWidget(self.list)
        self.where = ComboBox()
        self.where.setEditable(True)
        self.where.setToolTip(
            "Where jobs run: one after the other, in several local processes, or on a scheduler's workers"
        )
        self.where.addItem("one after the other", "")
        for count in range(2, max(os.cpu_count() or 1, 2) + 1):
            self.where.addItem(f"{count} at once, here", f"local:{count}")
        line_edit = self.where.lineEdit()
        assert line_edit is not None
        line_edit.setPlaceholderText("tcp://HOST:PORT")
        box.addWidget(self.where)
        self.add = small_button("Add project", "Add a copy of the open project to the list", lambda: batch_list.add())
        self.remove = small_button("Remove", "Remove the chosen job from the list", self._remove)
        self.begin = small_button("Start", "Run the jobs of the list", self._start)
        self.page = small_button("Open report", "Open the report of the last run", self._open)
        line = QHBoxLayout()
        line.setSpacing(3)
        for button in (self.add, self.remove, self.begin, self.page):
            line.addWidget(button)
        box.addLayout(line)
        batch_list.changed.connect(self.refresh)
        batch_list.workspace.document_changed.connect(lambda *_: self.refresh())
        self.list.currentRowChanged.connect(lambda _: self._enable())
        self.refresh()

    def _remove(self) -> None:
        row = self.list.currentRow()
        if 0 <= row < len(self.batch_list.jobs):
            self.batch_list.remove(self.batch_list.jobs[row].name)

    def _start(self) -> None:
        if self.batch_list.running:
            self.batch_list.stop()
            return
        known = self.where.findText(self.where.currentText())
        self.batch_list.farm = str(self.where.itemData(known)) if known >= 0 else self.where.currentText().strip()
        self.batch_list.start()

    def _open(self) -> None:
        QDesktopServices.openUrl(QUrl.fromLocalFile(str(self.batch_list.page)))

    def refresh(self) -> None:
        """Show the list as it is."""
        chosen = self.list.currentRow()
        self.list.clear()
        for job in self.batch_list.jobs:
            item = QListWidgetItem(f"{job.name} · {job.state}")
            item.setToolTip(f"{job.name}: {job.state}. Goes to {job.out}")
            self.list.addItem(item)
        self.list.setVisible(bool(self.batch_list.jobs))
        self.list.setFixedHeight(min(max(len(self.batch_list.jobs), 1), ROWS) * 26 + 6)
        self.list.setCurrentRow(min(chosen, len(self.batch_list.jobs) - 1))
        count = len(self.batch_list.jobs)
        words = f"{count} job{'' if count == 1 else 's'}" if count else "Nothing yet"
        self.about.setText(f"{words}{', being done' if self.batch_list.running else ''}.")
        self._enable()

    def _enable(self) -> None:
        running = self.batch_list.running
        self.add.setEnabled(bool(self.batch_list.workspace.document.scene.objects) and not running)
        self.remove.setEnabled(self.list.currentRow() >= 0 and not running)
        self.begin.setText("Stop" if running else "Start")
        self.begin.setEnabled(bool(self.batch_list.jobs))
        self.where.setEnabled(not running)
        self.page.setEnabled(self.batch_list.page.is_file() and not running)
