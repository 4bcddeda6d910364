"""An earlier delivery beside the last one: what was added, removed and changed since."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFileDialog, QListWidget, QListWidgetItem, QPushButton, QVBoxLayout, QWidget

from fasciculum.app.parts import MODELS, note
from fasciculum.app.workspace import Workspace
from fasciculum.io.formats.table import WRITTEN_FORMATS
from fasciculum.io.names import file_name
from fasciculum.model.counting import counted
from fasciculum.operations.check.against import Compared, compare_files
from fasciculum.session.tasks import Kind, Task
from fasciculum.units import MIB

#: rows that are shown without scrolling
ROWS = 8


class EarlierPart(QWidget):
    """A button that asks for an earlier delivery, and what differs from it."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace = workspace
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(4)
        self.button = QPushButton("Compare with …")
        self.button.setToolTip("Choose a model that was delivered before and compare the last delivery with it")
        self.button.clicked.connect(self._ask)
        self.about = note("Deliver first; then compare the delivered model with an earlier one.")
        self.list = QListWidget()
        self.list.setAccessibleName("Differences from the earlier delivery")
        self.list.setToolTip("Objects that were added, removed or changed. Click one to choose it")
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.itemClicked.connect(self._show)
        for part in (self.button, self.about, self.list):
            box.addWidget(part)
        self.list.hide()
        workspace.document_changed.connect(lambda *_: self.refresh())
        self.refresh()

    def refresh(self) -> None:
        """Offer what can be compared now."""
        self.button.setEnabled(self.delivered() is not None)

    def delivered(self) -> Path | None:
        """Return the model of the last delivery, None when there is none."""
        document = self.workspace.document
        if not document.delivered_to:
            return None
        name = file_name(document.delivery.name or document.name)
        written = [entry for entry in WRITTEN_FORMATS if entry.name in document.delivery.models]
        places = [Path(document.delivered_to) / f"{name}{entry.suffix}" for entry in written]
        return next((place for place in places if place.is_file()), None)

    def _ask(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self.window(), "Choose an earlier delivery", "", MODELS)
        if name:
            self.compare(name)

    def compare(self, old: str) -> None:
        """Compare the last delivery with an earlier one."""
        new = self.delivered()
        if new is None:
            return
        self.about.setText(f"comparing with {Path(old).name} …")
        arguments = (str(new), old, self.workspace.session.store)
        task = Task(Kind.MEASURE, f"Compare with {Path(old).name}", compare_files, arguments, part="earlier delivery")
        self.workspace.run(task, lambda compared: self.show_compared(old, compared), anew=True)

    def show_compared(self, old: str, compared: Compared) -> None:
        """List what differs."""
        before, after = compared.before, compared.after
        told = compared.entry["match_db"]
        match = "Base colours are the same."
        if told["worst"] is not None:
            median = "most are the same" if told["median"] is None else f"median {told['median']} dB"
            match = f"Base colours match at {told['worst']} dB at worst ({told['object']}), {median}."
        self.about.setText(
            f"Against {Path(old).name}: {before.draw_calls} → {counted(after.draw_calls, 'draw call')}, "
            f"{before.texture_bytes / MIB:.1f} → {after.texture_bytes / MIB:.1f} MiB. {match}"
        )
        self.list.clear()
        for sign, what, keys in (
            ("+", "added", compared.added),
            ("−", "removed", compared.removed),
            ("≠", "changed", compared.changed),
        ):
            for key in keys:
                figure = compared.matches.get(key)
                beside = f" · {figure:.1f} dB" if figure is not None and what == "changed" else ""
                entry = QListWidgetItem(f"{sign}  {key} · {what}{beside}")
                entry.setData(Qt.ItemDataRole.UserRole, key)
                self.list.addItem(entry)
        self.list.setVisible(self.list.count() > 0)
        self.list.setFixedHeight(min(max(self.list.count(), 1), ROWS) * 26 + 6)

    def _show(self, entry: QListWidgetItem) -> None:
        key = entry.data(Qt.ItemDataRole.UserRole)
        if self.workspace.document.scene.has(key):
            self.workspace.select({key})
            self.workspace.frame_wanted.emit()
