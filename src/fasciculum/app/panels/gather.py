"""What was gathered: files, what is in them, and how loose objects are bundled."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import QComboBox, QLabel, QPushButton

from fasciculum.app.folds import FoldColumn
from fasciculum.app.layers import Layers
from fasciculum.app.lights import Lights
from fasciculum.app.look import Theme
from fasciculum.app.pairs import Pairs
from fasciculum.app.panels.layers import LayersPanel
from fasciculum.app.panels.lights import LightsPanel
from fasciculum.app.panels.pairing import PairingPanel
from fasciculum.app.panels.plans import PlanPanel
from fasciculum.app.panels.uv_sets import UvSets
from fasciculum.app.panels.ways import WaysPanel
from fasciculum.app.parts import Form, note
from fasciculum.app.workspace import Workspace
from fasciculum.model.choices import Rule
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
        super().__init__("gather", workspace.settings, ("Models", "Plan", "Loose objects", "Unusual"))
        self.workspace = workspace
        self.files = QLabel()
        self.files.setWordWrap(True)
        self.counts = note()
        self.fold("Models", theme, self.files, self.counts)
        self.plan = PlanPanel(workspace, theme)
        self.fold("Plan", theme, self.plan)
        self.plan.said = lambda: self.folds["Plan"].say(self.plan.short)
        self.ways = WaysPanel(workspace)
        self.fold("Ways", theme, self.ways)
        self.ways.said = lambda: self.folds["Ways"].say(self.ways.short)
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
        self.rule = QComboBox()
        for rule, words in RULE_WORDS.items():
            self.rule.addItem(words, rule)
        self.rule_note = note()
        form.row(
            "Rule",
            self.rule,
            "How loose objects are put into bundles. By cost keeps strongly repeating textures and "
            "unlit surfaces apart where that pays.",
            self.rule_note,
        )
        self.make = QPushButton("Bundle loose objects")
        self.make.setToolTip("Put every loose object into a bundle by the rule above")
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
        self.fold("Unusual", theme, self.unusual, self.textures, self.to_check)
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
        count = len(scene.objects)
        self.folds["Models"].say(f"{count} objects" if count else "none yet")
        self.folds["Loose objects"].say(f"{loose} loose" if loose else "none loose")
        loud = [finding for finding in document.gathered if finding.severity != INFO]
        quiet = len(document.gathered) - len(loud)
        lines = [finding.message for finding in loud[:4]]
        if quiet:
            lines.append(f"{quiet} notes on flat colours, tints, mirrored scales and the like.")
        self.unusual.setText("\n\n".join(lines) or "Nothing.")
        self.folds["Unusual"].say(
            f"{len(loud)} warnings" if loud else f"{quiet} notes" if quiet else "nothing", "broken" if loud else ""
        )
        sets = {len(p.uv_sets) for mesh in scene.meshes for p in mesh.primitives}
        self.folds["UV sets"].say(f"up to {max(sets)}" if sets else "none")
        self.to_check.setVisible(bool(document.gathered))
        self.textures.setVisible(bool(scene.images))

    def _bundle(self) -> None:
        rule = Rule(self.rule.currentData())
        self.workspace.apply("Bundle loose objects", lambda document: bundle_loose(document, rule, SheetSettings()))
