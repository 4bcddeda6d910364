"""Findings, worst first, each shown in both views at a click; many of one kind are one line that unfolds."""

from __future__ import annotations

from operator import attrgetter

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QBoxLayout,
    QHBoxLayout,
    QLabel,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QWidget,
)

from fasciculum.app.fields import ComboBox
from fasciculum.app.folds import FoldColumn
from fasciculum.app.look import Theme
from fasciculum.app.panels.earlier import EarlierPart
from fasciculum.app.panels.repairs import Repairs
from fasciculum.app.parts import Column, heading, note
from fasciculum.app.rows import BUDGET, Rows
from fasciculum.app.workspace import Workspace
from fasciculum.model.budget import FOLD
from fasciculum.model.choices import Remedy
from fasciculum.model.finding import ERROR, INFO, WARNING, Finding, matters_of
from fasciculum.operations.check.budgets import WORDS, judged_document
from fasciculum.session.session import all_findings

SIGNS = {ERROR: "✕", WARNING: "!", INFO: "·"}


class CheckPanel(FoldColumn):
    """The list of findings and the words for the chosen one; below them budgets, and an earlier delivery."""

    def __init__(self, workspace: Workspace, repairs: Repairs, theme: Theme) -> None:
        super().__init__("check", workspace.settings)
        self.workspace, self.repairs = workspace, repairs
        self.findings_part = Column()
        self.box.addWidget(self.findings_part, 1)
        self._findings(self.findings_part.box)
        self.rows = Rows(workspace, BUDGET, self)
        self.limits = note()
        self.fold(FOLD, theme, self.rows.form(FOLD), self.limits)
        self.earlier = EarlierPart(workspace)
        self.fold("Earlier delivery", theme, self.earlier)
        workspace.document_changed.connect(lambda *_: self.refresh())
        workspace.preview_changed.connect(self._refresh_budget)
        self.refresh()

    def commit(self) -> None:
        """Make what has been typed a step of the history."""
        self.rows.commit()

    def _findings(self, box: QBoxLayout) -> None:
        #: what each row is about: one finding, or all of a kind
        self.matters: list[tuple[Finding, ...]] = []
        #: kinds whose findings are listed one by one
        self.unfolded: set[tuple[str, str]] = set()
        line = QWidget()
        row = QHBoxLayout(line)
        row.setContentsMargins(0, 0, 0, 0)
        self.count = heading("Findings")
        self.filter = ComboBox()
        self.filter.setAccessibleName("Which findings")
        self.filter.setToolTip("Which findings are listed")
        for words, wanted in (
            ("to act on", lambda finding: finding.asks),
            ("without notes", lambda finding: finding.severity != INFO),
            ("all", lambda finding: True),
        ):
            self.filter.addItem(words, wanted)
        self.filter.setFixedWidth(116)
        self.filter.activated.connect(lambda _: self.refresh())
        row.addWidget(self.count, 1)
        row.addWidget(self.filter)
        box.addWidget(line)
        self.list = QListWidget()
        self.list.setAccessibleName("Findings")
        self.list.setMinimumHeight(200)
        self.list.setTextElideMode(Qt.TextElideMode.ElideRight)
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.currentRowChanged.connect(self._tell)
        self.list.itemActivated.connect(lambda _: self.show_finding())
        self.list.itemClicked.connect(lambda _: self.unfold())
        box.addWidget(self.list, 1)
        self.message = QLabel()
        self.message.setWordWrap(True)
        self.message.setMinimumWidth(60)
        self.remedy = note()
        self.show_button = QPushButton("Show")
        self.show_button.setToolTip("Choose the object and frame it in both views")
        self.show_button.clicked.connect(self.show_finding)
        self.apply_button = QPushButton("Apply remedy")
        self.apply_button.setToolTip("Apply the remedy of the chosen finding")
        self.apply_button.clicked.connect(self.apply_remedy)
        self.without_button = QPushButton("Use factor colour")
        self.without_button.setToolTip("Continue without the image and use the material's factor colour")
        self.without_button.clicked.connect(self.do_without)
        for part in (self.message, self.remedy, self.show_button, self.apply_button, self.without_button):
            box.addWidget(part)

    def _refresh_budget(self) -> None:
        """Show the limits, and what the result comes to."""
        self.rows.refresh()
        results = judged_document(self.workspace.shown)
        kept = sum(one.ok for one in results)
        known = [one for one in results if one.value is not None]
        words = [
            f"{WORDS[one.name][0].capitalize()}: {one.words(one.value)} of {one.words(one.limit)}." for one in results
        ]
        self.limits.setText("\n".join(words))
        self.limits.setVisible(bool(words))
        broken = any(not one.ok for one in known)
        self.folds[FOLD].say(
            f"{kept} of {len(results)} kept" if results else "none", "broken" if broken else "good" if results else ""
        )

    def refresh(self) -> None:
        """List the findings as they are now."""
        self._refresh_budget()
        wanted = filter(self.filter.currentData(), all_findings(self.workspace.document))
        matters = matters_of(wanted, attrgetter("kind"))
        self.count.setText(f"Findings ({len(matters)})")
        row = max(self.list.currentRow(), 0)
        self.list.clear()
        self.matters = []
        for matter in matters:
            finding = matter[0]
            open_ = finding.kind in self.unfolded
            fold = "" if len(matter) == 1 else f"{'▾' if open_ else '▸'} {len(matter)} alike: "
            self._list(matter, f"{SIGNS[finding.severity]}  {fold}{finding.message}")
            for one in matter if len(matter) > 1 and open_ else ():
                self._list((one,), f"      {SIGNS[one.severity]}  {one.message}")
        if not self.matters:
            self.list.addItem("No findings." if self.workspace.document.scene.objects else "Gather models first.")
        self.list.setCurrentRow(min(row, self.list.count() - 1))
        self._tell(self.list.currentRow())

    @property
    def findings(self) -> list[Finding]:
        """The finding that each row is about, the first of those that it stands for."""
        return [matter[0] for matter in self.matters]

    def _list(self, matter: tuple[Finding, ...], words: str) -> None:
        """Add a row."""
        entry = QListWidgetItem(words)
        entry.setToolTip(f"{matter[0].severity}: {matter[0].message}")
        self.list.addItem(entry)
        self.matters.append(matter)

    def unfold(self) -> None:
        """List the findings of the chosen row one by one, or no longer."""
        row = self.list.currentRow()
        if 0 <= row < len(self.matters) and len(self.matters[row]) > 1:
            self.unfolded ^= {self.matters[row][0].kind}
            self.refresh()

    def _tell(self, row: int) -> None:
        matter = self.matters[row] if 0 <= row < len(self.matters) else ()
        finding = matter[0] if matter else None
        more = f" And {len(matter) - 1} more like this: click to list them." if len(matter) > 1 else ""
        self.message.setText(f"{finding.severity.capitalize()}: {finding.message}{more}" if finding else "")
        self.remedy.setText(finding.remedy if finding else "")
        self.show_button.setVisible(finding is not None and bool(self._objects(finding)))
        act = finding.act if finding is not None else Remedy.NONE
        words = self.repairs.words_for(finding) if finding is not None else ""
        self.apply_button.setVisible(bool(words))
        self.apply_button.setText(words)
        self.apply_button.setAccessibleName(words or "Apply remedy")
        image = finding.image if finding is not None and act else ""
        missing = bool(image) and self.repairs.image_named(image) is not None
        self.without_button.setVisible(missing and image not in self.workspace.document.accepted)

    def apply_remedy(self) -> None:
        """Apply the remedy of the chosen finding, of all that its line stands for."""
        row = self.list.currentRow()
        if 0 <= row < len(self.matters):
            self.repairs.apply(self.matters[row])

    def do_without(self) -> None:
        """Accept that the chosen finding's image is missing."""
        row = self.list.currentRow()
        if 0 <= row < len(self.findings):
            self.repairs.do_without(self.findings[row].image)

    def _objects(self, finding: Finding) -> set[str]:
        """Return the objects that a finding is about."""
        scene = self.workspace.document.scene
        keys = {item.key for item in scene.objects}
        if finding.object in keys:
            return {finding.object}
        if finding.material:
            numbers = {index for index, material in enumerate(scene.materials) if material.name == finding.material}
            return {item.key for item in scene.objects if numbers & set(scene.materials_of(item))}
        bundle = next((b for b in self.workspace.document.bundles if b.name == finding.bundle), None)
        return set(bundle.objects) if bundle is not None else set()

    def show_finding(self) -> None:
        """Choose what the current finding is about and frame it."""
        row = self.list.currentRow()
        if 0 <= row < len(self.matters):
            keys = {key for finding in self.matters[row] for key in self._objects(finding)}
            if keys:
                self.workspace.select(keys)
                self.workspace.frame_wanted.emit()
