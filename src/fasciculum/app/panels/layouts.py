"""How the packing goes while it runs, and the layouts that are kept: compare, go back."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QPushButton, QSizePolicy, QVBoxLayout, QWidget

from fasciculum.app.fields import ComboBox
from fasciculum.app.look import Theme
from fasciculum.app.parts import heading, note
from fasciculum.app.workspace import Workspace
from fasciculum.model.layout import Layout
from fasciculum.session import commands


class Curve(QWidget):
    """Fill over time, of a packing."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        self.points: list[tuple[float, float]] = []
        self.setMinimumHeight(64)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("Fill over time")
        self.setToolTip("Fill of the best layout so far, in %, over the seconds since packing started")

    def show_points(self, points: list[tuple[float, float]]) -> None:
        """Show (seconds, fill) pairs."""
        self.points = list(points)
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        font = painter.font()
        font.setPixelSize(10)
        painter.setFont(font)
        painter.setPen(QColor(self.theme.quiet))
        if not self.points:
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "The first layout is being made …")
            return
        seconds = max(self.points[-1][0], 1.0)
        low = min(fill for _, fill in self.points)
        high = max(fill for _, fill in self.points)
        span = max(high - low, 0.01)
        base, top = self.height() - 16, 14

        def place(at: float, fill: float) -> QPointF:
            return QPointF(2 + (self.width() - 4) * at / seconds, base - (base - top) * (fill - low) / span)

        line = QPolygonF()
        for (at, fill), after in zip(self.points, [*self.points[1:], (seconds, 0.0)], strict=True):
            line.append(place(at, fill))
            line.append(place(after[0], fill))
        painter.drawText(QPointF(2, 10), f"{high:.1%}")
        painter.drawText(QPointF(2, self.height() - 3), "0 s")
        words = f"{seconds:.0f} s"
        wide = painter.fontMetrics().horizontalAdvance(words)
        painter.drawText(QPointF(self.width() - wide - 2, self.height() - 3), words)
        painter.setPen(QPen(QColor(self.theme.accent), 1.6))
        painter.drawPolyline(line)


class PackingNow(QWidget):
    """Shown while a bundle is packed: the curve, and the button that ends it with the best so far."""

    def __init__(self, workspace: Workspace, theme: Theme, acts: Callable[[str], Callable[[], None]]) -> None:
        super().__init__()
        self.workspace = workspace
        box = QVBoxLayout(self)
        box.setContentsMargins(12, 4, 12, 8)
        box.setSpacing(4)
        self.curve = Curve(theme)
        self.stop_early = QPushButton("Stop with the best so far")
        self.stop_early.setToolTip("End the packing with the best layout so far (Ctrl+E)")
        self.stop_early.clicked.connect(acts("stop_early"))
        box.addWidget(heading("Packing"))
        box.addWidget(self.curve)
        box.addWidget(self.stop_early)
        workspace.queue_changed.connect(self.refresh)
        workspace.live_changed.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        """Follow the running job."""
        packing = self.workspace.packing
        self.setVisible(packing)
        if packing:
            self.curve.show_points(self.workspace.curves.get(self.workspace.running[1], []))


def figures(layout: Layout) -> str:
    """Return a layout's fill and density in words."""
    return f"fill {layout.fill:.1%} · {layout.scale:.0f} px/m · {layout.width} × {layout.height}"


class Versions(QWidget):
    """The layouts that a bundle keeps under names."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace = workspace
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(4)
        self.now = note()
        box.addWidget(self.now)
        line = QHBoxLayout()
        line.setSpacing(6)
        self.name = QLineEdit()
        self.name.setPlaceholderText("name of this layout")
        self.name.setAccessibleName("Name of the layout version")
        self.name.setToolTip("The name under which the current layout is saved")
        self.name.setMinimumHeight(26)
        self.name.returnPressed.connect(self.keep)
        self.keep_button = self._button("Keep", "Save the current layout under this name", self.keep)
        line.addWidget(self.name, 1)
        line.addWidget(self.keep_button)
        box.addLayout(line)
        self.list = ComboBox()
        self.list.setAccessibleName("Kept layouts")
        self.list.setToolTip("The saved layout versions")
        self.list.setMinimumHeight(26)
        self.list.currentIndexChanged.connect(lambda _: self._say())
        box.addWidget(self.list)
        self.compare = note()
        box.addWidget(self.compare)
        line = QHBoxLayout()
        line.setSpacing(6)
        self.use_button = self._button("Use again", "Use the chosen layout again", self.use)
        self.drop_button = self._button("Delete", "Delete the chosen layout version", self.drop)
        line.addWidget(self.use_button)
        line.addWidget(self.drop_button)
        box.addLayout(line)

    def _button(self, words: str, tip: str, call: Callable[[], None]) -> QPushButton:
        button = QPushButton(words)
        button.setToolTip(tip)
        button.clicked.connect(call)
        return button

    def keep(self) -> None:
        """Keep the present layout."""
        bundle, title = self.workspace.bundle, self.name.text()
        if bundle is not None:
            name = bundle.name
            self.workspace.apply(f"Save layout {title}", lambda d: commands.keep_version(d, name, title))
            self.list.setCurrentText(title.strip())

    def use(self) -> None:
        """Go back to the chosen layout."""
        bundle, title = self.workspace.bundle, self.list.currentText()
        if bundle is not None and title:
            name = bundle.name
            self.workspace.apply(f"Go back to {title}", lambda d: commands.use_version(d, name, title))

    def drop(self) -> None:
        """Keep the chosen layout no longer."""
        bundle, title = self.workspace.bundle, self.list.currentText()
        if bundle is not None and title:
            name = bundle.name
            self.workspace.apply(f"Delete layout {title}", lambda d: commands.drop_version(d, name, title))

    def refresh(self) -> None:
        """Show the leading bundle's versions."""
        bundle = self.workspace.bundle
        versions = bundle.versions if bundle is not None else ()
        names = [version.name for version in versions]
        if [self.list.itemText(index) for index in range(self.list.count())] != names:
            chosen = self.list.currentText()
            self.list.blockSignals(True)
            self.list.clear()
            self.list.addItems(names)
            if chosen in names:
                self.list.setCurrentText(chosen)
            self.list.blockSignals(False)
        layout = bundle.layout if bundle is not None else None
        self.now.setText(f"now: {figures(layout)}" if layout is not None and layout.scale > 0 else "not packed yet")
        self.keep_button.setEnabled(layout is not None)
        self.name.setEnabled(layout is not None)
        for widget in (self.list, self.use_button, self.drop_button):
            widget.setEnabled(bool(names))
        self._say()

    def _say(self) -> None:
        bundle, title = self.workspace.bundle, self.list.currentText()
        result = next((v.layout for v in bundle.versions if v.name == title), None) if bundle is not None else None
        self.compare.setText(figures(result) if result is not None else "none saved yet")
