"""How surfaces are laid flat: settings of the unwrap, what will be done with each object and why, and the tools."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QGridLayout,
    QPushButton,
    QTreeWidget,
    QTreeWidgetItem,
)

from fasciculum.app.fields import ComboBox
from fasciculum.app.model.shaper import EDGES, FACES, PROJECTION, Shaper
from fasciculum.app.parts import Column, Form, Switch, heading, note
from fasciculum.app.rows import UNWRAP, Rows
from fasciculum.app.workspace import Workspace
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import ObjectPolicy
from fasciculum.model.counting import counted
from fasciculum.model.unwrapping import PRESETS, preset_of
from fasciculum.operations.lay_out.forecast import Ahead
from fasciculum.operations.lay_out.shaping import reasons

POLICY_WORDS = {
    ObjectPolicy.BUNDLE: "as the bundle",
    ObjectPolicy.AUTO: "keep what is clean",
    ObjectPolicy.KEEP: "keep all",
    ObjectPolicy.UNWRAP: "unwrap anew",
}
PRESET_WORDS = (("balanced", "balanced"), ("hard shapes", "hard"), ("soft shapes", "soft"), ("as set below", ""))


def laid_out(bundle: Bundle) -> dict[str, np.ndarray]:
    """Return for each object that is laid out which of its islands were made anew; why is not known any more."""
    results: dict[str, np.ndarray] = {}
    for surface in bundle.layout.surfaces if bundle.layout is not None else ():
        anew = np.zeros(int(surface.island.max(initial=-1)) + 1, np.int64)
        anew[surface.island[surface.projected]] = 1
        results |= dict.fromkeys((key for key in surface.objects if key in bundle.objects), anew)
    return results


def kept_and_new(anew: np.ndarray) -> str:
    """Return how many islands were kept and how many made anew, in words."""
    kept, new = int((anew == 0).sum()), int(anew.sum())
    return ", ".join([f"{kept} kept"] * bool(kept) + [f"{new} new"] * bool(new))


class Unwrapping(Column):
    """Settings of the unwrap, what will be done with each object, and what is said of the chosen ones."""

    def __init__(self, workspace: Workspace, shaper: Shaper) -> None:
        super().__init__()
        self.workspace, self.shaper = workspace, shaper
        self.short = ""
        self.rows = Rows(workspace, UNWRAP, self)
        self.box.setContentsMargins(0, 0, 0, 0)
        self.box.addWidget(heading("Unwrapping"))
        form = Form()
        self.preset = ComboBox()
        for words, value in PRESET_WORDS:
            self.preset.addItem(words, value)
        self.preset.activated.connect(self._preset_chosen)
        form.row("Shapes", self.preset, "Presets for hard shapes such as machines, for soft shapes, or for both.")
        self.box.addWidget(form)
        self.fewer_note = note("less stretch — fewer islands")
        self.box.addWidget(self.rows.form("Unwrapping", notes={"fewer": self.fewer_note}))
        self.box.addWidget(heading("What will be done"))
        self.summary = note()
        self.box.addWidget(self.summary)
        self.list = QTreeWidget()
        self.list.setHeaderHidden(True)
        self.list.setRootIsDecorated(False)
        self.list.setColumnCount(2)
        self.list.setAccessibleName("How each object gets its islands")
        self.list.setToolTip("Each object of the bundle: whether its source UVs are kept, and why")
        self.list.setFixedHeight(132)
        self.list.itemClicked.connect(lambda item: workspace.select({item.data(0, Qt.ItemDataRole.UserRole)}))
        self.box.addWidget(self.list)
        form = Form()
        self.policy = ComboBox()
        for policy, words in POLICY_WORDS.items():
            self.policy.addItem(words, policy)
        self.policy.activated.connect(lambda index: shaper.set_policy(ObjectPolicy(self.policy.itemData(index))))
        self.policy_note = note()
        form.row("Of chosen", self.policy, "Whether the chosen objects keep their source UVs.", self.policy_note)
        self.uv_set = ComboBox()
        self.uv_set.activated.connect(lambda index: shaper.set_uv_set(self.uv_set.itemData(index)))
        form.row("Islands from", self.uv_set, "The UV set from which the chosen objects' islands are taken.")
        self.box.addWidget(form)

    def _preset_chosen(self, index: int) -> None:
        known = PRESETS.get(self.preset.itemData(index))
        if known is not None:
            self.rows.drop()
            self.rows.change(sharp=known.sharp, stretch=known.stretch, smallest=known.smallest, fewer=known.fewer)

    def commit(self) -> None:
        """Make what has been typed or dragged a step of the history."""
        self.rows.commit()

    def refresh(self, bundle: Bundle, ahead: Ahead | None) -> None:
        """Show the leading bundle's settings, and what they will lead to as far as it is known."""
        self.rows.refresh()
        self.preset.setCurrentIndex(self.preset.findData(preset_of(bundle.sheet.unwrap)))
        chosen = [key for key in sorted(self.workspace.selection) if key in bundle.objects]
        self.policy.setEnabled(bool(chosen))
        now = bundle.shaping(chosen[0]).policy if chosen else ObjectPolicy.BUNDLE
        self.policy.setCurrentIndex(self.policy.findData(now))
        words = "choose objects first"
        if chosen:
            words = f"of {chosen[0]}" if len(chosen) == 1 else f"of {counted(len(chosen), 'object')}"
            told = bundle.shaping(chosen[0])
            # each edge has a half on either side
            cut, joined = (self.shaper.edges_in(chosen[0], halves) for halves in (told.seams, told.joined))
            said = [f"{counted(cut, 'edge')} cut"] * bool(cut)
            said += [f"{joined} joined"] * bool(joined)
            said += [f"{len(told.projections)} projected"] * bool(told.projections)
            said += [f"{counted(len(told.hand), 'island')} shaped"] * bool(told.hand)
            words += f" · by hand: {', '.join(said)}" if said else ""
        self.policy_note.setText(words)
        self._show_sets(bundle, chosen)
        self._show_plan(bundle, ahead)

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
        told = ahead.reasons if ahead is not None else laid_out(bundle)
        self.short = ""
        if not told:
            self.summary.setText("analysing …" if bundle.objects else "the bundle is empty")
            self.list.clear()
            return
        whole = sum(1 for why in told.values() if not why.any())
        anew = sum(1 for why in told.values() if why.all())
        part = len(told) - whole - anew
        parts = [f"{whole} keep their UVs"] * bool(whole) + [f"{anew} made anew"] * bool(anew)
        self.short = f"{anew + part} anew" if anew + part else "all kept"
        self.summary.setText(f"{counted(len(told), 'object')}: " + ", ".join(parts + [f"{part} in part"] * bool(part)))
        self.list.clear()
        for key in sorted(told, key=lambda key: (not told[key].any(), key)):
            words = reasons(told[key]) if ahead is not None else kept_and_new(told[key])
            item = QTreeWidgetItem([key, words])
            item.setData(0, Qt.ItemDataRole.UserRole, key)
            item.setToolTip(0, f"{key}: {words}")
            item.setToolTip(1, f"{key}: {words}")
            self.list.addTopLevelItem(item)
            item.setSelected(key in self.workspace.selection)
        self.list.setColumnWidth(0, 98)


class ByHand(Column):
    """The tools for edges, faces and projections in the model, and for chosen islands."""

    def __init__(self, shaper: Shaper, acts: Callable[[str], Callable[[], None]]) -> None:
        super().__init__()
        self.shaper, self._acts = shaper, acts
        self._filling = False
        self.box.setContentsMargins(0, 0, 0, 0)
        self.box.addWidget(heading("In the model"))
        self.tools = self._buttons(
            (
                ("Edges", "pick_edges", "Pick edges in the model, to cut or join along them (E)"),
                ("Faces", "pick_faces", "Pick faces in the model, to project them (G)"),
                ("Cut", "cut_edges", "Make the picked edges seams (D)"),
                ("Join", "join_edges", "Make sure that the picked edges are not seams (J)"),
                ("Plane", "project_plane", "Project a plane on the chosen objects or faces, with handles"),
                ("From view", "plane_view", "Project a plane that faces the camera (V)"),
                ("Box", "project_box", "Project a box on the chosen objects or faces, with handles"),
                ("Cylinder", "project_cylinder", "Project a cylinder on the chosen objects or faces, with handles"),
                ("Sphere", "project_sphere", "Project a sphere on the chosen objects or faces, with handles"),
                ("Apply", "project_apply", "Use the projection for the chosen objects' or faces' UVs (Return)"),
                ("Exit tool", "put_away", "Stop picking or projecting (Escape)"),
                ("Reset", "forget_shaping", "Remove seams, projections and shapes of the chosen objects"),
            )
        )
        self.caps = Switch("separate islands")
        self.caps.setToolTip("Make separate islands of the caps of a cylinder and the poles of a sphere")
        self.caps.setAccessibleName("Caps")
        self.caps.toggled.connect(lambda on: shaper.move_projection(caps=on) if not self._filling else None)
        self.box.addWidget(self.caps)
        self.box.addWidget(heading("Chosen islands"))
        self.reshapes = self._buttons(
            (
                ("Relax", "island_relax", "Move vertices of the chosen islands so that stretch is lowest"),
                ("Straighten", "island_straighten", "Align nearly horizontal and vertical borders to the axis"),
                (
                    "Rectangle",
                    "island_rectangle",
                    "Make rectangles of the chosen islands, by their four sharpest corners",
                ),
            )
        )
        shaper.changed.connect(self._show_tools)
        shaper.hand.changed.connect(self._show_tools)
        self._show_tools()

    def short(self) -> str:
        """Return which tool is in use, in words."""
        if self.shaper.tool == PROJECTION and self.shaper.projection is not None:
            return f"setting a {self.shaper.projection.kind}"
        return {EDGES: "picking edges", FACES: "picking faces"}.get(self.shaper.tool, "no tool")

    def _buttons(self, entries: tuple) -> dict[str, QPushButton]:
        grid = QGridLayout()
        grid.setSpacing(4)
        results = {}
        for number, (words, act, tip) in enumerate(entries):
            button = QPushButton(words)
            button.setToolTip(tip)
            button.setMinimumHeight(26)
            button.setMinimumWidth(40)
            button.setStyleSheet("padding: 2px 0px")
            button.setCheckable(act in ("pick_edges", "pick_faces"))
            button.clicked.connect(lambda _=False, act=act: self._do(act))
            grid.addWidget(button, number // 3, number % 3)
            results[act] = button
        for number in range(3):
            grid.setColumnStretch(number, 1)
        self.box.addLayout(grid)
        return results

    def _do(self, act: str) -> None:
        self._acts(act)()
        self._show_tools()

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
        projection = shaper.projection if shaper.tool == PROJECTION else None
        self.caps.setVisible(projection is not None and projection.kind in ("cylinder", "sphere"))
        filling, self._filling = self._filling, True
        self.caps.setChecked(projection is not None and projection.caps)
        self._filling = filling
        for button in self.reshapes.values():
            button.setEnabled(bool(shaper.hand.places))
