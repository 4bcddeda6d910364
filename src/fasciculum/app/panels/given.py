"""The sheet of a bundle: made here, or given, with its trims or the cells of its palette."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QSize, Qt
from PySide6.QtGui import QIcon, QPixmap
from PySide6.QtWidgets import (
    QAbstractItemView,
    QCheckBox,
    QColorDialog,
    QFileDialog,
    QLineEdit,
    QListView,
    QListWidget,
    QListWidgetItem,
)

from fasciculum.app.fields import ComboBox, DoubleSpinBox
from fasciculum.app.given import GivenSheets
from fasciculum.app.parts import IMAGES, Column, Form, button_line, note, picked_color, shown_color, small_button
from fasciculum.model.counting import counted
from fasciculum.model.given import Given, TrimRepeats
from fasciculum.operations.lay_out.onto import sameness, split_rows

SHEETS = f"Trim sheets (*.json {IMAGES})"
PALETTES = "Palettes (*.png *.webp)"
REPEAT_WORDS = {TrimRepeats.NONE: "no tiling", TrimRepeats.U: "tiles along U", TrimRepeats.V: "tiles along V"}
SHORT_WORDS = {TrimRepeats.NONE: "no tiling", TrimRepeats.U: "tiles U", TrimRepeats.V: "tiles V"}
CELL = 22
#: part of all surface from which one trim is said to be seen very often
OFTEN = 0.5


class GivenPanel(Column):
    """Which sheet a bundle is laid onto, and what is marked on it."""

    def __init__(self, sheets: GivenSheets) -> None:
        super().__init__()
        self.sheets = sheets
        self.short = ""
        self.said: Callable[[], None] = lambda: None
        self._filling = False
        self.box.setContentsMargins(0, 0, 0, 0)
        self.made = small_button("Made", "Pack and bake this bundle's own sheet", sheets.make_sheet)
        self.trims = small_button(
            "Trim sheet", "Place islands on an existing trim sheet: its description, or a picture", self._ask_sheet
        )
        self.palette_file = small_button("Palette", "Place faces on an existing palette", self._ask_palette)
        self.palette_made = small_button(
            "Own palette", "Place faces on a palette made of the objects' flat colours", sheets.make_palette
        )
        button_line(self.box, self.made, self.trims)
        button_line(self.box, self.palette_file, self.palette_made)
        self.about = note()
        self.box.addWidget(self.about)
        self.list = QListWidget()
        self.list.setStyleSheet("QListWidget { font-size: 12px; padding: 0px } QListWidget::item { padding: 2px }")
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.setIconSize(QSize(CELL - 4, CELL - 4))
        self.list.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.list.itemSelectionChanged.connect(self._picked)
        self.list.itemClicked.connect(self._clicked)
        self.list.itemDoubleClicked.connect(self._double)
        self.box.addWidget(self.list)
        self.mark = small_button(
            "Mark",
            "Draw new trims on the sheet. They replace trims that they overlap. Click again to stop",
            self._mark,
        )
        self.mark.setCheckable(True)
        self.remove = small_button("Remove", "Remove the chosen trims", sheets.remove_trims)
        self.shift = small_button(
            "Vary",
            "Vary the chosen islands: move them along their trims, or turn and mirror them on panels without"
            " normal maps",
            sheets.shift,
        )
        self.save = small_button("Save", "Save the trims to a file beside their textures", self._save)
        self.acts = button_line(self.box, self.mark, self.remove, self.shift, self.save)
        self.form = Form()
        self.metres = DoubleSpinBox(minimum=0.01, maximum=1e4, decimals=2, singleStep=0.25)
        self.metres.setKeyboardTracking(False)
        self.metres.setSuffix(" m")
        self.metres.valueChanged.connect(lambda value: None if self._filling else sheets.set_metres(value))
        self.form.row("Width", self.metres, "Width of the sheet on the surface, in metres")
        self.split = QCheckBox("Split to fit")
        self.split.toggled.connect(lambda on: None if self._filling else sheets.set_split(on))
        self.form.row(
            "Long",
            self.split,
            "Cut islands that are longer than their trim along existing edges, instead of scaling them down."
            " This adds vertices",
        )
        self.name = QLineEdit()
        self.name.editingFinished.connect(self._named)
        self.form.row("Trim", self.name, "Name of the trim. Objects and materials of this name are placed on it")
        self.repeats = ComboBox()
        for value, words in REPEAT_WORDS.items():
            self.repeats.addItem(words, value)
        self.repeats.activated.connect(
            lambda _: sheets.change_trim(sheets.chosen, "Trim", repeats=self.repeats.currentData())
        )
        self.form.row("Repeats", self.repeats, "Islands may continue along the trim beyond the sheet's sides")
        self.gutter = DoubleSpinBox(minimum=0, maximum=256, decimals=0)
        self.gutter.setKeyboardTracking(False)
        self.gutter.setSuffix(" px")
        self.gutter.valueChanged.connect(
            lambda value: None if self._filling else sheets.change_trim(sheets.chosen, "Gutter", gutter=value)
        )
        self.form.row("Gutter", self.gutter, "Width of the strip along the trim's sides that stays empty, in px")
        self.box.addWidget(self.form)
        sheets.changed.connect(self.refresh)
        self.refresh()

    # -- hands ------------------------------------------------------------------------------------------------

    def _ask_sheet(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self.window(), "Choose a trim sheet", "", SHEETS)
        if name:
            self.sheets.take_sheet(name)

    def _ask_palette(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self.window(), "Choose a palette", "", PALETTES)
        if name:
            self.sheets.take_palette(name)

    def _save(self) -> None:
        given = self.sheets.given
        first = Path(given.maps[0].file).with_suffix(".json") if given is not None else Path("trims.json")
        name, _ = QFileDialog.getSaveFileName(self.window(), "Save trims", str(first), "Trim sheets (*.json)")
        if name:
            self.sheets.save(name)

    def _mark(self) -> None:
        self.sheets.mark(self.mark.isChecked())

    def _picked(self) -> None:
        given = self.sheets.given
        rows = sorted(self.list.row(item) for item in self.list.selectedItems())
        # a list of cells is clicked, and stays as it is meanwhile
        if not self._filling and rows and given is not None and not given.is_palette:
            current = self.list.currentRow()
            self.sheets.choose(rows, current if current in rows else rows[-1])
            self._show_chosen(given)

    def _clicked(self, item: QListWidgetItem) -> None:
        given = self.sheets.given
        if given is not None and given.is_palette:
            self.sheets.choose_cell(self.list.row(item))

    def _double(self, item: QListWidgetItem) -> None:
        given, cell = self.sheets.given, self.list.row(item)
        if given is not None and given.looks:
            shown = shown_color(given.looks[cell][:3])  # type: ignore[arg-type]
            result = QColorDialog.getColor(shown, self.window(), "Colour of the cell")
            if result.isValid():
                self.sheets.recolour(cell, picked_color(result))

    def _named(self) -> None:
        name = self.name.text().strip()
        if name and not self._filling:
            self.sheets.change_trim(self.sheets.chosen, "Name of a trim", name=name)

    # -- showing ----------------------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Show the sheet of the leading bundle."""
        self._filling = True
        given = self.sheets.given
        self.made.setEnabled(given is not None)
        trims = given is not None and not given.is_palette
        self.list.setVisible(given is not None)
        for widget in (self.acts, self.form):
            widget.setVisible(trims)
        self.mark.setChecked(self.sheets.marking)
        if given is None:
            self.short = "made here"
            self.about.setText(
                "This bundle packs and bakes its own sheet. An existing sheet is used unchanged instead."
            )
        elif given.is_palette:
            self._show_cells(given)
        else:
            self._show_trims(given)
        self._filling = False
        self.said()

    def _show_cells(self, given: Given) -> None:
        name = Path(given.maps[0].file).name if given.maps[0].file else "made here"
        count = len(given.cells)
        self.short = f"palette · {counted(count, 'cell')}"
        self.about.setText(
            f"{name}, {given.width} × {given.height} px. Click a cell to give it to the chosen objects, or to faces "
            "that are picked in the model" + ("; double-click to change its colour." if given.looks else ".")
        )
        self.list.setAccessibleName("Cells")
        self.list.setToolTip("The colours of the palette. Click one to give it to the chosen objects")
        self.list.setViewMode(QListView.ViewMode.IconMode)
        self.list.setGridSize(QSize(CELL + 4, CELL + 4))
        self.list.setMovement(QListView.Movement.Static)
        self.list.clear()
        for number, color in enumerate(look[:3] for look in given.looks or given.colors):
            picture = QPixmap(CELL - 4, CELL - 4)
            picture.fill(shown_color(color))  # type: ignore[arg-type]
            item = QListWidgetItem(QIcon(picture), "")
            item.setToolTip(f"Cell {number + 1}: {shown_color(color).name()}")  # type: ignore[arg-type]
            self.list.addItem(item)
        self.list.setFixedHeight(min(-(-len(given.cells) // 8) * (CELL + 4) + 8, 180))

    def _show_trims(self, given: Given) -> None:
        bundle, scene = self.sheets.bundle, self.sheets.workspace.document.scene
        parts = sameness(scene, bundle) if bundle is not None else {}
        self.short = counted(len(given.trims), "trim")
        name = Path(given.maps[0].file).name
        most = max(parts.items(), key=lambda entry: entry[1], default=("", 0.0))
        words = f"{name}, {given.width} × {given.height} px, {given.px_per_metre:.0f} px/m."
        if most[1] > OFTEN:
            words += f" {most[0]} is seen on {most[1]:.0%} of the surface: use Vary on the chosen islands."
        if bundle is not None and (rows := split_rows(scene, bundle)):
            words += f" Split to fit adds {counted(sum(row.vertices for row in rows), 'vertex', 'vertices')}."
        self.about.setText(words)
        self.list.setAccessibleName("Trims")
        self.list.setToolTip("The trims, with the share of the bundle's surface that lies on each")
        self.list.setViewMode(QListView.ViewMode.ListMode)
        self.list.setGridSize(QSize())
        self.list.clear()
        for trim in given.trims:
            item = QListWidgetItem(f"{trim.name} · {parts.get(trim.name, 0.0):.0%} · {SHORT_WORDS[trim.repeats]}")
            item.setToolTip(f"{trim.name}, {REPEAT_WORDS[trim.repeats]}: share of the bundle's surface on this trim")
            self.list.addItem(item)
        self.list.setFixedHeight(min(len(given.trims), 8) * 26 + 6)
        chosen = self.sheets.chosen if 0 <= self.sheets.chosen < len(given.trims) else -1
        self.list.setCurrentRow(chosen)
        for number in self.sheets.also:
            item = self.list.item(number)
            if item is not None:
                item.setSelected(True)
        self._show_chosen(given)

    def _show_chosen(self, given: Given) -> None:
        """Fill the fields with the leading one of the chosen trims."""
        filling, self._filling = self._filling, True
        chosen = self.sheets.chosen if 0 <= self.sheets.chosen < len(given.trims) else -1
        self.metres.setValue(given.metres)
        self.split.setChecked(given.split)
        for control in (self.name, self.repeats, self.gutter):
            self.form.show_row(control, chosen >= 0)
        self.remove.setEnabled(chosen >= 0 and len(given.trims) > 1)
        self.shift.setEnabled(bool(self.sheets.hand.places))
        if chosen >= 0:
            trim = given.trims[chosen]
            self.name.setText(trim.name)
            self.repeats.setCurrentIndex(self.repeats.findData(trim.repeats))
            self.gutter.setValue(trim.gutter)
        self._filling = filling
