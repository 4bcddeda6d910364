"""What was gathered: files, what is in them, and how loose objects are bundled."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import QComboBox, QLabel, QPushButton

from fasciculum.app.panels.uv_sets import UvSets
from fasciculum.app.parts import Column, Form, heading, note
from fasciculum.app.workspace import Workspace
from fasciculum.model.finding import INFO
from fasciculum.model.sheet import SheetSettings
from fasciculum.session.loading import bundle_loose
from fasciculum.units import MIB, texture_bytes

RULES = (
    ("by alpha mode", "alpha"),
    ("by cost", "auto"),
    ("all in one", "one"),
    ("one for each object", "object"),
)


class GatherPanel(Column):
    """Files, counts, unusual things, and the rule for bundling."""

    def __init__(self, workspace: Workspace, acts: Callable[[str], Callable[[], None]]) -> None:
        super().__init__()
        self.workspace = workspace
        self.box.addWidget(heading("Models"))
        self.files = QLabel()
        self.files.setWordWrap(True)
        self.box.addWidget(self.files)
        self.counts = note()
        self.box.addWidget(self.counts)
        self.box.addSpacing(8)
        self.box.addWidget(heading("Loose objects into bundles"))
        form = Form()
        self.rule = QComboBox()
        for words, rule in RULES:
            self.rule.addItem(words, rule)
        self.rule_note = note()
        form.row(
            "Rule",
            self.rule,
            "How loose objects are put into bundles. By cost keeps strongly repeating textures and "
            "unlit surfaces apart where that pays.",
            self.rule_note,
        )
        self.box.addWidget(form)
        self.make = QPushButton("Bundle loose objects")
        self.make.setToolTip("Put every loose object into a bundle by the rule above")
        self.make.clicked.connect(self._bundle)
        self.box.addWidget(self.make)
        self.box.addSpacing(8)
        self.uv_sets = UvSets(workspace)
        self.box.addWidget(self.uv_sets)
        self.box.addSpacing(8)
        self.box.addWidget(heading("Unusual"))
        self.unusual = note()
        self.box.addWidget(self.unusual)
        self.textures = QPushButton("Textures")
        self.textures.setToolTip("Every texture with its size, users and what looks wrong (Ctrl+T)")
        self.textures.clicked.connect(acts("textures"))
        self.box.addWidget(self.textures)
        self.to_check = QPushButton("See all findings")
        self.to_check.setToolTip("Go to the findings under Check")
        self.to_check.clicked.connect(acts("stage_check"))
        self.box.addWidget(self.to_check)
        self.box.addStretch(1)
        workspace.document_changed.connect(lambda *_: self.refresh())
        self.refresh()

    def refresh(self) -> None:
        """Show what is there."""
        document = self.workspace.document
        scene = document.scene
        self.files.setText(
            "\n".join(source.named.rsplit("/", 1)[-1] for source in scene.sources)
            or "None yet. Add models, or drop them or a folder of them on the window."
        )
        triangles = sum(len(p.triangles) for item in scene.objects for p in scene.primitives_of(item))
        size = sum(texture_bytes(image.width, image.height) for image in scene.images)
        self.counts.setText(
            f"{len(scene.objects)} objects, {triangles:,} triangles, {len(scene.materials)} materials, "
            f"{len(scene.images)} images ({size / MIB:.0f} MiB)"
            if scene.objects
            else ""
        )
        loose = len(document.loose())
        self.rule_note.setText(
            f"{loose} object{'s are' if loose > 1 else ' is'} loose" if loose else "no object is loose"
        )
        self.make.setEnabled(bool(loose))
        loud = [finding for finding in document.gathered if finding.severity != INFO]
        quiet = len(document.gathered) - len(loud)
        lines = [finding.message for finding in loud[:4]]
        if quiet:
            lines.append(f"{quiet} notes on flat colours, tints, mirrored scales and the like.")
        self.unusual.setText("\n\n".join(lines) or "Nothing.")
        self.to_check.setVisible(bool(document.gathered))
        self.textures.setVisible(bool(scene.images))

    def _bundle(self) -> None:
        rule = self.rule.currentData()
        self.workspace.apply("Bundle loose objects", lambda document: bundle_loose(document, rule, SheetSettings()))
