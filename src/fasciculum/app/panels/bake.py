"""Which maps are baked, and how."""

from __future__ import annotations

from typing import Any

from PySide6.QtWidgets import QCheckBox, QComboBox, QDoubleSpinBox, QLabel, QSpinBox

from fasciculum.app.parts import Column, Form, heading, note
from fasciculum.app.workspace import Workspace
from fasciculum.baking.needs import needs_of
from fasciculum.session import commands
from fasciculum.session.stale import DONE, STALE, bake_state
from fasciculum.units import MIB, texture_bytes

NAMES = {
    "base_color": "Base colour",
    "normal": "Normal",
    "orm": "Occlusion, roughness, metallic",
    "emissive": "Emission",
}


EDGE_WORDS = (
    ("as they came", "source"),
    ("hard at seams", "hard"),
    ("smooth over seams", "smooth"),
    ("hard above an angle", "angle"),
)


class BakePanel(Column):
    """Maps, samples, bleed and bits."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace = workspace
        self._filling = False
        self.box.addWidget(heading("Maps"))
        self.automatic = QCheckBox("those that the materials need")
        self.automatic.setToolTip("Leave out maps that would hold one value everywhere; the material holds it instead.")
        self.automatic.toggled.connect(self._automatic)
        self.box.addWidget(self.automatic)
        self.maps: dict[str, QCheckBox] = {}
        for name in MAPS:
            box = QCheckBox(NAMES[name])
            box.setToolTip(f"Bake {NAMES[name].lower()} for the chosen bundles")
            box.toggled.connect(self._maps_changed)
            self.maps[name] = box
            self.box.addWidget(box)
        self.maps_note = note()
        self.box.addWidget(self.maps_note)
        form = Form()
        self.samples = QComboBox()
        for words, value in (("1, filtered", 1), ("4", 4), ("16", 16)):
            self.samples.addItem(words, value)
        self.samples.activated.connect(lambda index: self._change(samples=self.samples.itemData(index)))
        form.row(
            "Samples",
            self.samples,
            "Readings a texel at least; each is filtered to the texel's size already. More helps "
            "where a texel covers fine, folded detail, and takes longer.",
        )
        self.bleed = QSpinBox(minimum=-1, maximum=4096, suffix=" px", specialValueText="everywhere")
        self.bleed.editingFinished.connect(
            lambda: self._change(bleed=None if self.bleed.value() < 0 else self.bleed.value())
        )
        form.row(
            "Bleed",
            self.bleed,
            "How far colour continues beyond the islands, in px. Everywhere is safest; half the padding "
            "is the least that helps.",
        )
        self.bits = QComboBox()
        self.bits.addItem("8 bits a channel", 8)
        self.bits.addItem("16 bits a channel", 16)
        self.bits.activated.connect(lambda index: self._change(bits=self.bits.itemData(index)))
        form.row("Depth", self.bits, "Bits for each channel of the written textures.")
        self.edges = QComboBox()
        for words, value in EDGE_WORDS:
            self.edges.addItem(words, value)
        self.edges.activated.connect(lambda index: self._change(edges=self.edges.itemData(index)))
        form.row(
            "Edges",
            self.edges,
            "Normals of the delivered mesh: left alone, broken at the sheet's seams, averaged over these, or broken "
            "where faces meet at more than an angle. Normal maps are baked to match.",
        )
        self.angle = QDoubleSpinBox(minimum=0, maximum=180, decimals=0, suffix="°", singleStep=5)
        self.angle.setKeyboardTracking(False)
        self.angle.valueChanged.connect(lambda value: self._change(edge_angle=value))
        form.row("Hard above", self.angle, "Degrees between two faces from which their edge is hard.")
        self.box.addWidget(form)
        self.box.addSpacing(6)
        self.box.addWidget(heading("Baked"))
        self.baked = QLabel()
        self.baked.setWordWrap(True)
        self.baked.setProperty("quiet", True)
        self.box.addWidget(self.baked)
        self.box.addStretch(1)
        workspace.selection_changed.connect(self.refresh)
        workspace.document_changed.connect(lambda *_: self.refresh())
        self.refresh()

    def _change(self, **values: Any) -> None:
        names = self.workspace.bundle_names
        bundle = self.workspace.bundle
        if self._filling or bundle is None or all(getattr(bundle.bake, key) == value for key, value in values.items()):
            return
        label = f"Set {next(iter(values))} of {', '.join(names)}"
        self.workspace.apply(label, lambda document: commands.set_bake(document, names, **values))

    def _needed(self) -> tuple[str, ...]:
        bundle = self.workspace.bundle
        if bundle is None or not bundle.objects:
            return ()
        scene = self.workspace.document.scene
        return needs_of(scene, tuple(scene.object(key) for key in bundle.objects)).maps

    def _automatic(self, on: bool) -> None:
        self._change(maps=() if on else self._needed())

    def _maps_changed(self) -> None:
        chosen = tuple(name for name, box in self.maps.items() if box.isChecked())
        if not self._filling and not chosen:
            self.workspace.say("A bundle needs at least one map.", "broken")
            self.refresh()
            return
        self._change(maps=chosen)

    def refresh(self) -> None:
        """Show the leading bundle's settings."""
        bundle = self.workspace.bundle
        self.setEnabled(bundle is not None)
        if bundle is None:
            return
        self._filling = True
        needed = self._needed()
        automatic = not bundle.bake.maps
        self.automatic.setChecked(automatic)
        shown = needed if automatic else bundle.bake.maps
        for name, box in self.maps.items():
            box.setChecked(name in shown)
            box.setEnabled(not automatic)
        self.samples.setCurrentIndex(self.samples.findData(bundle.bake.samples))
        self.bleed.setValue(-1 if bundle.bake.bleed is None else bundle.bake.bleed)
        self.bits.setCurrentIndex(self.bits.findData(bundle.bake.bits))
        self.edges.setCurrentIndex(self.edges.findData(bundle.bake.edges))
        self.angle.setEnabled(bundle.bake.edges == "angle")
        self.angle.setValue(bundle.bake.edge_angle)
        size = len(shown) * texture_bytes(bundle.sheet.width, bundle.sheet.height) / MIB
        self.maps_note.setText(f"{len(shown)} maps of {bundle.sheet.width} × {bundle.sheet.height} px: {size:.0f} MiB")
        self._filling = False
        made = bundle.texturing
        if made is None:
            self.baked.setText("Nothing yet.")
            return
        state = {DONE: "in order", STALE: "stale"}.get(bake_state(self.workspace.document, bundle), "")
        lines = [
            f"{NAMES[baked.name]}: {baked.width} × {baked.height} px, {baked.bits} bits, "
            f"{'sRGB' if baked.color_space == 'srgb' else 'linear'}"
            for baked in made.maps
        ]
        self.baked.setText("\n".join([f"{state}:", *lines]))
