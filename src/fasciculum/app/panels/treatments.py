"""Ways: how a bundle's materials are treated, and what each way would cost, side by side."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import (
    QAbstractItemView,
    QHeaderView,
    QSizePolicy,
    QTableWidget,
    QTableWidgetItem,
)

from fasciculum.app.colors import WAY_SHORT, WAY_WORDS
from fasciculum.app.fields import ComboBox
from fasciculum.app.panels.plans import REST
from fasciculum.app.parts import Column, note
from fasciculum.app.workspace import Workspace
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import Treatment
from fasciculum.operations.plan.treatments import WayCost, way_costs
from fasciculum.session import commands
from fasciculum.session.tasks import Kind, Task
from fasciculum.treatments.resolving import resolve_bundle
from fasciculum.units import MIB

COLUMNS = ("way", "texels", "MiB", "calls", "sharp")
#: px, of the columns behind the first
WIDE = (50, 40, 34, 44)
TIPS = (
    "Treatment of the material",
    "Texels on the sheet, in thousands",
    "Texture memory of the whole project with it, in MiB",
    "Draw calls of the whole project with it",
    "Sharpness that it keeps, in % of the source's",
)


class WaysPanel(Column):
    """One material of the bundle at a time, a row for each way; a click takes it."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace = workspace
        self.box.setContentsMargins(0, 0, 0, 0)
        self.short = ""
        self.said: Callable[[], None] = lambda: None
        self.costs: list[WayCost] = []
        self._asked: object = None
        self.material = ComboBox()
        self.material.setAccessibleName("Material")
        self.material.setToolTip(
            "The material of the chosen bundle, or of the chosen objects, whose treatments are shown"
        )
        self.material.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.material.activated.connect(lambda _: self._ask())
        self.table = QTableWidget(0, len(COLUMNS))
        self.table.setAccessibleName("Treatments of the material")
        for column, (title, tip) in enumerate(zip(COLUMNS, TIPS, strict=True)):
            head = QTableWidgetItem(title)
            head.setToolTip(tip)
            self.table.setHorizontalHeaderItem(column, head)
        self.table.verticalHeader().hide()
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.setShowGrid(False)
        self.table.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        header = self.table.horizontalHeader()
        header.setMinimumSectionSize(20)
        header.setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
        header.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        for column, wide in enumerate(WIDE, 1):
            self.table.setColumnWidth(column, wide)
        self.table.setStyleSheet(
            "QTableWidget { font-size: 11px } QTableWidget::item { padding: 0 2px }"
            "QHeaderView::section { font-size: 10px; padding: 2px }"
        )
        self.table.verticalHeader().setDefaultSectionSize(26)
        self.table.setFixedHeight(6 * 26 + 34)
        self.table.setWordWrap(False)
        self.table.cellClicked.connect(lambda row, _: self._take(row))
        self.table.cellActivated.connect(lambda row, _: self._take(row))
        self.words = note()
        for widget in (self.material, self.table, self.words):
            self.box.addWidget(widget)
        self._rest = QTimer(self, singleShot=True, interval=REST)
        self._rest.timeout.connect(self._weigh)
        workspace.document_changed.connect(lambda *_: self.refresh())
        workspace.selection_changed.connect(self.refresh)
        workspace.stage_changed.connect(self.refresh)
        self.refresh()

    def _materials(self, bundle: Bundle) -> list[str]:
        """Return the names of the materials that are asked about: of the chosen objects, or of all of the bundle."""
        scene = self.workspace.document.scene
        chosen = [key for key in bundle.objects if key in self.workspace.selection] or list(bundle.objects)
        used = {index for key in chosen for index in scene.materials_of(scene.object(key)) if index >= 0}
        return [scene.material_name(index) for index in sorted(used)]

    def refresh(self) -> None:
        """Show the materials, and have the ways of the chosen one weighed."""
        bundle = self.workspace.bundle
        names = self._materials(bundle) if bundle is not None else []
        if [self.material.itemText(at) for at in range(self.material.count())] != names:
            before = self.material.currentText()
            self.material.clear()
            self.material.addItems(names)
            self.material.setCurrentIndex(max(self.material.findText(before), 0) if names else -1)
        self.setEnabled(bool(names))
        if bundle is not None:
            counts: dict[Treatment, int] = {}
            work = resolve_bundle(self.workspace.document.scene, bundle)
            for index, name in enumerate(self.workspace.document.scene.material_names):
                if name in names:
                    way = work.way_of(index)
                    counts[way] = counts.get(way, 0) + 1
            self.short = " · ".join(f"{count} {WAY_SHORT[way]}" for way, count in list(counts.items())[:2])
        else:
            self.short = "no bundle"
        self.said()
        self._ask()

    def _ask(self) -> None:
        bundle, document = self.workspace.bundle, self.workspace.document
        if bundle is None or self.workspace.stage != "gather" or not self.material.currentText():
            return
        about = document.scene, document.bundles, document.delivery, bundle.name, self.material.currentText()
        if self._asked is None or any(a is not b and a != b for a, b in zip(about, self._asked, strict=True)):  # type: ignore[call-overload]
            self._asked = about
            self._rest.start()

    def _weigh(self) -> None:
        asked, bundle = self._asked, self.workspace.bundle
        if bundle is None or not self.material.currentText():
            return

        def take(costs: list[WayCost]) -> None:
            if asked is self._asked:
                self.costs = costs
                self._show()

        arguments = (self.workspace.document, bundle.name, self.material.currentText())
        self.workspace.run(Task(Kind.MEASURE, "Compare treatments", way_costs, arguments, part="ways"), take, anew=True)

    def _show(self) -> None:
        bundle = self.workspace.bundle
        if bundle is None:
            return
        scene, name = self.workspace.document.scene, self.material.currentText()
        names = scene.material_names
        present = resolve_bundle(scene, bundle).way_of(names.index(name)) if name in names else None
        self.table.setRowCount(len(self.costs))
        for row, cost in enumerate(self.costs):
            mark = "\u25b8 " if cost.way is present else ""
            cells = [
                mark + _short(cost.way),
                f"{cost.texels / 1000:,.0f}k",
                f"{cost.texture_bytes / MIB:.1f}",
                str(cost.draw_calls),
                f"{cost.sharpness:.0%}",
            ]
            if cost.why_not:
                cells = [_short(cost.way), *[""] * 4]
            for column, words in enumerate(cells):
                item = QTableWidgetItem(words)
                side = Qt.AlignmentFlag.AlignRight if column else Qt.AlignmentFlag.AlignLeft
                item.setTextAlignment(Qt.AlignmentFlag.AlignVCenter | side)
                more = f"; {cost.added:,} vertices more" if cost.added else ""
                taken = f"Click to apply {name} {WAY_WORDS[cost.way]}{more}"
                item.setToolTip(f"Not for {name}: {cost.why_not}." if cost.why_not else taken)
                if cost.why_not:
                    item.setFlags(Qt.ItemFlag.NoItemFlags)
                font = item.font()
                font.setBold(cost.way is present)
                item.setFont(font)
                self.table.setItem(row, column, item)
        self.words.setText(
            f"At {bundle.sheet.width} × {bundle.sheet.height} px, before packing. Click a treatment to apply it."
        )

    def _take(self, row: int) -> None:
        bundle = self.workspace.bundle
        if bundle is None or row >= len(self.costs) or self.costs[row].why_not:
            return
        way, name = self.costs[row].way, self.material.currentText()
        self.workspace.apply(
            f"{name}: {WAY_WORDS[way]}", lambda document: commands.set_way(document, bundle.name, (name,), way)
        )


def _short(way: Treatment) -> str:
    return {Treatment.APART: "apart", Treatment.BAKE: "baked"}.get(way, WAY_SHORT[way])
