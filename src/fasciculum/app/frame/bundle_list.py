"""The left column: bundles with their objects, loose objects last."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence

from PySide6.QtCore import QMimeData, QModelIndex, QPersistentModelIndex, QPoint, QRect, QSize, Qt, Signal
from PySide6.QtGui import QAction, QColor, QDropEvent, QFont, QIcon, QKeyEvent, QPainter, QPen, QPixmap
from PySide6.QtWidgets import (
    QAbstractItemView,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QMenu,
    QPushButton,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QToolButton,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)

from fasciculum.app.colors import WAY_SHORT, object_color
from fasciculum.app.frame.list_filter import matching
from fasciculum.app.look import ICONS, Theme
from fasciculum.app.workspace import Workspace
from fasciculum.io.formats.table import suffixes
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import Treatment
from fasciculum.model.counting import counted
from fasciculum.operations.check.check import object_densities
from fasciculum.operations.ledger import bundle_calls, cost_of
from fasciculum.session import commands
from fasciculum.session.stale import DONE, layout_state
from fasciculum.treatments.apart import apart_materials
from fasciculum.treatments.resolving import islands_alone, resolve_bundle
from fasciculum.units import density_words

KEY, KIND, FIGURE = Qt.ItemDataRole.UserRole, Qt.ItemDataRole.UserRole + 1, Qt.ItemDataRole.UserRole + 2
LOOSE = "\0loose"

#: pixels: the column at least and at most, and when it is a strip
WIDE, MOST, STRIP = 226, 420, 46


class _Rows(QStyledItemDelegate):
    """Paints a row: name at the left, its figure at the right, an object's colour before it."""

    def __init__(self, theme: Theme, workspace: Workspace, parent: QWidget) -> None:
        super().__init__(parent)
        self.theme = theme
        self.workspace = workspace
        self._arrows: dict[str, QIcon] = {}

    def _arrow(self, file: str) -> QIcon:
        if file not in self._arrows:
            self._arrows[file] = QIcon(file)
        return self._arrows[file]

    def paint(
        self, painter: QPainter, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex
    ) -> None:
        rect, theme = option.rect, self.theme
        bundle = index.data(KIND) == "bundle"
        chosen = bool(option.state & QStyle.StateFlag.State_Selected)
        full = QRect(0, rect.top(), rect.right() + 1, rect.height())
        if chosen:
            painter.fillRect(full, QColor(theme.chosen))
            painter.fillRect(QRect(0, rect.top(), 3, rect.height()), QColor(theme.accent))
        elif option.state & QStyle.StateFlag.State_MouseOver or index.data(KEY) == self.workspace.hovered:
            painter.fillRect(full, QColor(theme.raised))
        elif bundle:
            painter.fillRect(full, QColor(theme.raised).darker(108))
        if bundle and index.model().hasChildren(index):
            name = "down" if option.state & QStyle.StateFlag.State_Open else "closed"
            tone = theme.name
            self._arrow(f"{ICONS}/{name}-{tone}.svg").paint(painter, QRect(4, rect.top(), 12, rect.height()))
        font = QFont(option.font)
        font.setBold(bundle and index.data(KEY) != LOOSE)
        painter.setFont(font)
        left = rect.left() + 4
        if not bundle:
            painter.fillRect(QRect(left, rect.center().y() - 4, 9, 9), object_color(index.data(KEY)))
            left += 17
        figure = index.data(FIGURE) or ""
        metrics = painter.fontMetrics()
        wide = metrics.horizontalAdvance(figure)
        painter.setPen(QColor(theme.quiet))
        painter.drawText(
            QRect(rect.right() - wide - 8, rect.top(), wide, rect.height()),
            Qt.AlignmentFlag.AlignVCenter,
            figure,
        )
        painter.setPen(QColor(theme.text))
        room = QRect(left, rect.top(), rect.right() - left - wide - 16, rect.height())
        name = metrics.elidedText(index.data(Qt.ItemDataRole.DisplayRole), Qt.TextElideMode.ElideRight, room.width())
        painter.drawText(room, Qt.AlignmentFlag.AlignVCenter, name)


class _Tree(QTreeWidget):
    """A tree that takes objects dragged from bundle to bundle."""

    dropped = Signal(list, str)
    #: what is chosen is to be removed
    removed = Signal()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Delete and self.state() != QAbstractItemView.State.EditingState:
            self.removed.emit()
            return
        super().keyPressEvent(event)

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setDragDropMode(QAbstractItemView.DragDropMode.InternalMove)
        self.setDefaultDropAction(Qt.DropAction.MoveAction)

    def mimeData(self, items: Sequence[QTreeWidgetItem]) -> QMimeData:
        data = super().mimeData(items)
        data.setText("\n".join(item.text(0) for item in items))
        return data

    def dropEvent(self, event: QDropEvent) -> None:
        item = self.itemAt(event.position().toPoint())
        if item is not None and item.parent() is not None:
            item = item.parent()
        keys = [chosen.data(0, KEY) for chosen in self.selectedItems() if chosen.data(0, KIND) == "object"]
        event.setDropAction(Qt.DropAction.IgnoreAction)
        event.accept()
        if item is not None and keys:
            self.dropped.emit(keys, item.data(0, KEY))


class _Strip(QListWidget):
    """Bundles and objects as swatches of their colours, with their names when they are pointed at."""

    def __init__(self, workspace: Workspace, theme: Theme) -> None:
        super().__init__()
        self.workspace, self.theme = workspace, theme
        self._filling = False
        self.setAccessibleName("Bundles and objects, narrow")
        self.setIconSize(QSize(18, 18))
        self.setMouseTracking(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.itemClicked.connect(self._choose)
        self.itemEntered.connect(lambda item: workspace.hover(item.data(KEY) if item.data(KIND) == "object" else ""))
        workspace.selection_changed.connect(self._show_selection)

    def fill(self) -> None:
        """Rebuild the swatches from the document."""
        document = self.workspace.document
        self.clear()
        for bundle in document.bundles:
            self._add(
                bundle.name,
                "bundle",
                f"{bundle.name}: {counted(len(bundle.objects), 'object')}",
                QColor(self.theme.accent),
            )
            for key in bundle.objects:
                self._add(key, "object", key, object_color(key))
        for key in document.loose():
            self._add(key, "object", f"{key} (loose)", object_color(key))
        self._show_selection()

    def _add(self, key: str, kind: str, words: str, color: QColor) -> None:
        picture = QPixmap(18, 18)
        picture.fill(Qt.GlobalColor.transparent)
        painter = QPainter(picture)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if kind == "bundle":
            painter.setPen(QPen(color, 2))
            painter.drawLine(1, 9, 17, 9)
        else:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(color)
            painter.drawRoundedRect(3, 3, 12, 12, 3, 3)
        painter.end()
        item = QListWidgetItem(QIcon(picture), "")
        item.setToolTip(words)
        item.setData(Qt.ItemDataRole.AccessibleTextRole, words)
        item.setData(KEY, key)
        item.setData(KIND, kind)
        self.addItem(item)

    def _choose(self, item: QListWidgetItem) -> None:
        if item.data(KIND) == "bundle":
            self.workspace.select((), (item.data(KEY),))
        else:
            self.workspace.select({item.data(KEY)})

    def _show_selection(self) -> None:
        alone = not self.workspace.selection
        for index in range(self.count()):
            item = self.item(index)
            chosen = self.workspace.bundle_names if item.data(KIND) == "bundle" else self.workspace.selection
            item.setSelected(item.data(KEY) in chosen and (item.data(KIND) != "bundle" or alone))


class BundleList(QWidget):
    """Bundles and objects; several are chosen with Ctrl and Shift, dragged, renamed with F2."""

    def __init__(self, workspace: Workspace, theme: Theme, acts: Callable[[str], Callable[[], None]]) -> None:
        super().__init__()
        self.setObjectName("panel")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.workspace = workspace
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        head = QHBoxLayout()
        head.setContentsMargins(12, 4, 6, 4)
        title = QLabel("Bundles")
        title.setProperty("heading", True)
        self.new = QPushButton("New bundle")
        self.new.setToolTip("Put the chosen objects into a bundle of their own (Ctrl+B)")
        self.new.setAccessibleName("New bundle")
        self.new.clicked.connect(acts("new_bundle"))
        head.addWidget(title, 1)
        head.addWidget(self.new)
        self.head = QWidget()
        self.head.setLayout(head)
        layout.addWidget(self.head)
        self.filter = QLineEdit()
        self.filter.setPlaceholderText("Filter: name, stale, > 512")
        self.filter.setAccessibleName("Filter the list")
        self.filter.setToolTip(
            "Show objects by name, material, texture, bundle or treatment, by state (stale, packed, baked, loose, no "
            "uv) or by density (> 512 px/m). All of it has to hold (Ctrl+Shift+K)"
        )
        self.filter.setClearButtonEnabled(True)
        for button in self.filter.findChildren(QToolButton):
            button.setAccessibleName("Clear the filter")
            button.setToolTip("Clear the filter: show all objects")
        self.filter.textChanged.connect(lambda _: self._apply_filter())
        self.filter_line = QWidget()
        line = QHBoxLayout(self.filter_line)
        line.setContentsMargins(8, 0, 6, 4)
        line.addWidget(self.filter)
        layout.addWidget(self.filter_line)
        self.strip = _Strip(workspace, theme)
        self.strip.hide()
        layout.addWidget(self.strip, 1)
        self.tree = _Tree(self)
        self.tree.setAccessibleName("Bundles and objects")
        self.tree.setHeaderHidden(True)
        self.tree.setIndentation(16)
        self.tree.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.tree.setEditTriggers(QAbstractItemView.EditTrigger.EditKeyPressed)
        self.tree.setMouseTracking(True)
        self.tree.setUniformRowHeights(True)
        self.tree.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.tree.customContextMenuRequested.connect(self._open_menu)
        self.tree.removed.connect(lambda: acts("remove_objects" if workspace.selection else "remove_bundle")())
        #: the actions of its menu, each with whether it can be done now
        self.menu_actions: list[tuple[QAction, Callable[[], bool]]] = []
        self.tree.setItemDelegate(_Rows(theme, workspace, self.tree))
        layout.addWidget(self.tree, 1)
        self.empty = QLabel(
            f"Nothing gathered yet.\nDrop {suffixes()} files or a folder here, press Ctrl+Shift+A to choose "
            "them, or open the demo station from the project menu."
        )
        self.empty.setProperty("quiet", True)
        self.empty.setContentsMargins(12, 12, 12, 12)
        self.empty.setWordWrap(True)
        self.empty.setAlignment(Qt.AlignmentFlag.AlignTop)
        layout.addWidget(self.empty, 1)
        self._filling = False
        self._is_strip = False
        self._densities: dict[str, float] = {}
        self._layouts: tuple = ()
        self.tree.itemSelectionChanged.connect(self._chosen)
        self.tree.itemChanged.connect(self._renamed)
        self.tree.itemEntered.connect(
            lambda item: workspace.hover(item.data(0, KEY) if item.data(0, KIND) == "object" else "")
        )
        self.tree.dropped.connect(self._dropped)
        workspace.document_changed.connect(lambda *_: self.fill())
        workspace.figures_changed.connect(self.fill)
        workspace.preview_changed.connect(self._refigure)
        workspace.selection_changed.connect(self._show_selection)
        workspace.hover_changed.connect(self.tree.viewport().update)
        self.fill()

    def _open_menu(self, place: QPoint) -> None:
        """Open the menu of what can be done with the chosen rows."""
        self.menu = menu = QMenu(self)
        for action, enabled in self.menu_actions:
            action.setEnabled(enabled())
            menu.addAction(action)
        # shortcuts work for enabled actions only; whether they can be done is judged when they are called
        menu.aboutToHide.connect(self._enable_actions)
        menu.popup(self.tree.viewport().mapToGlobal(place))

    def _enable_actions(self) -> None:
        for action, _ in self.menu_actions:
            action.setEnabled(True)

    def set_strip(self, on: bool) -> None:
        """Show swatches in place of rows, or rows again."""
        if on != self._is_strip:
            self._is_strip = on
            self._show_parts()

    def _show_parts(self) -> None:
        some, strip = bool(self.workspace.document.scene.objects), self._is_strip
        self.strip.setVisible(strip)
        self.head.setVisible(not strip)
        self.filter_line.setVisible(some and not strip)
        self.tree.setVisible(some and not strip)
        self.empty.setVisible(not some and not strip)
        self.setMinimumWidth(STRIP if strip else WIDE)
        self.setMaximumWidth(STRIP if strip else MOST)

    def fill(self) -> None:
        """Rebuild the rows from the document."""
        document = self.workspace.document
        self._filling = True
        folded = {row.data(0, KEY) for row in self._tops() if not row.isExpanded()}
        place = self.tree.verticalScrollBar().value()
        self.tree.clear()
        for bundle in document.bundles:
            self._add(bundle.name, bundle.name, bundle.objects, bundle.name not in folded, True)
        if document.scene.objects:
            self._add(LOOSE, f"Loose ({len(document.loose())})", document.loose(), LOOSE not in folded, False)
        self.tree.verticalScrollBar().setValue(place)
        self._filling = False
        self.strip.fill()
        self._show_parts()
        self._refigure()
        self._show_selection()

    def _add(self, key: str, title: str, objects: tuple[str, ...], open_: bool, editable: bool) -> None:
        row = QTreeWidgetItem([title])
        row.setData(0, KEY, key)
        row.setData(0, KIND, "bundle")
        flags = Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable | Qt.ItemFlag.ItemIsDropEnabled
        row.setFlags(flags | Qt.ItemFlag.ItemIsEditable if editable else flags)
        self.tree.addTopLevelItem(row)
        for name in objects:
            child = QTreeWidgetItem([name])
            child.setData(0, KEY, name)
            child.setData(0, KIND, "object")
            child.setFlags(Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable | Qt.ItemFlag.ItemIsDragEnabled)
            row.addChild(child)
        row.setExpanded(open_)

    def _refigure(self) -> None:
        """Renew the figures at the right of each row."""
        document = self.workspace.shown
        layouts = tuple(bundle.layout for bundle in document.bundles)
        if len(layouts) != len(self._layouts) or any(a is not b for a, b in zip(layouts, self._layouts, strict=True)):
            self._layouts = layouts
            self._densities = {}
            for laid in document.bundles:
                if laid.layout is not None and laid.layout.scale > 0:
                    self._densities |= object_densities(*islands_alone(document.scene, laid))
        self._filling = True
        for row in self._tops():
            if self.workspace.pointing:
                self._figure_ways(row)
                continue
            bundle = next((b for b in document.bundles if b.name == row.data(0, KEY)), None)
            if bundle is None:
                continue
            cost = cost_of(document.scene, bundle.objects)
            calls = bundle_calls(document.scene, bundle, document.delivery)
            row.setData(0, FIGURE, f"{cost.draw_calls} → {calls}")
            work = resolve_bundle(document.scene, bundle)
            materials = (not work.bare) + len(
                {leader for leader, _ in apart_materials(document.scene, work.apart).values()}
            )
            row.setToolTip(
                0,
                f"{counted(cost.draw_calls, 'draw call')} become {calls}, {counted(cost.materials, 'material')} become "
                f"{materials}",
            )
            self._figure_objects(row, bundle)
        self._filling = False
        self._apply_filter()
        self.tree.viewport().update()

    def _apply_filter(self) -> None:
        """Show the rows that the filter asks for, and the bundles that hold any."""
        shown = matching(self.workspace.document, self._densities, self.filter.text())
        for row in self._tops():
            hidden = 0
            for number in range(row.childCount()):
                child = row.child(number)
                away = shown is not None and child.data(0, KEY) not in shown
                child.setHidden(away)
                hidden += away
            row.setHidden(shown is not None and hidden == row.childCount())

    def _figure_ways(self, row: QTreeWidgetItem) -> None:
        """Tell of each object how the plan that is pointed at would treat it."""
        document = self.workspace.shown
        row.setData(0, FIGURE, "")
        for number in range(row.childCount()):
            child = row.child(number)
            bundle = document.bundle_of(child.data(0, KEY))
            child.setData(0, FIGURE, "" if bundle is None else self._ways_of(bundle, child.data(0, KEY)))

    def _ways_of(self, bundle: Bundle, key: str, *, whole: bool = False) -> str:
        """Return how an object's materials are treated, all of it if ``whole``: beside a name there is little room."""
        scene = self.workspace.document.scene
        ways = list(dict.fromkeys(resolve_bundle(scene, bundle).ways_of(scene, key)))
        if whole or len(ways) < 2:
            return ", ".join(WAY_SHORT[way] for way in ways)
        return f"{len(ways)} kinds"

    def _figure_objects(self, row: QTreeWidgetItem, bundle: Bundle) -> None:
        document = self.workspace.shown
        fresh = layout_state(document, bundle) == DONE
        expected = self.workspace.sheet_figures(bundle)
        work = resolve_bundle(document.scene, bundle) if bundle.ways else None
        for number in range(row.childCount()):
            child = row.child(number)
            key, words, told = child.data(0, KEY), "", ""
            ways = work.ways_of(document.scene, key) if work is not None else (Treatment.BAKE,)
            if Treatment.BAKE not in ways:
                words = self._ways_of(bundle, key)
                told = self._ways_of(bundle, key, whole=True)
            elif fresh and key in self._densities and math.isfinite(self._densities[key]):
                words = density_words(self._densities[key])
            elif expected is not None:
                words = f"~{density_words(expected.density * bundle.share(key))}"
            child.setData(0, FIGURE, words)
            about = " (estimate; pack to measure it)" if "~" in words else ""
            if bundle.share(key) != 1.0:
                about += f"\nDensity multiplier: {bundle.share(key):g} times the texels along an edge."
            child.setToolTip(0, f"{key}\n{told or words}{about}")

    def _chosen(self) -> None:
        if self._filling:
            return
        rows = self.tree.selectedItems()
        keys = [row.data(0, KEY) for row in rows if row.data(0, KIND) == "object"]
        names = [row.data(0, KEY) for row in rows if row.data(0, KIND) == "bundle" and row.data(0, KEY) != LOOSE]
        for row in rows:
            home = row.parent().data(0, KEY) if row.parent() is not None else ""
            if home and home != LOOSE and home not in names:
                names.append(home)
        self.workspace.select(keys, names or self.workspace.bundle_names)

    def _show_selection(self) -> None:
        if self._filling:
            return
        self._filling = True
        only_bundles = not self.workspace.selection
        for row in self._tops():
            row.setSelected(only_bundles and row.data(0, KEY) in self.workspace.bundle_names)
            for number in range(row.childCount()):
                child = row.child(number)
                chosen = child.data(0, KEY) in self.workspace.selection
                if chosen != child.isSelected():
                    child.setSelected(chosen)
                    if chosen and len(self.workspace.selection) == 1:
                        self.tree.scrollToItem(child)
        self._filling = False

    def _renamed(self, row: QTreeWidgetItem) -> None:
        if self._filling or row.data(0, KIND) != "bundle":
            return
        old, new = row.data(0, KEY), row.text(0)
        chosen = self.workspace.bundle_names
        if new != old:
            self.workspace.apply("Rename bundle", lambda document: commands.rename_bundle(document, old, new))
            self.workspace.select(
                (),
                tuple(new if name == old else name for name in chosen)
                if any(b.name == new for b in self.workspace.document.bundles)
                else chosen,
            )
            self.fill()

    def _dropped(self, keys: list[str], home: str) -> None:
        target = "" if home == LOOSE else home
        label = f"Move {keys[0] if len(keys) == 1 else counted(len(keys), 'object')}"
        self.workspace.apply(label, lambda document: commands.move_objects(document, keys, target))
        self.workspace.select(keys)

    def _tops(self) -> list[QTreeWidgetItem]:
        """Return the rows of bundles, and that of what is loose."""
        rows = (self.tree.topLevelItem(index) for index in range(self.tree.topLevelItemCount()))
        return [row for row in rows if row is not None]

    def rename(self) -> None:
        """Start renaming the leading bundle."""
        for row in self._tops():
            if row.data(0, KEY) in self.workspace.bundle_names[:1]:
                self.tree.setCurrentItem(row)
                self.tree.editItem(row)
