"""The queue: running and waiting work with progress, time left, cancel and log."""

from __future__ import annotations

from PySide6.QtCore import QPoint, Qt, QTimer
from PySide6.QtWidgets import (
    QDialog,
    QHBoxLayout,
    QLabel,
    QPlainTextEdit,
    QProgressBar,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from fasciculum.app.batch_list import BatchList
from fasciculum.app.frame.batch_list_part import BatchListPart
from fasciculum.app.parts import note, set_state
from fasciculum.app.workspace import Workspace
from fasciculum.jobs.runner import CANCELLED, DONE, FAILED, RUNNING, WAITING, QueueEntry
from fasciculum.operations.preparing import under_way
from fasciculum.session.everything import Everything

STATES = {WAITING: "waiting", RUNNING: "running", DONE: "done", FAILED: "failed", CANCELLED: "cancelled"}
SHOWN = 12

#: milliseconds between two looks at what is being compiled
ASK = 1000


class _Row(QWidget):
    """One job."""

    def __init__(self, job: QueueEntry, workspace: Workspace) -> None:
        super().__init__()
        self.job, self.workspace = job, workspace
        box = QVBoxLayout(self)
        box.setContentsMargins(4, 4, 4, 6)
        box.setSpacing(3)
        line = QHBoxLayout()
        self.title = QLabel(job.title)
        self.state = QLabel()
        self.log_button = QPushButton("Log")
        self.log_button.setCheckable(True)
        self.log_button.setAccessibleName(f"Log of {job.title}")
        self.log_button.toggled.connect(self._show_log)
        self.cancel = QPushButton("Cancel")
        self.cancel.setAccessibleName(f"Cancel {job.title}")
        self.cancel.setToolTip("Stop it; nothing of it is kept")
        self.cancel.clicked.connect(lambda: workspace.worker.runner.cancel(job))
        line.addWidget(self.title, 1)
        for part in (self.state, self.log_button, self.cancel):
            line.addWidget(part)
        box.addLayout(line)
        self.bar = QProgressBar()
        self.bar.setRange(0, 1000)
        self.bar.setTextVisible(False)
        box.addWidget(self.bar)
        self.words = note()
        box.addWidget(self.words)
        self.log = QPlainTextEdit()
        self.log.setReadOnly(True)
        self.log.setFixedHeight(110)
        self.log.hide()
        box.addWidget(self.log)
        self.refresh()

    def _show_log(self, on: bool) -> None:
        self.log.setVisible(on)
        self.log.setPlainText("\n".join(self.job.log) or "No log entries.")

    def refresh(self) -> None:
        job = self.job
        self.state.setText(STATES[job.state])
        set_state(self.state, {FAILED: "broken", DONE: "good"}.get(job.state, ""))
        self.cancel.setVisible(not job.over)
        self.bar.setVisible(job.state == RUNNING)
        self.bar.setValue(round(job.fraction * 1000))
        left = job.seconds_left(self.workspace.seconds())
        words = job.words if job.state == RUNNING else ""
        if left is not None:
            words += f" · about {left:.0f} s left"
        if job.over and job.ended:
            words = f"took {job.ended - job.started:.1f} s" if job.state == DONE and job.started else ""
        if job.state == FAILED and job.error is not None:
            words = str(job.error).strip().splitlines()[-1]
        self.words.setText(words)
        self.words.setVisible(bool(words))
        if self.log.isVisible():
            self.log.setPlainText("\n".join(job.log) or "No log entries.")


class _RunRow(QWidget):
    """A run over everything: one entry, with its parts."""

    def __init__(self, run: Everything, workspace: Workspace) -> None:
        super().__init__()
        self.run, self.workspace = run, workspace
        box = QVBoxLayout(self)
        box.setContentsMargins(4, 4, 4, 6)
        box.setSpacing(3)
        line = QHBoxLayout()
        self.title = QLabel(run.title)
        self.title.setStyleSheet("font-weight: 600")
        self.state = QLabel()
        self.cancel = QPushButton("Cancel")
        self.cancel.setAccessibleName(f"Cancel {run.title}")
        self.cancel.setToolTip("Stop all running and waiting parts. Finished parts are kept")
        self.cancel.clicked.connect(run.cancel)
        line.addWidget(self.title, 1)
        line.addWidget(self.state)
        line.addWidget(self.cancel)
        box.addLayout(line)
        self.bar = QProgressBar()
        self.bar.setRange(0, 1000)
        self.bar.setTextVisible(False)
        box.addWidget(self.bar)
        self.parts = note()
        box.addWidget(self.parts)
        self.refresh()

    def refresh(self) -> None:
        run = self.run
        self.state.setText(STATES[run.state] if run.over else f"{run.done} of {len(run.parts)} done")
        set_state(self.state, {FAILED: "broken", DONE: "good"}.get(run.state, ""))
        self.cancel.setVisible(not run.over)
        self.bar.setVisible(not run.over)
        self.bar.setValue(round(run.fraction * 1000))
        lines = []
        for part in run.parts:
            words = STATES.get(part.state, "not needed")
            if part.why:
                words = f"not done: {part.why}"
            elif part.state == RUNNING:
                words = f"{part.fraction:.0%}"
            elif part.state == FAILED and part.job is not None and part.job.error is not None:
                words = f"failed: {str(part.job.error).strip().splitlines()[-1]}"
            lines.append(f"{part.title}: {words}")
        self.parts.setText("\n".join(lines))


class QueueButton(QPushButton):
    """Shows what runs; opens the queue."""

    def __init__(self, workspace: Workspace, batch_list: BatchList) -> None:
        super().__init__("Nothing running")
        self.workspace, self.batch_list = workspace, batch_list
        self.setFixedWidth(172)
        self.clicked.connect(self.open)
        self.dialog: QDialog | None = None
        self.rows: dict[int, _Row] = {}
        self.run_row: _RunRow | None = None
        workspace.queue_changed.connect(self.refresh)
        batch_list.changed.connect(self.refresh)
        #: what is still being compiled, after a first start
        self.preparing = under_way()
        self._asks = QTimer(self, interval=ASK)
        self._asks.timeout.connect(self._ask)
        if self.preparing:
            self._asks.start()
        self.refresh()

    def _ask(self) -> None:
        self.preparing = under_way()
        if not self.preparing:
            self._asks.stop()
        self.refresh()

    def refresh(self) -> None:
        """Renew the button's words and the open list."""
        runner = self.workspace.worker.runner
        job, waiting = runner.running, len(runner.unfinished)
        words = f"Preparing {self.preparing[0]}" if self.preparing else "Nothing running"
        tip = "The queue: what runs and waits, with progress, cancel and log (Ctrl+J)"
        if self.preparing:
            tip += f". Being compiled, once: {', '.join(self.preparing)}; only work that needs it waits"
        self.setToolTip(tip)
        run = self.workspace.everything
        if self.batch_list.running and job is None:
            over = sum(not one.state.startswith("wait") for one in self.batch_list.jobs)
            words = f"Batch list {over + 1}/{len(self.batch_list.jobs)}"
        if run is not None and not run.over:
            part = run.running
            words = f"{part.title if part else run.title} {run.done + 1}/{len(run.parts)}"
        elif job is not None:
            words = f"{job.title} {job.fraction:.0%}" + (f" +{waiting - 1}" if waiting > 1 else "")
        metrics = self.fontMetrics()
        self.setText(metrics.elidedText(words, Qt.TextElideMode.ElideMiddle, self.width() - 20))
        self.setAccessibleName(f"Queue: {words}")
        if self.dialog is not None and self.dialog.isVisible():
            self._fill()

    def open(self) -> None:
        """Open the queue below the button."""
        if self.dialog is None:
            self.dialog = QDialog(self.window(), Qt.WindowType.Popup)
            self.dialog.setObjectName("queue")
            box = QVBoxLayout(self.dialog)
            box.setContentsMargins(8, 8, 8, 8)
            self._holder = QWidget()
            self._list = QVBoxLayout(self._holder)
            self._list.setContentsMargins(0, 0, 0, 0)
            self._empty = note("Nothing has run yet. Packing, baking, checking and delivering are listed here.")
            self._list.addWidget(self._empty)
            self._list.addStretch(1)
            area = QScrollArea()
            area.setWidgetResizable(True)
            area.setWidget(self._holder)
            box.addWidget(area, 1)
            self.batch_list_part = BatchListPart(self.batch_list)
            box.addWidget(self.batch_list_part)
            self.dialog.resize(400, 520)
        self._fill()
        place = self.mapToGlobal(QPoint(self.width() - self.dialog.width(), self.height() + 4))
        self.dialog.move(place)
        self.dialog.show()

    def _fill(self) -> None:
        run = self.workspace.everything
        inside = {id(part.job) for part in run.parts if part.job is not None} if run is not None else set()
        jobs = [job for job in self.workspace.worker.runner.jobs if id(job) not in inside][-SHOWN:]
        if run is not None and (self.run_row is None or self.run_row.run is not run):
            if self.run_row is not None:
                self.run_row.deleteLater()
            self.run_row = _RunRow(run, self.workspace)
            self._list.insertWidget(0, self.run_row)
        if self.run_row is not None:
            self.run_row.refresh()
        wanted = {job.number for job in jobs}
        for number in [number for number in self.rows if number not in wanted]:
            self.rows.pop(number).deleteLater()
        for job in jobs:
            if job.number not in self.rows:
                row = _Row(job, self.workspace)
                self.rows[job.number] = row
                self._list.insertWidget(1 if self.run_row is not None and not self.run_row.run.over else 0, row)
            self.rows[job.number].refresh()
        self._empty.setVisible(not jobs and run is None)
