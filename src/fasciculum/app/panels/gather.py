"""What was gathered: files, what is in them, and how loose objects are bundled."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QAbstractItemView, QListWidget, QListWidgetItem, QPushButton

from fasciculum.app.fields import ComboBox
from fasciculum.app.folds import FoldColumn
from fasciculum.app.layers import Layers
from fasciculum.app.lights import Lights
from fasciculum.app.look import Theme
from fasciculum.app.pairs import Pairs
from fasciculum.app.panels.layers import LayersPanel
from fasciculum.app.panels.lights import LightsPanel
from fasciculum.app.panels.pairing import PairingPanel
from fasciculum.app.panels.plans import PlanPanel
from fasciculum.app.panels.treatments import WaysPanel
from fasciculum.app.panels.uv_sets import UvSets
from fasciculum.app.parts import Form, button_line, note, small_button
from fasciculum.app.workspace import Workspace
from fasciculum.model.choices import Rule
from fasciculum.model.counting import counted
from fasciculum.model.finding import INFO
from fasciculum.model.sheet import SheetSettings
from fasciculum.session.loading import bundle_loose
from fasciculum.units import MIB, texture_bytes

RULE_WORDS = {
    Rule.ALPHA: "by alpha mode",
    Rule.AUTO: "by cost",
    Rule.ONE: "all in one",
    Rule.OBJECT: "one for each object",
}


#: files that are listed without scrolling
MOST_FILES = 6


class GatherPanel(FoldColumn):
    """Files, counts, unusual things, and the rule for bundling."""

    def __init__(
        self,
        workspace: Workspace,
        theme: Theme,
        acts: Callable[[str], Callable[[], None]],
        pairs: Pairs,
        lights: Lights,
        layers: Layers,
    ) -> None:
        super().__init__("gather", workspace.settings, ("Models", "Plan", "Loose objects", "Findings"))
        self.workspace = workspace
        self.files = QListWidget()
        self.files.setAccessibleName("Models of the project")
        self.files.setToolTip("The model files of the project")
        self.files.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.files.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.files.setTextElideMode(Qt.TextElideMode.ElideMiddle)
        self.files.setContextMenuPolicy(Qt.ContextMenuPolicy.ActionsContextMenu)
        self.none = note("None yet. Add models, or drop them or a folder of them on the window.")
        self.counts = note()
        tips = "Remove the chosen files and their objects from the project. The files on disk are not touched"
        self.remove_file = small_button("Remove", tips, self._remove_files)
        tips = "Use the objects of the chosen files as high-poly models of the others"
        self.high_file = small_button("Use as high-poly", tips, self._use_files)
        for button in (self.remove_file, self.high_file):
            action = QAction(button.text(), self.files)
            action.triggered.connect(button.click)
            self.files.addAction(action)
        self.files.itemSelectionChanged.connect(self._say_files)
        self.fold("Models", theme, self.none, self.files, self.counts)
        button_line(self.folds["Models"].inner, self.remove_file, self.high_file)
        self.plan = PlanPanel(workspace, theme)
        self.fold("Plan", theme, self.plan)
        self.plan.said = lambda: self.folds["Plan"].say(self.plan.short)
        self.ways = WaysPanel(workspace)
        self.fold("Treatments", theme, self.ways)
        self.ways.said = lambda: self.folds["Treatments"].say(self.ways.short)
        self.pairing = PairingPanel(workspace, theme, pairs)
        self.fold("Pairing", theme, self.pairing)
        self.pairing.said = lambda: self.folds["Pairing"].say(self.pairing.short, self.pairing.state)
        self.pairing.said()
        self.lights = LightsPanel(lights, theme)
        self.fold("Lights", theme, self.lights)
        self.lights.said = lambda: self.folds["Lights"].say(self.lights.short)
        self.lights.said()
        self.layers = LayersPanel(layers)
        self.fold("Layers", theme, self.layers)
        self.layers.said = lambda: self.folds["Layers"].say(self.layers.short)
        self.layers.said()
        form = Form()
        self.rule = ComboBox()
        for rule, words in RULE_WORDS.items():
            self.rule.addItem(words, rule)
        self.rule_note = note()
        form.row(
            "Rule",
            self.rule,
            "How loose objects are put into bundles. By cost also separates strongly repeating textures and "
            "unlit surfaces where that saves memory.",
            self.rule_note,
        )
        self.make = QPushButton("Bundle loose objects")
        self.make.setToolTip("Put every loose object into a bundle, by the rule above")
        self.make.clicked.connect(self._bundle)
        self.fold("Loose objects", theme, form, self.make)
        self.uv_sets = UvSets(workspace)
        self.fold("UV sets", theme, self.uv_sets)
        self.unusual = note()
        self.textures = QPushButton("Textures")
        self.textures.setToolTip("Every texture with its size, users and what looks wrong (Ctrl+T)")
        self.textures.clicked.connect(acts("textures"))
        self.to_check = QPushButton("See all findings")
        self.to_check.setToolTip("Go to the findings under Check")
        self.to_check.clicked.connect(acts("stage_check"))
        self.fold("Findings", theme, self.unusual, self.textures, self.to_check)
        self.box.addStretch(1)
        workspace.document_changed.connect(lambda *_: self.refresh())
        self.refresh()

    def refresh(self) -> None:
        """Show what is there."""
        document = self.workspace.document
        scene = document.scene
        self._list_files()
        triangles = sum(len(p.triangles) for item in scene.objects for p in scene.primitives_of(item))
        size = sum(texture_bytes(image.width, image.height) for image in scene.images)
        self.counts.setText(
            f"{counted(len(scene.objects), 'object')}, {counted(triangles, 'triangle')}, "
            f"{counted(len(scene.materials), 'material')}, {counted(len(scene.images), 'image')} "
            f"({size / MIB:.0f} MiB)"
            if scene.objects
            else ""
        )
        loose = len(document.loose())
        self.rule_note.setText(f"{counted(loose, 'object is', 'objects are')} loose" if loose else "no object is loose")
        self.make.setEnabled(bool(loose))
        count = len(scene.objects)
        self.folds["Models"].say(counted(count, "object") if count else "none yet")
        self.folds["Loose objects"].say(f"{loose} loose" if loose else "none loose")
        loud = [finding for finding in document.gathered if finding.severity != INFO]
        quiet = len(document.gathered) - len(loud)
        lines = [finding.message for finding in loud[:4]]
        if quiet:
            lines.append(f"{counted(quiet, 'note')} on flat colours, tints, mirrored scales and the like.")
        self.unusual.setText("\n\n".join(lines) or "Nothing.")
        self.folds["Findings"].say(
            counted(len(loud), "warning") if loud else counted(quiet, "note") if quiet else "nothing",
            "broken" if loud else "",
        )
        sets = {len(p.uv_sets) for mesh in scene.meshes for p in mesh.primitives}
        self.folds["UV sets"].say(f"up to {max(sets)}" if sets else "none")
        self.to_check.setVisible(bool(document.gathered))
        self.textures.setVisible(bool(scene.images))

    def _list_files(self) -> None:
        sources = self.workspace.document.scene.sources
        paths = [source.path for source in sources]
        if [self.files.item(row).data(Qt.ItemDataRole.UserRole) for row in range(self.files.count())] != paths:
            self.files.clear()
            for source in sources:
                item = QListWidgetItem(source.named.rsplit("/", 1)[-1])
                item.setData(Qt.ItemDataRole.UserRole, source.path)
                item.setToolTip(source.path)
                self.files.addItem(item)
        rows = min(self.files.count(), MOST_FILES)
        self.files.setFixedHeight(rows * max(self.files.sizeHintForRow(0), 18) + 2 * self.files.frameWidth() + 4)
        for part in (self.files, self.remove_file, self.high_file):
            part.setVisible(bool(sources))
        self.none.setVisible(not sources)
        self._say_files()

    def _chosen_files(self) -> list[str]:
        return [str(item.data(Qt.ItemDataRole.UserRole)) for item in self.files.selectedItems()]

    def _say_files(self) -> None:
        chosen = len(self._chosen_files())
        self.remove_file.setEnabled(bool(chosen))
        self.high_file.setEnabled(0 < chosen < self.files.count())

    def _remove_files(self) -> None:
        self.workspace.remove_files(self._chosen_files())

    def _use_files(self) -> None:
        scene, chosen = self.workspace.document.scene, set(self._chosen_files())
        self.workspace.use_as_high(
            [item.key for item in scene.objects if scene.sources[scene.nodes[item.node].source].path in chosen]
        )

    def _bundle(self) -> None:
        rule = self.rule.currentData()
        self.workspace.apply("Bundle loose objects", lambda document: bundle_loose(document, rule, SheetSettings()))
