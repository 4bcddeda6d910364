"""Pairing: objects and high-poly objects side by side, joined by lines; drag one onto the other to pair by hand."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence

from PySide6.QtCore import QItemSelectionModel, QMimeData, QPointF, Qt
from PySide6.QtGui import (
    QColor,
    QDragMoveEvent,
    QDropEvent,
    QKeyEvent,
    QPainter,
    QPainterPath,
    QPaintEvent,
    QPen,
)
from PySide6.QtWidgets import (
    QAbstractItemView,
    QDoubleSpinBox,
    QFileDialog,
    QHBoxLayout,
    QListWidget,
    QListWidgetItem,
    QWidget,
)

from fasciculum.app.colors import object_color
from fasciculum.app.fields import ComboBox, DoubleSpinBox
from fasciculum.app.look import Theme
from fasciculum.app.pairs import Pairs
from fasciculum.app.parts import MODELS, Column, Form, note, small_button
from fasciculum.app.workspace import Workspace
from fasciculum.model.choices import PairBy
from fasciculum.model.counting import counted
from fasciculum.model.detail import Pair

RULES = {
    PairBy.NAME: "by name",
    PairBy.NEAREST: "by nearest surface",
    PairBy.NONE: "no pairing: all into all",
    PairBy.FILE: "by a file …",
}
HOW = {
    PairBy.NAME: "by name",
    PairBy.GROUP: "by their group's name",
    PairBy.NEAREST: "by nearest surface",
    PairBy.FILE: "by file",
    PairBy.NONE: "all into all",
    PairBy.HAND: "by hand",
}
KEY = Qt.ItemDataRole.UserRole
#: what dragged names are carried as
CARRIED = "application/x-fasciculum-pair"
LEAST_ROW, MOST_ROWS = 16, 12


class Names(QListWidget):
    """One column of names; what is dropped from the other is told."""

    def __init__(self, name: str, tip: str, dropped: Callable[[str, list[str]], None]) -> None:
        super().__init__()
        self._dropped = dropped
        #: called when the chosen are to be parted
        self.parted: Callable[[], None] = lambda: None
        self.setAccessibleName(name)
        self.setToolTip(tip)
        self.setDragEnabled(True)
        self.setAcceptDrops(True)
        self.setDropIndicatorShown(True)
        self.setDragDropMode(QAbstractItemView.DragDropMode.DragDrop)
        self.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setTextElideMode(Qt.TextElideMode.ElideMiddle)
        self.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setStyleSheet("QListWidget { font-size: 11px; padding: 0px } QListWidget::item { padding: 1px }")
        self.setUniformItemSizes(True)

    def chosen(self) -> list[str]:
        """Return the keys that are chosen."""
        return [item.data(KEY) for item in self.selectedItems()]

    def mimeTypes(self) -> list[str]:
        return [CARRIED]

    def mimeData(self, items: Sequence[QListWidgetItem]) -> QMimeData:
        data = QMimeData()
        told = {"from": self.accessibleName(), "keys": [item.data(KEY) for item in items]}
        data.setData(CARRIED, json.dumps(told).encode())
        return data

    def _carried(self, event: QDropEvent) -> list[str]:
        """Return what is dragged here from the other column."""
        if not event.mimeData().hasFormat(CARRIED):
            return []
        told = json.loads(bytes(event.mimeData().data(CARRIED).data()))
        return [] if told["from"] == self.accessibleName() else list(told["keys"])

    def dragMoveEvent(self, event: QDragMoveEvent) -> None:
        item = self.itemAt(event.position().toPoint())
        if item is not None and self._carried(event):
            self.setCurrentItem(item, QItemSelectionModel.SelectionFlag.NoUpdate)
            event.acceptProposedAction()
        else:
            event.ignore()

    def dropEvent(self, event: QDropEvent) -> None:
        item = self.itemAt(event.position().toPoint())
        keys = self._carried(event)
        # names stay where they are, whatever is dropped
        event.setDropAction(Qt.DropAction.CopyAction)
        event.accept()
        if item is not None and keys:
            self._dropped(item.data(KEY), keys)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
            self.parted()
            return
        super().keyPressEvent(event)


class Lines(QWidget):
    """The lines between two columns."""

    def __init__(self, left: Names, right: Names, theme: Theme) -> None:
        super().__init__()
        self.left, self.right, self.theme = left, right, theme
        self.pairs: tuple[Pair, ...] = ()
        self.setFixedWidth(24)
        for column in (left, right):
            column.verticalScrollBar().valueChanged.connect(lambda _: self.update())

    def _middle(self, column: Names, key: str) -> float | None:
        for row in range(column.count()):
            item = column.item(row)
            if item.data(KEY) == key:
                return float(column.visualItemRect(item).center().y()) + column.frameWidth()
        return None

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        chosen = set(self.left.chosen()) | set(self.right.chosen())
        for pair in self.pairs:
            start = self._middle(self.left, pair.low)
            for key in pair.high:
                end = self._middle(self.right, key)
                if start is None or end is None:
                    continue
                color = object_color(pair.low).lighter(130)
                picked = not chosen or pair.low in chosen or key in chosen
                color.setAlpha(255 if picked else 70)
                painter.setPen(QPen(color, 2.0 if picked and chosen else 1.4))
                path = QPainterPath(QPointF(0, start))
                path.cubicTo(QPointF(10, start), QPointF(self.width() - 10, end), QPointF(self.width(), end))
                painter.drawPath(path)


class PairingPanel(Column):
    """Which high-poly objects are read into which, how that was found, and what of it is missed."""

    def __init__(self, workspace: Workspace, theme: Theme, pairs: Pairs) -> None:
        super().__init__()
        self.workspace, self.pairs, self.theme = workspace, pairs, theme
        self.short, self.state = "no high-poly models", ""
        self.said: Callable[[], None] = lambda: None
        self._made: tuple = ()
        self._filling = False
        self.box.setContentsMargins(0, 0, 0, 0)
        line = QHBoxLayout()
        self.add = small_button("Add …", "Add detailed models that are baked into the others", self.choose)
        self.cage = small_button(
            "Cage …", "Load an inflated copy of the low-poly model, from which rays start", self.choose_cage
        )
        self.remove = small_button("Remove", "Remove all high-poly models", pairs.forget_high)
        for button in (self.add, self.cage, self.remove):
            line.addWidget(button)
        self.box.addLayout(line)
        self.by = form = Form()
        self.rule = ComboBox()
        for rule, words in RULES.items():
            self.rule.addItem(words, rule)
        self.rule.activated.connect(self._ruled)
        form.row(
            "Pair",
            self.rule,
            "How high-poly objects are paired with low-poly ones. Changing it resets pairs made by hand",
        )
        self.box.addWidget(form)
        tip = "Drag a high-poly object onto a low-poly one, or back, to pair them by hand. Delete unpairs them"
        self.lows = Names("Objects", tip, lambda low, highs: self._drop([low], highs))
        self.highs = Names("High-poly objects", tip, lambda high, lows: self._drop(lows, [high]))
        self.lows.parted = self._part
        self.lines = Lines(self.lows, self.highs, theme)
        columns = QHBoxLayout()
        columns.setSpacing(0)
        columns.addWidget(self.lows, 1)
        columns.addWidget(self.lines)
        columns.addWidget(self.highs, 1)
        self.columns = QWidget()
        self.columns.setLayout(columns)
        columns.setContentsMargins(0, 0, 0, 0)
        self.box.addWidget(self.columns)
        self.about = note()
        self.box.addWidget(self.about)
        buttons = QHBoxLayout()
        self.join = small_button("Pair", "Pair the chosen objects of both columns", self._join)
        self.part = small_button("Unpair", "Unpair the chosen objects", self._part)
        for button in (self.join, self.part):
            buttons.addWidget(button)
        self.box.addLayout(buttons)
        self.reach = Form()
        self.out, self.into = self._span("outwards"), self._span("inwards")
        self.box.addWidget(self.reach)
        self.lows.itemSelectionChanged.connect(self._chosen)
        self.highs.itemSelectionChanged.connect(self._say)
        workspace.document_changed.connect(lambda *_: self.refresh())
        workspace.selection_changed.connect(self._follow)
        self.refresh()

    def _span(self, way: str) -> QDoubleSpinBox:
        box = DoubleSpinBox()
        box.setDecimals(4)
        box.setRange(0.0, 1e4)
        box.setSingleStep(0.005)
        box.setSuffix(" m")
        box.setSpecialValueText("bundle's")
        box.setKeyboardTracking(False)
        box.valueChanged.connect(self._spanned)
        self.reach.row(
            f"Reach {way}",
            box,
            f"How far {way}rays look for the chosen object's high-poly surface, in metres. Unset: its bundle's "
            "distance",
        )
        return box

    # -- files ------------------------------------------------------------------------------------------------

    def choose(self) -> None:
        """Ask for high-poly models and gather them."""
        names, _ = QFileDialog.getOpenFileNames(self.window(), "Add high-poly models", "", MODELS)
        if names:
            self.pairs.gather(names)

    def choose_cage(self) -> None:
        """Ask for a cage and take it."""
        names, _ = QFileDialog.getOpenFileNames(self.window(), "Load a cage mesh", "", MODELS)
        if names:
            self.pairs.gather([], names)

    def _ruled(self) -> None:
        by = self.rule.currentData()
        if by is not PairBy.FILE:
            self.pairs.follow_rule(by)
            return
        name, _ = QFileDialog.getOpenFileName(self.window(), "Pairs", "", "Pairs (*.json)")
        if name:
            self.pairs.read_file(name)
        self.refresh()

    # -- pairs ------------------------------------------------------------------------------------------------

    def _drop(self, lows: list[str], highs: list[str]) -> None:
        if lows and highs:
            self.pairs.join(lows[0], highs)

    def _join(self) -> None:
        self._drop(self.lows.chosen(), self.highs.chosen())

    def _part(self) -> None:
        for key in self.lows.chosen()[:1]:
            self.pairs.part(key)

    def _spanned(self) -> None:
        keys = self.lows.chosen()
        if self._filling or not keys:
            return
        result = self.pairs.reach_of(keys[0])
        span = self.out.value() or result[0], self.into.value() or result[1]
        self.pairs.set_span(keys[0], None if not self.out.value() and not self.into.value() else span)

    # -- what is shown ----------------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Show the pairs."""
        document = self.workspace.document
        detail = document.scene.detail
        mask = detail is not None
        for part in (self.columns, self.join, self.part, self.reach, self.cage, self.remove, self.by):
            part.setVisible(mask)
        self._filling = True
        self.rule.setCurrentIndex(max(self.rule.findData(document.pairing.by), 0))
        if detail is None:
            self.lows.clear()
            self.highs.clear()
            self.lines.pairs = ()
            self.short, self.state = "no high-poly models", ""
        elif self._made != (id(document.scene),):
            self._fill()
        self._made = (id(document.scene),)
        self._filling = False
        self._say()
        self.said()

    def _fill(self) -> None:
        document = self.workspace.document
        detail = document.scene.detail
        assert detail is not None
        wanted = self.lows.chosen()
        loose = sorted(detail.loose)
        pairs = sorted(detail.pairs, key=lambda pair: pair.low)
        free = sorted(item.key for item in document.scene.objects if detail.pair(item.key) is None)
        self._show(self.highs, loose, [key for pair in pairs for key in pair.high])
        # partners stand opposite each other; objects without one are many, and follow
        self._show(self.lows, [], [pair.low for pair in pairs])
        for key in free:
            self._item(self.lows, key, "no high-poly partner; keeps its own materials", free=True)
        for row in range(self.lows.count()):
            item = self.lows.item(row)
            item.setSelected(item.data(KEY) in wanted)
        self.lines.pairs = detail.pairs
        rows = max(self.highs.count(), min(self.lows.count(), len(pairs) + 3))
        row = max(self.lows.sizeHintForRow(0), self.highs.sizeHintForRow(0), LEAST_ROW)
        high = row * min(max(rows, 3), MOST_ROWS) + 2 * self.lows.frameWidth()
        self.lows.setFixedHeight(high)
        self.highs.setFixedHeight(high)
        self.short = f"{len(detail.paired)} of {len(detail.scene.objects)}"
        self.state = "broken" if loose else ""

    def _show(self, column: Names, loose: list[str], paired: list[str]) -> None:
        column.clear()
        for key in loose:
            self._item(column, key, "found no partner and is not read", free=True)
        for key in dict.fromkeys(paired):
            self._item(column, key, key)

    def _item(self, column: Names, key: str, tip: str, *, free: bool = False) -> None:
        item = QListWidgetItem(key)
        item.setData(KEY, key)
        item.setToolTip(f"{key}: {tip}" if tip != key else key)
        if free:
            item.setForeground(QColor(self.theme.broken if column is self.highs else self.theme.quiet))
        column.addItem(item)

    def _missed(self, key: str, pair: Pair) -> float:
        bundle = self.workspace.document.bundle_of(key)
        made = bundle.texturing if bundle is not None else None
        return dict(made.missed).get(key, pair.missed) if made is not None else pair.missed

    def _chosen(self) -> None:
        if not self._filling:
            self.workspace.select(set(self.lows.chosen()))
        self._say()

    def _follow(self) -> None:
        """Choose in the list what is chosen elsewhere."""
        if self._filling:
            return
        self._filling = True
        for row in range(self.lows.count()):
            item = self.lows.item(row)
            item.setSelected(item.data(KEY) in self.workspace.selection)
        self._filling = False
        self._say()

    def _say(self) -> None:
        """Tell about the chosen pair, and offer what can be done with it."""
        self.lines.update()
        detail = self.workspace.document.scene.detail
        keys = self.lows.chosen()
        pair = self.pairs.pair(keys[0]) if keys else None
        self.join.setEnabled(bool(keys and self.highs.chosen()))
        self.part.setEnabled(pair is not None)
        self.reach.setEnabled(pair is not None and not (pair.cage if pair else ""))
        self._filling, before = True, self._filling
        own = pair.own if pair is not None else None
        self.out.setValue(own[0] if own else 0.0)
        self.into.setValue(own[1] if own else 0.0)
        self._filling = before
        if detail is None:
            self.about.setText(
                "Detailed models whose surface is baked into the low-poly objects. They are not delivered."
            )
        elif pair is not None:
            out, into = self.pairs.reach_of(pair.low)
            cage = f" Cage: {pair.cage}." if pair.cage else ""
            held = f" {len(pair.handles)} handles." if pair.handles else ""
            self.about.setText(
                f"{pair.low} reads {', '.join(pair.high)}, paired {HOW[pair.by]}. {self._missed(pair.low, pair):.1%} "
                f"missed. Ray distance {out:.4g} m out, {into:.4g} m in.{cage}{held}"
            )
        else:
            loose = len(list(detail.loose))
            words = (
                f"{loose} high-poly objects have no partner; they are listed first."
                if loose
                else "All high-poly objects are paired."
            )
            self.about.setText(f"{counted(len(detail.pairs), 'object reads', 'objects read')} high-poly ones. {words}")
