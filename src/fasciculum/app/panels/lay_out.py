"""How the chosen bundles are laid out, with density, memory and clean-down size following each setting."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any

import numpy as np
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QHBoxLayout, QLabel, QSizePolicy, QWidget

from fasciculum.app.fields import ComboBox, DoubleSpinBox
from fasciculum.app.folds import FoldColumn
from fasciculum.app.given import GivenSheets
from fasciculum.app.look import Theme
from fasciculum.app.model.shaper import Shaper
from fasciculum.app.panels.given import GivenPanel
from fasciculum.app.panels.layouts import PackingNow, Versions
from fasciculum.app.panels.unwrapping import ByHand, Unwrapping
from fasciculum.app.parts import Form, Histogram, note
from fasciculum.app.rows import SETTLE, SHEET, Rows
from fasciculum.app.workspace import Workspace
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import TwinRule
from fasciculum.model.counting import counted
from fasciculum.model.settings import words_of
from fasciculum.operations.check.check import measure_layout
from fasciculum.operations.lay_out.forecast import Ahead, clean_size
from fasciculum.operations.ledger import ledger_of
from fasciculum.session import commands
from fasciculum.session.stale import DONE, layout_state
from fasciculum.session.tasks import Kind, Task
from fasciculum.treatments.resolving import islands_alone, resolve_bundle
from fasciculum.units import MIB, density_words

#: folds that say nothing of a sheet that is given
OF_MADE = ("Size", "Padding", "Packing", "Twins", "Density multiplier", "Layout versions", "Sharpness")
TWIN_WORDS = {
    TwinRule.TOGETHER: "on one place",
    TwinRule.UNMIRRORED: "mirrored apart",
    TwinRule.APART: "apart",
}


class LayOutPanel(FoldColumn):
    """Sheet settings; numbers are shown at once and kept when they settle."""

    def __init__(
        self,
        workspace: Workspace,
        theme: Theme,
        acts: Callable[[str], Callable[[], None]],
        shaper: Shaper,
        sheets: GivenSheets,
    ) -> None:
        super().__init__("lay out", workspace.settings, ("Size", "Padding"))
        self.workspace = workspace
        self._yields_of: Any = None
        self.rows = Rows(workspace, SHEET, self)
        self.box.addWidget(PackingNow(workspace, theme, acts))
        self.given = GivenPanel(sheets)
        self.fold("Sheet", theme, self.given)
        self.given.said = lambda: self.folds["Sheet"].say(self.given.short)
        self.given.said()
        self.size_note, self.padding_note, self.twins_note, self.uv_note = note(), note(), note(), note()
        size = Form()
        size.row("Size", self._edges(), "Width and height of the sheet in px.", self.size_note)
        self.fold("Size", theme, size, self.rows.form("Size", without=("width", "height")))
        self.fold("Padding", theme, self.rows.form("Padding", notes={"padding": self.padding_note}))
        self.fold("Packing", theme, self.rows.form("Packing"))
        self.fold("Twins", theme, self.rows.form("Twins", notes={"twins": self.twins_note}), self._twins_of_chosen())
        self.unwrapping = Unwrapping(workspace, shaper)
        surfaces = self.rows.form("Surfaces", notes={"uv": self.uv_note})
        self.fold("Surfaces", theme, surfaces, self.unwrapping)
        self.by_hand = ByHand(shaper, acts)
        self.fold("By hand", theme, self.by_hand)
        self.fold("Density multiplier", theme, self._share_of_chosen())
        self.versions = Versions(workspace)
        self.fold("Layout versions", theme, self.versions)
        self.histogram = Histogram(theme)
        self.yields = QLabel()
        self.yields.setProperty("quiet", True)
        self.yields.setWordWrap(True)
        self.fold("Density", theme, self.histogram)
        self.fold("Sharpness", theme, self.yields)
        self.box.addStretch(1)
        for signal in (
            workspace.selection_changed,
            workspace.preview_changed,
            workspace.figures_changed,
            workspace.stage_changed,
        ):
            signal.connect(self.refresh)
        workspace.document_changed.connect(lambda *_: self.refresh())
        shaper.changed.connect(self._say_shaping)
        self.refresh()

    # -- controls ---------------------------------------------------------------------------------------------

    def _edges(self) -> QWidget:
        """Return width and height side by side."""
        size = QWidget()
        pair = QHBoxLayout(size)
        pair.setContentsMargins(0, 0, 0, 0)
        pair.setSpacing(6)
        # a square sheet stays square when its width is changed; its height alone makes it another shape
        self.rows.together["width"] = lambda value, sheet: {"height": value} if sheet.width == sheet.height else {}
        for name in ("width", "height"):
            box = self.rows.control(name)
            box.setMinimumSize(60, 26)
            box.setProperty("narrow", True)
            box.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
            pair.addWidget(box)
        return size

    def _twins_of_chosen(self) -> Form:
        form = Form()
        self.rule = ComboBox()
        for value, words in TWIN_WORDS.items():
            self.rule.addItem(words, value)
        self.rule.activated.connect(self._rule_changed)
        form.row(
            "Of chosen",
            self.rule,
            "Whether twins of the chosen objects share one place, share it unless mirrored (safe for "
            "normals), or never.",
        )
        return form

    def _share_of_chosen(self) -> Form:
        form = Form()
        self._shared: tuple[list[str], float] | None = None
        self._filling = False
        self._settle = QTimer(self, singleShot=True, interval=SETTLE)
        self._settle.timeout.connect(self.commit)
        self.share = DoubleSpinBox(minimum=0.1, maximum=10, decimals=2, singleStep=0.25)
        self.share.valueChanged.connect(self._share_changed)
        self.share_note = note()
        form.row(
            "Share",
            self.share,
            "Factor on the texel density of the chosen objects: 2 gives twice the texels along an edge.",
            self.share_note,
        )
        return form

    def _share_changed(self, value: float) -> None:
        keys = sorted(self.workspace.selection)
        if not self._filling and keys:
            self._shared = (keys, value)
            self.workspace.preview(commands.set_share(self.workspace.document, keys, value))
            self._settle.start()

    def _rule_changed(self, index: int) -> None:
        keys, rule = sorted(self.workspace.selection), TwinRule(self.rule.itemData(index))
        if not self._filling and keys:
            self.workspace.apply("Set twins", lambda document: commands.set_twins(document, keys, rule))

    def commit(self) -> None:
        """Make what has been typed or dragged a step of the history."""
        self._settle.stop()
        self.unwrapping.commit()
        shared, self._shared = self._shared, None
        if shared is not None:
            keys, value = shared
            self.workspace.apply("Set share", lambda document: commands.set_share(document, keys, value))
        self.rows.commit()

    # -- figures ----------------------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Show the leading bundle's settings and what they lead to."""
        bundle = self.workspace.bundle
        self.setEnabled(bundle is not None)
        if bundle is None:
            return
        for title in OF_MADE:
            self.folds[title].setVisible(bundle.given is None)
        self.rows.refresh()
        self._filling = True
        chosen = [key for key in sorted(self.workspace.selection) if key in bundle.objects]
        self.share.setEnabled(bool(chosen))
        self.rule.setEnabled(bool(chosen) and bundle.sheet.twins)
        self.rule.setCurrentIndex(self.rule.findData(bundle.twin_rule(chosen[0]) if chosen else TwinRule.TOGETHER))
        self.versions.refresh()
        if self._shared is None:
            self.share.setValue(bundle.share(chosen[0]) if chosen else 1.0)
        count = len(chosen)
        about = chosen[0] if count == 1 else counted(count, "object")
        self.share_note.setText(f"of {about}" if chosen else "choose objects first")
        self._filling = False
        self.folds["Density multiplier"].say(f"{bundle.share(chosen[0]):.2f} of {about}" if chosen else "none chosen")
        self._say(bundle)

    def _say(self, bundle: Bundle) -> None:
        stale = layout_state(self.workspace.shown, bundle) != DONE
        shown = self.workspace.shown is self.workspace.document and self.workspace.stage == "lay out"
        # once it is packed nobody waits for what it will put on its sheet; what is known already is shown
        ahead = self.workspace.look_ahead(bundle, ask=stale) if shown else None
        self.unwrapping.refresh(self.workspace.shown.bundle(bundle.name), ahead)
        self._say_settings(bundle)
        self._say_twins(bundle, ahead if stale else None)
        self._say_shaping()
        count = len(bundle.versions)
        self.folds["Layout versions"].say(f"{count} kept" if count else "none saved")
        layout = bundle.layout
        if layout is None:
            self.uv_note.setText("")
            self.histogram.show_values(np.zeros(0), np.zeros(0), 0.0)
            self.yields.setText("Pack to see it.")
            for title in ("Density", "Sharpness"):
                self.folds[title].say("not packed")
            return
        projected = sum(1 for surface in layout.surfaces if surface.projected.any())
        words = f"{counted(projected, 'object')} unwrapped, whole or in part"
        self.uv_note.setText(words if projected else "all source UVs kept")
        self._say_measured(bundle)

    def _say_settings(self, bundle: Bundle) -> None:
        sheet = bundle.sheet
        expected = self.workspace.sheet_figures(bundle)
        size = ledger_of(self.workspace.shown).after.texture_bytes / MIB
        if expected is not None:
            about = "" if expected.measured else "about "
            self.size_note.setText(
                f"px; {about}{density_words(expected.density)} · {size:.0f} MiB in all · half the edge: "
                f"{density_words(expected.density / 2)}"
            )
        elif resolve_bundle(self.workspace.shown.scene, bundle).bare:
            self.size_note.setText("All materials are kept apart: no sheet is needed.")
        else:
            self.size_note.setText("measuring …" if bundle.objects else "the bundle is empty")
        now = clean_size(sheet.width, sheet.padding)
        more = sheet.padding
        while clean_size(sheet.width, more) == now and more < 256:
            more += 1
        self.padding_note.setText(f"bleed-free to about {now} px; {more} px: {clean_size(sheet.width, more)} px")
        tiles = f" × {sheet.tiles} tiles" if sheet.tiles > 1 else ""
        density = f" · {density_words(expected.density)}" if expected is not None else ""
        self.folds["Size"].say(f"{sheet.width} × {sheet.height}{tiles}{density}")
        self.folds["Padding"].say(f"{sheet.padding} px · to {now} px")
        turns = {"none": "no turns", "any": "any turn"}.get(sheet.turns, f"{words_of(sheet, 'turns')} turns")
        self.folds["Packing"].say(f"{turns} · {sheet.seconds:.0f} s")

    def _say_twins(self, bundle: Bundle, ahead: Ahead | None) -> None:
        layout = bundle.layout
        if layout is None:
            words = short = ""
            if ahead is not None:
                every = ahead.islands + ahead.doubles
                words = (
                    f"{ahead.doubles} of {every} islands can share another island's place; that saves  "
                    f"{ahead.saved:.0%} of the surface"
                )
                short = f"{ahead.doubles} of {every}"
        else:
            doubles, every = layout.doubles, layout.distinct + layout.doubles
            words = f"{doubles} of {every} islands share another island's place" if doubles else "none in this bundle"
            short = f"{doubles} of {every}"
        self.twins_note.setText(words)
        self.folds["Twins"].say(short if bundle.sheet.twins else "all apart")

    def _say_shaping(self) -> None:
        bundle = self.workspace.bundle
        if bundle is not None:
            made = words_of(bundle.sheet, "uv")
            self.folds["Surfaces"].say(f"{made} · {self.unwrapping.short}" if self.unwrapping.short else made)
            self.folds["By hand"].say(self.by_hand.short())

    def _say_measured(self, bundle: Bundle) -> None:
        """Fill in what takes the layout's triangles; only when it is another layout."""
        layout = bundle.layout
        if layout is None or self._yields_of is layout:
            return
        self._yields_of = layout
        scene = self.workspace.document.scene
        if layout.scale <= 0 or (layout_state(self.workspace.document, bundle) != DONE and not layout.surfaces):
            return

        def take(measured: tuple[np.ndarray, np.ndarray, dict[str, float]]) -> None:
            if self._yields_of is layout:
                self._show_measured(layout.scale, *measured)

        task = Task(Kind.MEASURE, f"Measure {bundle.name}", measure_layout, islands_alone(scene, bundle), part="layout")
        self.workspace.run(task, take, anew=True)

    def _show_measured(self, scale: float, values: np.ndarray, weights: np.ndarray, yields: dict[str, float]) -> None:
        self.histogram.show_values(values, weights, scale)
        self.folds["Density"].say(density_words(scale))
        results = sorted((value, key) for key, value in yields.items() if math.isfinite(value))
        lines = [f"{value:.2f}   {key}" for value, key in results[:5]]
        if len(results) > 5:
            lines.append(f"{results[-1][0]:.2f}   {results[-1][1]} (best)")
        self.yields.setText("\n".join(lines) or "No object of this bundle reads a texture.")
        self.folds["Sharpness"].say(f"{results[0][0]:.2f} at worst" if results else "nothing to keep")
