"""Where results are written, and under which names."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PySide6.QtWidgets import QCheckBox, QFileDialog, QLabel, QLineEdit, QPushButton

from fasciculum.app.parts import Column, Form, heading, note
from fasciculum.app.workspace import Workspace
from fasciculum.io.names import file_name
from fasciculum.session import commands
from fasciculum.session.stale import DONE, STALE, delivery_state


class DeliverPanel(Column):
    """Folder, name and what goes along."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace = workspace
        self._filling = False
        form = Form()
        self.folder = QLineEdit()
        self.folder.setPlaceholderText("a folder that the engine watches")
        form.row("Folder", self.folder, "Where the files are written. Nothing else in it is touched.")
        self.box.addWidget(form)
        self.choose = QPushButton("Choose folder …")
        self.choose.setToolTip("Choose the folder to deliver to")
        self.choose.clicked.connect(self._choose)
        self.box.addWidget(self.choose)
        second = Form()
        self.name = QLineEdit()
        self.name.editingFinished.connect(lambda: self._change(name=self.name.text().strip()))
        self.name_note = note()
        second.row(
            "Name",
            self.name,
            "The beginning of every file's name; empty takes the project's.",
            self.name_note,
        )
        self.box.addWidget(second)
        self.external = QCheckBox("textures beside the model")
        self.external.setToolTip("The model refers to the PNG files instead of holding copies of them.")
        self.external.toggled.connect(lambda on: self._change(external_textures=on))
        self.keep = QCheckBox("keep the source UVs too")
        self.keep.setToolTip(
            "Source UV sets go along after the sheet's. An engine that reads the wrong one shows nonsense: leave "
            "it off unless something needs them."
        )
        self.keep.toggled.connect(lambda on: self._change(keep_source_uvs=on))
        self.box.addWidget(self.external)
        self.box.addWidget(self.keep)
        self.box.addSpacing(6)
        self.box.addWidget(heading("Will be written"))
        self.files = QLabel()
        self.files.setProperty("quiet", True)
        self.files.setWordWrap(True)
        self.files.setMinimumWidth(60)
        self.box.addWidget(self.files)
        self.box.addStretch(1)
        workspace.document_changed.connect(lambda *_: self.refresh())
        self.refresh()

    def _change(self, **values: Any) -> None:
        delivery = self.workspace.document.delivery
        if not self._filling and any(getattr(delivery, key) != value for key, value in values.items()):
            self.workspace.apply("Set delivery", lambda document: commands.set_delivery(document, **values))

    def _choose(self) -> None:
        found = QFileDialog.getExistingDirectory(self, "Deliver to", self.folder.text() or str(Path.home()))
        if found:
            self.folder.setText(found)

    def deliver(self) -> None:
        """Deliver to the folder that is written there, asking for one when there is none."""
        if not self.folder.text().strip():
            self._choose()
        folder = self.folder.text().strip()
        if folder:
            self.workspace.deliver(str(Path(folder).expanduser()))

    def refresh(self) -> None:
        """Show the settings and the names that follow from them."""
        document = self.workspace.document
        self._filling = True
        if not self.folder.text() and document.delivered_to:
            self.folder.setText(document.delivered_to)
        if not self.name.hasFocus():
            self.name.setText(document.delivery.name)
        self.name.setPlaceholderText(document.name)
        self.external.setChecked(document.delivery.external_textures)
        self.keep.setChecked(document.delivery.keep_source_uvs)
        self._filling = False
        stem = file_name(document.delivery.name or document.name)
        self.name_note.setText(f"written as {stem}")
        ready = [bundle for bundle in document.bundles if bundle.texturing is not None]
        lines = [f"{stem}.glb"] if ready else []
        for bundle in ready:
            assert bundle.texturing is not None
            lines += [f"{stem}_{file_name(bundle.name).lower()}_{baked.name}.png" for baked in bundle.texturing.maps]
        undone = [bundle.name for bundle in document.bundles if bundle.texturing is None and bundle.objects]
        if ready and undone:
            lines.append(f"\n{', '.join(undone)}: not baked, delivered as they came.")
        state = {DONE: f"\nDelivered to {document.delivered_to}.", STALE: "\nThe last delivery is stale."}
        lines.append(state.get(delivery_state(document), ""))
        # names may break behind an underscore
        self.files.setText("\n".join(lines).replace("_", "_\u200b") if ready else "Nothing is baked yet.")
