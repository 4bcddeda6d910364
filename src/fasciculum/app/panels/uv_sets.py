"""The UV sets of the chosen objects: what is in each, and adding, copying, swapping, naming and removing them."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QGridLayout, QLineEdit, QPushButton, QTreeWidget, QTreeWidgetItem

from fasciculum.app.fields import ComboBox
from fasciculum.app.parts import Column, note
from fasciculum.app.workspace import Workspace
from fasciculum.model.choices import UvEditKind
from fasciculum.model.counting import counted
from fasciculum.model.document import UvEdit
from fasciculum.operations.gather.uv_sets import MOST, SetFigures, also_changed, measure_sets
from fasciculum.session import commands
from fasciculum.session.tasks import Kind, Task

HEADS = ("Set", "On", "Span", "Over", "L2")
WIDTHS = (64, 24, 66, 34, 28)
SMALL = "QTreeWidget, QHeaderView { font-size: 11px } QHeaderView::section { padding: 2px 1px }"


class UvSets(Column):
    """A table of UV sets over the chosen objects, or over all, and what can be done to them."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace = workspace
        self._made: tuple = ()
        self.figures: list[SetFigures] = []
        box = self.box
        box.setContentsMargins(0, 0, 0, 0)
        self.about = note()
        box.addWidget(self.about)
        self.table = QTreeWidget()
        self.table.setColumnCount(len(HEADS))
        self.table.setHeaderLabels(list(HEADS))
        self.table.setRootIsDecorated(False)
        self.table.setAccessibleName("UV sets")
        self.table.setToolTip(
            "Each UV set: how many objects have it, its extent in repeats, the share of its area that "
            "overlaps, and its L2 stretch (flat: it has no area). A dot marks sets that materials read."
        )
        self.table.setFixedHeight(104)
        self.table.setIndentation(0)
        self.table.setStyleSheet(SMALL)
        self.table.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.table.itemSelectionChanged.connect(self._say)
        box.addWidget(self.table)
        line = QGridLayout()
        line.setSpacing(4)
        for number in range(3):
            line.setColumnStretch(number, 1)
        self.name = QLineEdit()
        self.name.setPlaceholderText("name of the set")
        self.name.setAccessibleName("Name of the UV set")
        self.name.setToolTip("The chosen UV set's name in this project; model files store numbers only")
        self.name.setMinimumHeight(26)
        self.name.returnPressed.connect(self.rename)
        line.addWidget(self.name, 0, 0, 1, 2)
        self.rename_button = self._button("Rename", "Name the chosen set", self.rename)
        line.addWidget(self.rename_button, 0, 2)
        self.target = ComboBox()
        self.target.setAccessibleName("Other UV set")
        self.target.setToolTip("The set to copy to or to swap with")
        self.target.setMinimumHeight(26)
        line.addWidget(self.target, 1, 0)
        self.copy_button = self._button(
            "Copy to", "Copy the chosen set to the one at the left, on every object", self.copy
        )
        self.swap_button = self._button("Swap", "Swap the chosen set with the one at the left", self.swap)
        line.addWidget(self.copy_button, 1, 1)
        line.addWidget(self.swap_button, 1, 2)
        self.add_button = self._button("Add", "Add an empty set after the last one", self.add)
        self.delete_button = self._button("Delete", "Delete the chosen set", self.delete)
        self.read_button = self._button(
            "Read it", "Let the materials read their textures through the chosen set", self.read
        )
        for number, button in enumerate((self.add_button, self.delete_button, self.read_button)):
            line.addWidget(button, 2, number)
        box.addLayout(line)
        self.overlaps = note()
        box.addWidget(self.overlaps)
        self.choose_button = self._button(
            "Select overlapping",
            "Select objects whose islands overlap in this set, or overlap those of other objects with the "
            "same material",
            self.choose_overlapping,
        )
        box.addWidget(self.choose_button)
        self.warning = note()
        box.addWidget(self.warning)
        workspace.selection_changed.connect(self.refresh)
        workspace.stage_changed.connect(self.refresh)
        workspace.document_changed.connect(lambda *_: self.refresh())

    def _button(self, words: str, tip: str, call: Callable[[], None]) -> QPushButton:
        button = QPushButton(words)
        button.setToolTip(tip)
        button.setMinimumHeight(26)
        button.setMinimumWidth(40)
        button.setStyleSheet("padding: 2px 3px")
        button.clicked.connect(lambda _=False: call())
        return button

    def keys(self) -> tuple[str, ...]:
        """Return the objects that changes apply to: the chosen ones, or all."""
        scene = self.workspace.document.scene
        chosen = [item.key for item in scene.objects if item.key in self.workspace.selection]
        return tuple(chosen or [item.key for item in scene.objects])

    def refresh(self) -> None:
        """Have the sets measured if they are others than were."""
        document = self.workspace.document
        keys = self.keys()
        made = (document.scene, keys)
        if self.workspace.stage != "gather" or (self._made and self._made[0] is made[0] and self._made[1] == keys):
            return
        self._made = made
        if not keys:
            self._show([])
            return
        self.about.setText("measuring …")

        def take(figures: list[SetFigures]) -> None:
            if self._made is made:
                self._show(figures)

        task = Task(Kind.MEASURE, "Measure UV sets", measure_sets, (document.scene, list(keys)), part="uv sets")
        self.workspace.run(task, take, anew=True)

    def _show(self, figures: list[SetFigures]) -> None:
        self.figures = figures
        chosen = self.chosen()
        self.table.clear()
        for one in figures:
            stretch = "flat" if one.stretch > 100 else f"{one.stretch:.1f}"
            row = [
                f"{'● ' if one.readers else ''}{one.name}",
                f"{one.objects}",
                f"{one.span[0]:.1f} × {one.span[1]:.1f}",
                f"{one.overlap:.0%}",
                stretch,
            ]
            item = QTreeWidgetItem(row)
            item.setData(0, Qt.ItemDataRole.UserRole, one.number)
            read = f"read by the materials of {one.readers}" if one.readers else "read by no material"
            item.setToolTip(0, f"{one.name}: on {counted(one.objects, 'object')}, {read}")
            self.table.addTopLevelItem(item)
            if one.number == chosen:
                self.table.setCurrentItem(item)
        for number, width in enumerate(WIDTHS):
            self.table.setColumnWidth(number, width)
        self.target.clear()
        for number in range(min(max((one.number for one in figures), default=-1) + 2, MOST)):
            self.target.addItem(f"set {number}", number)
        keys = self.keys()
        many = len(keys) != 1
        chosen_words = f"of {len(keys)} selected object{'s' if many else ''}"
        if not self.workspace.selection:
            chosen_words = f"of all {len(keys)} objects" if many else "of the one object"
        self.about.setText(chosen_words if keys else "no models yet")
        first = self.table.topLevelItem(0)
        if first is not None and self.chosen() < 0:
            self.table.setCurrentItem(first)
        self._say()

    def chosen(self) -> int:
        """Return the number of the chosen set, -1 when there is none."""
        item = self.table.currentItem()
        return -1 if item is None else int(item.data(0, Qt.ItemDataRole.UserRole))

    def _say(self) -> None:
        number = self.chosen()
        for button in (self.rename_button, self.copy_button, self.swap_button, self.delete_button, self.read_button):
            button.setEnabled(number >= 0)
        keys = self.keys()
        self.add_button.setEnabled(bool(keys) and len(self.figures) < MOST)
        one = next((one for one in self.figures if one.number == number), None)
        if one is not None and not self.name.hasFocus():
            self.name.setText(one.name)
        self._say_overlaps(one)
        others = also_changed(self.workspace.document.scene, keys) if keys else []
        if others:
            more = f" and {len(others) - 1} more" if len(others) > 1 else ""
            self.warning.setText(f"Changes reach {others[0]}{more} too: the same mesh.")
        else:
            self.warning.setText("")

    def _say_overlaps(self, one: SetFigures | None) -> None:
        """Say which objects overlap in the chosen set, and offer to select them."""
        stacked, meeting = (one.stacked, one.meeting) if one is not None else ((), ())
        words = []
        if stacked:
            words.append(f"{counted(len(stacked), 'object')} with overlapping islands")
        if meeting:
            words.append(f"{counted(len(meeting), 'object')} whose islands overlap those of another object")
        self.overlaps.setText(f"Overlap: {'; '.join(words)}." if words else "No overlap.")
        self.overlaps.setVisible(one is not None)
        self.choose_button.setVisible(bool(words))

    def choose_overlapping(self) -> None:
        """Select the objects that overlap themselves or others in the chosen set."""
        one = next((one for one in self.figures if one.number == self.chosen()), None)
        if one is not None and (one.stacked or one.meeting):
            self.workspace.select({*one.stacked, *one.meeting})
            self.workspace.frame_wanted.emit()

    # -- changes ----------------------------------------------------------------------------------------------

    def _edit(self, label: str, kind: UvEditKind, source: int = 0, target: int = 0, name: str = "") -> None:
        keys = self.keys()
        if keys:
            edit = UvEdit(kind, keys, source, target, name)
            self.workspace.apply(
                f"{label} on {counted(len(keys), 'object')}", lambda document: commands.edit_uvs(document, edit)
            )

    def add(self) -> None:
        """Add an empty set."""
        number = max((one.number for one in self.figures), default=-1) + 1
        self._edit(f"Add UV set {number}", UvEditKind.ADD, target=number)

    def copy(self) -> None:
        """Copy the chosen set to the other."""
        number, other = self.chosen(), self.target.currentData()
        if number >= 0 and other is not None and other != number:
            self._edit(f"Copy UV set {number} to {other}", UvEditKind.COPY, number, other)

    def swap(self) -> None:
        """Exchange the chosen set with the other."""
        number, other = self.chosen(), self.target.currentData()
        if number >= 0 and other is not None and other != number:
            self._edit(f"Swap UV sets {number} and {other}", UvEditKind.SWAP, number, other)

    def rename(self) -> None:
        """Name the chosen set."""
        number, name = self.chosen(), self.name.text().strip()
        if number >= 0:
            self._edit(f"Name UV set {number}", UvEditKind.RENAME, target=number, name=name)

    def delete(self) -> None:
        """Take the chosen set away."""
        number = self.chosen()
        if number >= 0:
            self._edit(f"Delete UV set {number}", UvEditKind.DELETE, target=number)

    def read(self) -> None:
        """Let materials read the chosen set."""
        number = self.chosen()
        if number >= 0:
            self._edit(f"Read UV set {number}", UvEditKind.READ, target=number)
