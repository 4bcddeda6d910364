"""How the chosen bundles are laid out, with density, memory and clean-down size following each setting."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any

import numpy as np
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QCheckBox, QComboBox, QDoubleSpinBox, QHBoxLayout, QLabel, QSizePolicy, QSpinBox, QWidget

from fasciculum.app.look import Theme
from fasciculum.app.model.shaper import Shaper
from fasciculum.app.panels.layouts import PackingNow, Versions
from fasciculum.app.panels.unwrapping import Unwrapping
from fasciculum.app.parts import Column, Form, Histogram, heading, note
from fasciculum.app.workspace import Workspace
from fasciculum.model.bundle import Bundle
from fasciculum.operations.check.check import measure_layout
from fasciculum.operations.lay_out.forecast import clean_size, forecast
from fasciculum.operations.ledger import ledger_of
from fasciculum.session import commands
from fasciculum.session.stale import DONE, layout_state
from fasciculum.units import MIB

EDGES = (128, 256, 512, 1024, 2048, 4096, 8192)
#: milliseconds after the last change of a number before it becomes a step of the history
SETTLE = 350


class LayOutPanel(Column):
    """Sheet settings; numbers are shown at once and kept when they settle."""

    def __init__(
        self, workspace: Workspace, theme: Theme, acts: Callable[[str], Callable[[], None]], shaper: Shaper
    ) -> None:
        super().__init__()
        self.workspace = workspace
        self._filling = False
        self._pending: dict[str, Any] = {}
        self._settle = QTimer(self, singleShot=True, interval=SETTLE)
        self._settle.timeout.connect(self.commit)
        self._yields_of: Any = None
        self.box.addWidget(PackingNow(workspace, theme, acts))
        form = Form()
        self.width_ = self._edges("width")
        self.height_ = self._edges("height")
        self.size_note = note()
        size = QWidget()
        pair = QHBoxLayout(size)
        pair.setContentsMargins(0, 0, 0, 0)
        pair.setSpacing(6)
        for box, name in ((self.width_, "Width"), (self.height_, "Height")):
            box.setAccessibleName(name)
            box.setToolTip(f"{name} of the sheet in px")
            box.setMinimumSize(60, 26)
            box.setProperty("narrow", True)
            box.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
            pair.addWidget(box)
        form.row("Size", size, "Width and height of the sheet in px.", self.size_note)
        self.wanted = QDoubleSpinBox(maximum=1e6, decimals=0, suffix=" px/m")
        self.wanted.setSpecialValueText("best that fits")
        self.wanted.valueChanged.connect(lambda value: self._number_changed("wanted", value))
        form.row(
            "Wanted",
            self.wanted,
            "A texel density that is kept, in px/m; the sheet's size or the number of tiles follows from it. At the "
            "lowest value the density is the best that fits.",
        )
        self.grows = self._choice("grows", (("the size", "size"), ("the tiles", "tiles")))
        form.row("Follows", self.grows, "What follows from a wanted density: the smallest size, or the fewest tiles.")
        self.tiles = self._number("tiles", 1, 16)
        self.tiles.setSuffix("")
        form.row(
            "Tiles",
            self.tiles,
            "How many sheets of this size lie side by side. Each tile is a texture set and a material of its own.",
        )
        self.padding = self._number("padding", 0, 256)
        self.padding_note = note()
        form.row(
            "Padding",
            self.padding,
            "Untouched texels between any two islands, in px at full size. More keeps smaller mip levels clean.",
            self.padding_note,
        )
        self.margin = self._number("margin", -1, 256)
        self.margin.setSpecialValueText("half the padding")
        form.row("Margin", self.margin, "Untouched texels to the sheet's border, in px.")
        self.align = self._choice("align", (("anywhere", 0), ("whole texels", 1), ("4 × 4 blocks", 4)))
        form.row(
            "Align",
            self.align,
            "Where islands' boxes may begin: anywhere packs best; whole texels keep straight edges crisp; 4 × 4 blocks "
            "keep islands out of each other's blocks in compressed formats.",
        )
        self.smallest = QDoubleSpinBox(maximum=256, decimals=0, suffix=" px")
        self.smallest.setSpecialValueText("as they come")
        self.smallest.valueChanged.connect(lambda value: self._number_changed("smallest", value))
        form.row("Smallest", self.smallest, "Slivers shorter than this, in px, are made this long.")
        self.turns = self._choice(
            "turns",
            (
                ("none", "none"),
                ("half", "half"),
                ("quarter", "quarter"),
                ("eighth", "eighth"),
                ("any", "any"),
            ),
        )
        form.row(
            "Turns",
            self.turns,
            "Rotations that the packer may use. Quarter turns keep straight lines on the pixel grid; "
            "any suits organic shapes.",
        )
        self.mirror = QCheckBox("allow")
        self.mirror.toggled.connect(lambda on: self._change(mirror=on))
        form.row(
            "Mirror",
            self.mirror,
            "Let the packer mirror islands. Text is stored mirrored then; the model looks the same.",
        )
        self.density = self._choice("density", (("even", "even"), ("as in source", "keep")))
        form.row(
            "Density",
            self.density,
            "Even gives all surfaces the same texels per metre; as in source keeps the source's relative scales.",
        )
        self.uv = self._choice("uv", (("keep clean", "auto"), ("keep all", "keep"), ("unwrap all", "unwrap")))
        self.uv_note = note()
        form.row(
            "Surfaces",
            self.uv,
            "Where islands come from. Keep clean keeps clean source UVs and unwraps the rest; keep all never "
            "unwraps what has UVs; unwrap all makes every island anew.",
            self.uv_note,
        )
        self.twins = QCheckBox("on one place")
        self.twins.toggled.connect(lambda on: self._change(twins=on))
        self.twins_note = note()
        form.row(
            "Twins",
            self.twins,
            "Islands alike in shape and content lie on one place, even turned, mirrored or scaled.",
            self.twins_note,
        )
        self.alike = self._choice("alike", (("content too", "content"), ("shape only", "shape")))
        form.row(
            "Alike in",
            self.alike,
            "Content: the same material, source UVs and vertex colours. Shape only suits maps made from shape alone.",
        )
        self.rule = QComboBox()
        for words, value in (("on one place", "together"), ("mirrored apart", "unmirrored"), ("apart", "apart")):
            self.rule.addItem(words, value)
        self.rule.activated.connect(self._rule_changed)
        form.row(
            "Of chosen",
            self.rule,
            "Twins of the chosen objects: on one place, mirrored ones apart (safe for normals), or all apart.",
        )
        self.seconds = QDoubleSpinBox(maximum=3600, decimals=0, suffix=" s")
        self.seconds.valueChanged.connect(lambda value: self._number_changed("seconds", value))
        form.row(
            "Improve for",
            self.seconds,
            "Time for improving on the first layout, in seconds; the best one found is kept.",
        )
        self.share = QDoubleSpinBox(minimum=0.1, maximum=10, decimals=2, singleStep=0.25)
        self.share.valueChanged.connect(self._share_changed)
        self.share_note = note()
        form.row(
            "Share",
            self.share,
            "A factor on the density of the chosen objects: 2 is twice the texels along an edge.",
            self.share_note,
        )
        self.box.addWidget(form)
        self.unwrapping = Unwrapping(workspace, shaper, acts)
        self.box.addWidget(self.unwrapping)
        self.versions = Versions(workspace)
        self.box.addWidget(self.versions)
        self.box.addWidget(heading("Density by surface"))
        self.histogram = Histogram(theme)
        self.box.addWidget(self.histogram)
        self.box.addWidget(heading("Sharpness kept (yield)"))
        self.yields = QLabel()
        self.yields.setProperty("quiet", True)
        self.yields.setWordWrap(True)
        self.box.addWidget(self.yields)
        self.box.addStretch(1)
        for signal in (
            workspace.selection_changed,
            workspace.preview_changed,
            workspace.figures_changed,
            workspace.stage_changed,
        ):
            signal.connect(self.refresh)
        workspace.document_changed.connect(lambda *_: self.refresh())
        self.refresh()

    # -- controls ---------------------------------------------------------------------------------------------

    def _edges(self, name: str) -> QComboBox:
        return self._choice(name, tuple((str(edge), edge) for edge in EDGES))

    def _choice(self, name: str, entries: tuple) -> QComboBox:
        box = QComboBox()
        for words, value in entries:
            box.addItem(words, value)
        # what the list's highlighted entry would lead to shows before it is chosen
        box.highlighted.connect(lambda index: self._try(**{name: box.itemData(index)}))
        box.activated.connect(lambda index: self._change(**{name: box.itemData(index)}))
        return box

    def _number(self, name: str, low: int, high: int) -> QSpinBox:
        box = QSpinBox(minimum=low, maximum=high, suffix=" px")
        box.valueChanged.connect(
            lambda value: self._number_changed(name, None if name == "margin" and value < 0 else value)
        )
        return box

    def _names(self) -> tuple[str, ...]:
        return self.workspace.bundle_names

    def _try(self, **values: Any) -> None:
        if not self._filling and self._names():
            self.workspace.preview(commands.set_sheet(self.workspace.document, self._names(), **values))

    def _change(self, **values: Any) -> None:
        if not self._filling and self._names():
            names = self._names()
            label = f"Set {next(iter(values))} of {', '.join(names)}"
            self.workspace.apply(label, lambda document: commands.set_sheet(document, names, **values))

    def _number_changed(self, name: str, value: Any) -> None:
        if not self._filling and self._names():
            self._pending[name] = value
            self._try(**{key: value for key, value in self._pending.items() if key != "share"})
            self._settle.start()

    def _share_changed(self, value: float) -> None:
        keys = sorted(self.workspace.selection)
        if not self._filling and keys:
            self._pending["share"] = (keys, value)
            self.workspace.preview(commands.set_share(self.workspace.document, keys, value))
            self._settle.start()

    def _rule_changed(self, index: int) -> None:
        keys, rule = sorted(self.workspace.selection), self.rule.itemData(index)
        if not self._filling and keys:
            self.workspace.apply("Set twins", lambda document: commands.set_twins(document, keys, rule))

    def commit(self) -> None:
        """Make what has been typed or dragged a step of the history."""
        self._settle.stop()
        self.unwrapping.commit()
        pending, self._pending = self._pending, {}
        share = pending.pop("share", None)
        if share is not None:
            keys, value = share
            self.workspace.apply("Set share", lambda document: commands.set_share(document, keys, value))
        if pending:
            self._change(**pending)

    # -- figures ----------------------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Show the leading bundle's settings and what they lead to."""
        bundle = self.workspace.bundle
        self.setEnabled(bundle is not None)
        if bundle is None:
            return
        self._filling = True
        sheet = bundle.sheet
        for box, value in (
            (self.width_, sheet.width),
            (self.height_, sheet.height),
            (self.turns, sheet.turns),
            (self.density, sheet.density),
            (self.uv, sheet.uv),
            (self.grows, sheet.grows),
            (self.align, sheet.align),
            (self.alike, sheet.alike),
        ):
            index = box.findData(value)
            if index < 0:
                box.addItem(str(value), value)
                index = box.count() - 1
            if not box.view().isVisible():
                box.setCurrentIndex(index)
        for number, value in (
            (self.padding, sheet.padding),
            (self.margin, -1 if sheet.margin is None else sheet.margin),
            (self.seconds, sheet.seconds),
            (self.wanted, sheet.wanted),
            (self.tiles, sheet.tiles),
            (self.smallest, sheet.smallest),
        ):
            if number.value() != value:
                number.setValue(value)
        self.mirror.setChecked(sheet.mirror)
        self.twins.setChecked(sheet.twins)
        chosen = [key for key in self.workspace.selection if key in bundle.objects]
        self.share.setEnabled(bool(chosen))
        self.rule.setEnabled(bool(chosen) and sheet.twins)
        self.rule.setCurrentIndex(self.rule.findData(bundle.twin_rule(chosen[0]) if chosen else "together"))
        self.alike.setEnabled(sheet.twins)
        self.grows.setEnabled(sheet.wanted > 0)
        sized = sheet.wanted > 0
        self.tiles.setEnabled(not (sized and sheet.grows == "tiles"))
        for box in (self.width_, self.height_):
            box.setEnabled(not (sized and sheet.grows == "size"))
        self.versions.refresh()
        self.share.setValue(bundle.share(chosen[0]) if chosen else 1.0)
        count = len(self.workspace.selection)
        self.share_note.setText(
            f"of {chosen[0] if count == 1 else f'{count} objects'}" if chosen else "choose objects first"
        )
        self._filling = False
        self._say(bundle)

    def _say(self, bundle: Bundle) -> None:
        sheet = bundle.sheet
        figures = self.workspace.figures
        stale = layout_state(self.workspace.shown, bundle) != DONE
        shown = self.workspace.shown is self.workspace.document and self.workspace.stage == "lay out"
        # once it is packed nobody waits for what it will put on its sheet; what is known already is shown
        ahead = self.workspace.look_ahead(bundle, ask=stale) if shown else None
        self.unwrapping.refresh(self.workspace.shown.bundle(bundle.name), ahead)
        ahead = ahead if stale else None
        expected = forecast(bundle, figures, ahead)
        size = ledger_of(self.workspace.shown).after.texture_bytes / MIB
        if expected is not None:
            self.size_note.setText(
                f"px; about {expected.density:.0f} px/m · {size:.0f} MiB in all · half the edge: "
                f"{expected.density / 2:.0f} px/m"
            )
        else:
            self.size_note.setText("measuring …" if bundle.objects else "the bundle is empty")
        now = clean_size(sheet.width, sheet.padding)
        more = sheet.padding
        while clean_size(sheet.width, more) == now and more < 256:
            more += 1
        self.padding_note.setText(f"clean down to about {now} px; {more} px: {clean_size(sheet.width, more)} px")
        layout = bundle.layout
        if layout is None:
            self.uv_note.setText("")
            self.twins_note.setText(
                f"{ahead.doubles} of {ahead.islands + ahead.doubles} islands can lie on another's place; that saves "
                f"{ahead.saved:.0%} of the surface"
                if ahead is not None
                else ""
            )
            self.histogram.show_values(np.zeros(0), np.zeros(0), 0.0)
            self.yields.setText("Pack to see it.")
            return
        projected = sum(1 for surface in layout.surfaces if surface.projected.any())
        words = f"{projected} object{'s' if projected != 1 else ''} unwrapped, whole or in part"
        self.uv_note.setText(words if projected else "all source UVs kept")
        doubles = layout.doubles
        saved = f"{doubles} of {layout.distinct + doubles} islands lie on another's place"
        self.twins_note.setText(saved if doubles else "none in this bundle")
        self._say_measured(bundle)

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

        self.workspace.submit(f"Measure {bundle.name}", measure_layout, scene, layout, finished=take)

    def _show_measured(self, scale: float, values: np.ndarray, weights: np.ndarray, yields: dict[str, float]) -> None:
        self.histogram.show_values(values, weights, scale)
        found = sorted((value, key) for key, value in yields.items() if math.isfinite(value))
        lines = [f"{value:.2f}   {key}" for value, key in found[:5]]
        if len(found) > 5:
            lines.append(f"{found[-1][0]:.2f}   {found[-1][1]} (best)")
        self.yields.setText("\n".join(lines) or "No object of this bundle reads a texture.")
