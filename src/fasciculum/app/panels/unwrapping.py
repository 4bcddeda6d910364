"""How surfaces are laid flat: settings of the unwrap, what will be done with each object and why, and the tools."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDoubleSpinBox,
    QGridLayout,
    QPushButton,
    QSlider,
    QTreeWidget,
    QTreeWidgetItem,
)

from fasciculum.app.model.shaper import EDGES, FACES, PROJECTION, Shaper
from fasciculum.app.parts import Column, Form, heading, note
from fasciculum.app.workspace import Workspace
from fasciculum.model.bundle import Bundle
from fasciculum.model.unwrapping import PRESETS, preset_of
from fasciculum.operations.lay_out.forecast import Ahead
from fasciculum.operations.lay_out.shaping import reasons
from fasciculum.session import commands

POLICY_WORDS = (
    ("as the bundle", "bundle"),
    ("keep what is clean", "auto"),
    ("keep all", "keep"),
    ("unwrap anew", "unwrap"),
)
PRESET_WORDS = (("balanced", "balanced"), ("hard shapes", "hard"), ("soft shapes", "soft"), ("as set below", ""))
#: milliseconds after the last change of a number before it becomes a step of the history
SETTLE = 700


def laid_out(bundle: Bundle) -> dict[str, np.ndarray]:
    """Return for each object that is laid out which of its islands were made anew; why is not known any more."""
    found = {}
    for surface in bundle.layout.surfaces if bundle.layout is not None else ():
        anew = np.zeros(int(surface.island.max(initial=-1)) + 1, np.int64)
        anew[surface.island[surface.projected]] = 1
        found |= dict.fromkeys((key for key in surface.objects if key in bundle.objects), anew)
    return found


def counted(anew: np.ndarray) -> str:
    """Return how many islands were kept and how many made anew, in words."""
    kept, new = int((anew == 0).sum()), int(anew.sum())
    return ", ".join([f"{kept} kept"] * bool(kept) + [f"{new} new"] * bool(new))


class Unwrapping(Column):
    """The part of the lay-out column that is about surfaces; stands below the sheet's own settings."""

    def __init__(self, workspace: Workspace, shaper: Shaper, acts: Callable[[str], Callable[[], None]]) -> None:
        super().__init__()
        self.workspace, self.shaper, self._acts = workspace, shaper, acts
        self._filling = False
        self._pending: dict[str, Any] = {}
        self._settle = QTimer(self, singleShot=True, interval=SETTLE)
        self._settle.timeout.connect(self.commit)
        self.box.setContentsMargins(0, 0, 0, 0)
        self.box.addWidget(heading("Unwrapping"))
        form = Form()
        self.preset = QComboBox()
        for words, value in PRESET_WORDS:
            self.preset.addItem(words, value)
        self.preset.activated.connect(self._preset_chosen)
        form.row("Shapes", self.preset, "Settings for hard shapes, as machines have, for soft ones, or for both.")
        self.sharp = self._number("sharp", 1, 180, 0, "°", 5)
        form.row(
            "Sharp from",
            self.sharp,
            "Degrees between two faces from which their edge is sharp: islands end there rather than bend, unless "
            "few islands are wanted and bending leaves fewer and better ones. Hollow edges count from 0.7 of it, "
            "since seams are not seen there.",
        )
        self.stretch = self._number("stretch", 0.1, 50, 1, " %", 0.5)
        form.row(
            "Stretch up to",
            self.stretch,
            "L2 stretch that an island may have beyond none, in per cent; more than that, and it is cut.",
        )
        self.smallest = self._number("smallest", 0, 50, 1, " %", 0.5)
        form.row(
            "Smallest",
            self.smallest,
            "Islands smaller than this part of their connected surface are joined to a neighbour where that can be.",
        )
        self.fewer = QSlider(Qt.Orientation.Horizontal)
        self.fewer.setRange(0, 100)
        self.fewer.valueChanged.connect(lambda value: self._changed("fewer", value / 100))
        self.fewer_note = note()
        tip = (
            "To the left less stretch and fuller rectangles, to the right fewer islands, which may also bend over "
            "sharp edges."
        )
        form.row("Fewer", self.fewer, tip, self.fewer_note)
        self.keep_seams = QCheckBox("as in source")
        self.keep_seams.toggled.connect(lambda on: self._change(keep_seams=on))
        form.row("Seams", self.keep_seams, "Unwrap along the seams of the source UVs, besides those that are needed.")
        self.box.addWidget(form)
        self.box.addWidget(heading("What will be done"))
        self.summary = note()
        self.box.addWidget(self.summary)
        self.list = QTreeWidget()
        self.list.setHeaderHidden(True)
        self.list.setRootIsDecorated(False)
        self.list.setColumnCount(2)
        self.list.setAccessibleName("What will be done with each object's UVs")
        self.list.setToolTip("Each object of the bundle, and what is done with its source UVs and why")
        self.list.setFixedHeight(132)
        self.list.itemClicked.connect(lambda item: workspace.select({item.data(0, Qt.ItemDataRole.UserRole)}))
        self.box.addWidget(self.list)
        form = Form()
        self.policy = QComboBox()
        for words, value in POLICY_WORDS:
            self.policy.addItem(words, value)
        self.policy.activated.connect(lambda index: shaper.set_policy(self.policy.itemData(index)))
        self.policy_note = note()
        form.row("Of chosen", self.policy, "What is done with the source UVs of the chosen objects.", self.policy_note)
        self.uv_set = QComboBox()
        self.uv_set.activated.connect(lambda index: shaper.set_uv_set(self.uv_set.itemData(index)))
        form.row("Islands from", self.uv_set, "The UV set that islands of the chosen objects are kept from.")
        self.box.addWidget(form)
        self.box.addWidget(heading("By hand, in the model"))
        self.tools = self._buttons(
            (
                ("Edges", "pick_edges", "Pick edges in the model, to cut or join along them (E)"),
                ("Faces", "pick_faces", "Pick faces in the model, to project them (G)"),
                ("Cut", "cut_edges", "Make the picked edges seams (C)"),
                ("Join", "join_edges", "See to it that the picked edges are no seams (J)"),
                ("Plane", "project_plane", "Project a plane on the chosen objects or faces, with handles"),
                ("From here", "plane_view", "Project a plane that faces the camera (V)"),
                ("Box", "project_box", "Project a box on the chosen objects or faces, with handles"),
                ("Cylinder", "project_cylinder", "Project a cylinder on the chosen objects or faces, with handles"),
                ("Sphere", "project_sphere", "Project a sphere on the chosen objects or faces, with handles"),
                ("Use it", "project_apply", "Lay the chosen objects or faces flat as the projection shows (Return)"),
                ("Put away", "put_away", "Pick nothing and look round again (Escape)"),
                ("Forget", "forget_shaping", "Take back seams, projections and shapes of the chosen objects"),
            )
        )
        self.caps = QCheckBox("lay the ends flat on their own")
        self.caps.setToolTip("The caps of a cylinder and the poles of a sphere become islands of their own")
        self.caps.setAccessibleName("Caps")
        self.caps.toggled.connect(lambda on: shaper.move_projection(caps=on) if not self._filling else None)
        self.box.addWidget(self.caps)
        self.box.addWidget(heading("Chosen islands"))
        self.reshapes = self._buttons(
            (
                ("Relax", "island_relax", "Move what lies within the chosen islands so that stretch is least"),
                ("Straighten", "island_straighten", "Bring borders that lie nearly along an axis onto it"),
                ("Rectangle", "island_rectangle", "Lay the chosen islands into rectangles by their four corners"),
            )
        )
        shaper.changed.connect(self._show_tools)
        shaper.hand.changed.connect(self._show_tools)

    def _number(self, name: str, low: float, high: float, decimals: int, suffix: str, step: float) -> QDoubleSpinBox:
        box = QDoubleSpinBox(minimum=low, maximum=high, decimals=decimals, suffix=suffix, singleStep=step)
        part = 100.0 if suffix == " %" else 1.0
        box.valueChanged.connect(lambda value: self._changed(name, value / part))
        return box

    def _buttons(self, entries: tuple) -> dict[str, QPushButton]:
        grid = QGridLayout()
        grid.setSpacing(4)
        found = {}
        for number, (words, act, tip) in enumerate(entries):
            button = QPushButton(words)
            button.setToolTip(tip)
            button.setMinimumHeight(26)
            button.setMinimumWidth(40)
            button.setStyleSheet("padding: 2px 0px")
            button.setCheckable(act in ("pick_edges", "pick_faces"))
            button.clicked.connect(lambda _=False, act=act: self._do(act))
            grid.addWidget(button, number // 3, number % 3)
            found[act] = button
        for number in range(3):
            grid.setColumnStretch(number, 1)
        self.box.addLayout(grid)
        return found

    def _do(self, act: str) -> None:
        self._acts(act)()
        self._show_tools()

    def _changed(self, name: str, value: Any) -> None:
        if not self._filling and self.workspace.bundle_names:
            self._pending[name] = value
            self._settle.start()

    def _change(self, **values: Any) -> None:
        if not self._filling and self.workspace.bundle_names:
            names = self.workspace.bundle_names
            label = f"Set unwrapping of {', '.join(names)}"
            self.workspace.apply(label, lambda document: commands.set_unwrap(document, names, **values))

    def _preset_chosen(self, index: int) -> None:
        known = PRESETS.get(self.preset.itemData(index))
        if known is not None:
            self._pending = {}
            self._change(sharp=known.sharp, stretch=known.stretch, smallest=known.smallest, fewer=known.fewer)

    def commit(self) -> None:
        """Make what has been typed or dragged a step of the history."""
        self._settle.stop()
        pending, self._pending = self._pending, {}
        if pending:
            self._change(**pending)

    # -- figures ----------------------------------------------------------------------------------------------

    def refresh(self, bundle: Bundle, ahead: Ahead | None) -> None:
        """Show the leading bundle's settings, and what they will lead to as far as it is known."""
        self._filling = True
        settings = bundle.sheet.unwrap
        self.preset.setCurrentIndex(self.preset.findData(preset_of(settings)))
        for box, value in (
            (self.sharp, settings.sharp),
            (self.stretch, settings.stretch * 100),
            (self.smallest, settings.smallest * 100),
        ):
            if abs(box.value() - value) > 1e-9 and not self._pending:
                box.setValue(value)
        if not self._pending:
            self.fewer.setValue(round(settings.fewer * 100))
        self.fewer_note.setText("less stretch — fewer islands")
        self.keep_seams.setChecked(settings.keep_seams)
        chosen = [key for key in sorted(self.workspace.selection) if key in bundle.objects]
        self.policy.setEnabled(bool(chosen))
        self.policy.setCurrentIndex(self.policy.findData(bundle.shaping(chosen[0]).policy if chosen else "bundle"))
        words = "choose objects first"
        if chosen:
            words = f"of {chosen[0]}" if len(chosen) == 1 else f"of {len(chosen)} objects"
            told = bundle.shaping(chosen[0])
            said = [f"{len(told.seams)} edges cut"] * bool(told.seams)
            said += [f"{len(told.joined)} joined"] * bool(told.joined)
            said += [f"{len(told.projections)} projected"] * bool(told.projections)
            said += [f"{len(told.hand)} islands shaped"] * bool(told.hand)
            words += f" · by hand: {', '.join(said)}" if said else ""
        self.policy_note.setText(words)
        self._show_sets(bundle, chosen)
        self._show_plan(bundle, ahead)
        self._filling = False
        self._show_tools()

    def _show_sets(self, bundle: Bundle, chosen: list[str]) -> None:
        scene = self.workspace.document.scene
        count = max((len(p.uv_sets) for key in chosen for p in scene.primitives_of(scene.object(key))), default=0)
        entries = [("the set read", -1), *((f"UV set {number}", number) for number in range(count))]
        if self.uv_set.count() != len(entries):
            self.uv_set.clear()
            for words, number in entries:
                self.uv_set.addItem(words, number)
        self.uv_set.setEnabled(bool(chosen) and count > 0)
        now = bundle.shaping(chosen[0]).uv_set if chosen else -1
        self.uv_set.setCurrentIndex(max(self.uv_set.findData(now), 0))

    def _show_plan(self, bundle: Bundle, ahead: Ahead | None) -> None:
        told = ahead.told if ahead is not None else laid_out(bundle)
        if not told:
            self.summary.setText("looking …" if bundle.objects else "the bundle is empty")
            self.list.clear()
            return
        whole = sum(1 for why in told.values() if not why.any())
        anew = sum(1 for why in told.values() if why.all())
        part = len(told) - whole - anew
        parts = [f"{whole} keep their UVs"] * bool(whole) + [f"{anew} made anew"] * bool(anew)
        self.summary.setText(f"{len(told)} objects: " + ", ".join(parts + [f"{part} in part"] * bool(part)))
        self.list.clear()
        for key in sorted(told, key=lambda key: (not told[key].any(), key)):
            words = reasons(told[key]) if ahead is not None else counted(told[key])
            item = QTreeWidgetItem([key, words])
            item.setData(0, Qt.ItemDataRole.UserRole, key)
            item.setToolTip(0, f"{key}: {words}")
            item.setToolTip(1, f"{key}: {words}")
            self.list.addTopLevelItem(item)
            item.setSelected(key in self.workspace.selection)
        self.list.setColumnWidth(0, 98)

    def _show_tools(self) -> None:
        shaper = self.shaper
        self.tools["pick_edges"].setChecked(shaper.tool == EDGES)
        self.tools["pick_faces"].setChecked(shaper.tool == FACES)
        for act in ("cut_edges", "join_edges"):
            self.tools[act].setEnabled(bool(shaper.edges))
        able = bool(shaper.keys())
        for act, button in self.tools.items():
            if act.startswith("project_") or act in ("plane_view", "forget_shaping"):
                button.setEnabled(able)
        self.tools["project_apply"].setEnabled(shaper.projection is not None)
        self.tools["put_away"].setEnabled(shaper.tool != "look" or bool(shaper.edges or shaper.faces))
        setting = shaper.tool == PROJECTION and shaper.projection is not None
        self.caps.setVisible(setting and shaper.projection.kind in ("cylinder", "sphere"))
        filling, self._filling = self._filling, True
        self.caps.setChecked(setting and shaper.projection.caps)
        self._filling = filling
        for button in self.reshapes.values():
            button.setEnabled(bool(shaper.hand.places))
