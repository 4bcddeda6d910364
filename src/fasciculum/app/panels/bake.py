"""Which maps are baked, and how."""

from __future__ import annotations

from functools import partial

from PySide6.QtWidgets import QGridLayout, QLabel, QPushButton, QWidget

from fasciculum.app.folds import FoldColumn
from fasciculum.app.look import Theme
from fasciculum.app.parts import Switch, note
from fasciculum.app.rows import BAKE, Rows
from fasciculum.app.workspace import Workspace
from fasciculum.baking.needs import needs_of
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import ColorSpace
from fasciculum.model.maps import KINDS
from fasciculum.model.settings import words_of
from fasciculum.session.stale import DONE, NONE, STALE, bake_state, map_states
from fasciculum.units import MIB, texture_bytes

STATE_WORDS = {NONE: "not baked", STALE: "stale", DONE: "in order"}


class BakePanel(FoldColumn):
    """Maps, each with its state; and how they are baked."""

    def __init__(self, workspace: Workspace, theme: Theme) -> None:
        super().__init__("bake", workspace.settings, ("Maps", "Quality"))
        self.workspace = workspace
        self._filling = False
        self.rows = Rows(workspace, BAKE, self)
        self.automatic = Switch("those that the materials need")
        self.automatic.setToolTip("Leave out maps that would hold one value everywhere; the material holds it instead.")
        self.automatic.toggled.connect(self._automatic)
        self.maps_note = note()
        self.fold("Maps", theme, self.automatic, self._map_rows(), self.maps_note)
        self.fold("Quality", theme, self.rows.form("Quality"))
        self.fold("Edges", theme, self.rows.form("Edges"))
        self.baked = QLabel()
        self.baked.setWordWrap(True)
        self.baked.setProperty("quiet", True)
        self.fold("Baked", theme, self.baked)
        self.box.addStretch(1)
        workspace.selection_changed.connect(self.refresh)
        workspace.preview_changed.connect(self.refresh)
        workspace.document_changed.connect(lambda *_: self.refresh())
        self.refresh()

    def _map_rows(self) -> QWidget:
        """Return a row for each kind of map: whether it is baked, its state, and baking it alone."""
        rows = QWidget()
        grid = QGridLayout(rows)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setVerticalSpacing(2)
        grid.setColumnStretch(0, 1)
        self.maps: dict[str, Switch] = {}
        self.states: dict[str, QLabel] = {}
        self.alone: dict[str, QPushButton] = {}
        for number, kind in enumerate(KINDS.values()):
            box = Switch(kind.short)
            box.setToolTip(f"Bake {kind.title.lower()} for the chosen bundles")
            box.setAccessibleName(kind.title)
            box.toggled.connect(self._maps_changed)
            state = note()
            button = QPushButton("Bake")
            button.setAccessibleName(f"Bake {kind.title.lower()} alone")
            button.setToolTip(f"Bake {kind.title.lower()} alone; the other maps stay as they are")
            button.setStyleSheet("padding: 2px 6px")
            button.clicked.connect(partial(self._bake_alone, kind.name))
            for column, part in enumerate((box, state, button)):
                grid.addWidget(part, number, column)
            self.maps[kind.name], self.states[kind.name], self.alone[kind.name] = box, state, button
        return rows

    def _bake_alone(self, name: str) -> None:
        self.workspace.bake(only=(name,))

    def commit(self) -> None:
        """Make what has been typed a step of the history."""
        self.rows.commit()

    def _needed(self) -> tuple[str, ...]:
        bundle = self.workspace.bundle
        if bundle is None or not bundle.objects:
            return ()
        scene = self.workspace.document.scene
        return needs_of(scene, tuple(scene.object(key) for key in bundle.objects)).maps

    def _automatic(self, on: bool) -> None:
        if not self._filling:
            self.rows.change(maps=() if on else self._needed())

    def _maps_changed(self) -> None:
        if self._filling:
            return
        chosen = tuple(name for name, box in self.maps.items() if box.isChecked())
        if not chosen:
            self.workspace.say("A bundle needs at least one map.", "broken")
            self.refresh()
            return
        self.rows.change(maps=chosen)

    def refresh(self) -> None:
        """Show the leading bundle's settings."""
        bundle = self.workspace.bundle
        self.setEnabled(bundle is not None)
        if bundle is None:
            return
        self.rows.refresh()
        self._filling = True
        automatic = not bundle.bake.maps
        self.automatic.setChecked(automatic)
        shown = self._needed() if automatic else bundle.bake.maps
        for name, box in self.maps.items():
            box.setChecked(name in shown)
            box.setEnabled(not automatic)
        self._filling = False
        size = len(shown) * texture_bytes(bundle.sheet.width, bundle.sheet.height) / MIB
        self.maps_note.setText(f"{len(shown)} maps of {bundle.sheet.width} × {bundle.sheet.height} px: {size:.0f} MiB")
        self.folds["Maps"].say(f"{len(shown)} · {size:.0f} MiB")
        bake = bundle.bake
        self.folds["Quality"].say(f"{bake.bits} bits · {words_of(bake, 'samples')}")
        self.folds["Edges"].say(words_of(bake, "edges"))
        self._say_baked(bundle)

    def _say_baked(self, bundle: Bundle) -> None:
        states = map_states(self.workspace.document, bundle) if bundle.objects else {}
        for name, label in self.states.items():
            label.setText(STATE_WORDS.get(states.get(name, ""), ""))
            self.alone[name].setEnabled(name in states and bundle.layout is not None)
        made = bundle.texturing
        if made is None:
            self.baked.setText("Nothing yet.")
            self.folds["Baked"].say("nothing yet")
            return
        state = STATE_WORDS.get(bake_state(self.workspace.document, bundle), "")
        lines = [
            f"{KINDS[baked.name].title}: {baked.width} × {baked.height} px, {baked.bits} bits, "
            f"{'sRGB' if baked.color_space == ColorSpace.SRGB else 'linear'}"
            for baked in made.maps
        ]
        self.baked.setText("\n".join(lines))
        self.folds["Baked"].say(state, "good" if state == STATE_WORDS[DONE] else "")
