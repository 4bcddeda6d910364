"""The sheet: islands where they lie, the padding about them, and the baked map under them."""

from __future__ import annotations

import math

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, QTimer
from PySide6.QtGui import (
    QColor,
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPainterPath,
    QPaintEvent,
    QPen,
    QPolygonF,
    QTransform,
    QWheelEvent,
)
from PySide6.QtWidgets import QWidget

from fasciculum.app.colors import object_color, scale_colors
from fasciculum.app.look import Theme
from fasciculum.app.workspace import Workspace
from fasciculum.model.bundle import Bundle, Layout
from fasciculum.operations.check import object_densities
from fasciculum.packing.outlines import Outline, island_outlines
from fasciculum.rendering.previews import make_previews
from fasciculum.session.stale import DONE, STALE, bake_state, layout_state

MAP_EDGE = 2048


class _Island:
    """An island ready to be painted: its outline in texels, whose it is, its box."""

    def __init__(self, outline: Outline) -> None:
        self.keys = outline.objects
        self.outline = QPainterPath()
        self.outline.setFillRule(Qt.FillRule.OddEvenFill)
        for loop in outline.loops:
            self.outline.addPolygon(QPolygonF([QPointF(x, y) for x, y in loop.tolist()]))
        self.box = self.outline.boundingRect()


class SheetView(QWidget):
    """Pans with the middle button, zooms at the pointer with the wheel, chooses by click and rectangle."""

    def __init__(self, workspace: Workspace, theme: Theme) -> None:
        super().__init__()
        self.workspace = workspace
        self.theme = theme
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Sheet")
        self.setMinimumSize(160, 160)
        self.islands: list[_Island] = []
        self.scale = 0.1
        self.offset = QPointF(0, 0)
        self._layout: Layout | None = None
        self._densities: dict[str, float] = {}
        self._fitted = False
        self._size = (0, 0)
        self._moved = False
        self._images: dict[str, list[QImage]] = {}
        self._asked: set[str] = set()
        self._pan: QPointF | None = None
        self._rubber: tuple[QPointF, QPointF] | None = None
        self._cache: tuple[tuple, QImage] | None = None
        workspace.document_changed.connect(lambda *_: self.refresh())
        workspace.selection_changed.connect(self.refresh)
        workspace.hover_changed.connect(self.update)
        workspace.view_changed.connect(self.refresh)
        workspace.preview_changed.connect(self.update)

    # -- what is shown ----------------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Take in the present bundle, its layout and its map."""
        bundle = self.workspace.bundle
        layout = bundle.layout if bundle is not None and bundle.layout and bundle.layout.scale > 0 else None
        if layout is not self._layout:
            same = (
                layout and self._layout and (layout.width, layout.height) == (self._layout.width, self._layout.height)
            )
            self._layout = layout
            self.islands = []
            self._want_outlines()
            self._densities = object_densities(self.workspace.document.scene, layout) if layout is not None else {}
            if not same:
                self._fitted = False
        self._cache = None
        self._want_map()
        self.update()

    def _want_outlines(self) -> None:
        layout = self._layout
        if layout is None:
            return

        def take(outlines: list[Outline]) -> None:
            if self._layout is layout:
                self.islands = [_Island(outline) for outline in outlines]
                self._cache = None
                self.update()

        self.workspace.viewer.runner.submit("Outline islands", island_outlines, layout, finished=take)

    def _shown_map(self) -> str:
        """Return the pixel-store key of the map to show, empty when there is none."""
        bundle = self.workspace.bundle
        if bundle is None or bundle.texturing is None or self.workspace.map == "none":
            return ""
        baked = bundle.texturing.map(self.workspace.map or "base_color")
        return baked.pixels if baked is not None else ""

    def _want_map(self) -> None:
        key = self._shown_map()
        if not key or key in self._images or key in self._asked:
            return
        self._asked.add(key)

        def take(levels: dict) -> None:
            for found, chain in levels.items():
                self._images[found] = [
                    QImage(
                        level.data,
                        level.shape[1],
                        level.shape[0],
                        level.shape[1] * 4,
                        QImage.Format.Format_RGBA8888,
                    )
                    for level in chain
                ]
                for image, level in zip(self._images[found], chain, strict=True):
                    image.pixels = level  # the image reads the array's memory
            self._cache = None
            self.update()

        folder = str(self.workspace.session.store.folder)
        self.workspace.viewer.runner.submit("Show map", make_previews, folder, [key], MAP_EDGE, finished=take)

    def sheet_size(self) -> tuple[int, int]:
        """Return the sheet's size in texels: the layout's, else the settings'."""
        if self._layout is not None:
            return self._layout.width, self._layout.height
        bundle = self.workspace.bundle
        return (bundle.sheet.width, bundle.sheet.height) if bundle else (1, 1)

    def fit(self) -> None:
        """Show the whole sheet."""
        width, height = self.sheet_size()
        room = 26
        self.scale = max(min((self.width() - 2 * room) / width, (self.height() - 2 * room - 26) / height), 1e-4)
        self.offset = QPointF((self.width() - width * self.scale) / 2, (self.height() - height * self.scale) / 2)
        self._fitted, self._size, self._moved = True, (width, height), False
        self.update()

    def frame(self) -> None:
        """Show the chosen islands, or all."""
        boxes = [island.box for island in self.islands if set(island.keys) & self.workspace.selection]
        if not boxes:
            self.fit()
            return
        whole = boxes[0]
        for box in boxes[1:]:
            whole = whole.united(box)
        self.scale = min(self.width() * 0.8 / max(whole.width(), 1), self.height() * 0.8 / max(whole.height(), 1), 16.0)
        self._moved = True
        middle = whole.center()
        self.offset = QPointF(self.width() / 2 - middle.x() * self.scale, self.height() / 2 - middle.y() * self.scale)
        self.update()

    def to_sheet(self, point: QPointF) -> QPointF:
        """Return the place on the sheet, in texels, under a point of the widget."""
        return QPointF((point.x() - self.offset.x()) / self.scale, (point.y() - self.offset.y()) / self.scale)

    def to_widget(self, x: float, y: float) -> QPointF:
        """Return the point of the widget over a place on the sheet."""
        return QPointF(x * self.scale + self.offset.x(), y * self.scale + self.offset.y())

    def island_at(self, point: QPointF) -> _Island | None:
        """Return the island under a point of the widget."""
        place = self.to_sheet(point)
        for island in self.islands:
            if island.box.contains(place) and island.outline.contains(place):
                return island
        return None

    # -- painting ---------------------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), QColor(self.theme.view))
        bundle = self.workspace.bundle
        if bundle is None:
            self._say(painter, "No bundle yet.\nChoose objects at the left and press New bundle.")
            return
        if not self._fitted or self._size != self.sheet_size():
            self.fit()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        self._paint_still(painter, bundle)
        self._paint_marks(painter)
        self._paint_captions(painter, bundle)
        if self._layout is None:
            empty = not bundle.objects
            words = (
                "This bundle is empty.\nDrag objects into it."
                if empty
                else "Not packed yet.\nPress Pack (Ctrl+Return) to lay it out."
            )
            if bundle.layout is not None and bundle.layout.scale <= 0:
                words = "Nothing fits with this padding.\nChoose a larger sheet or less padding."
            self._say(painter, words)

    def _paint_still(self, painter: QPainter, bundle: Bundle) -> None:
        """Paint islands and map, from a picture that is kept while only marks change."""
        ratio = self.devicePixelRatioF()
        key = (
            self.width(),
            self.height(),
            ratio,
            self.scale,
            self.offset.x(),
            self.offset.y(),
            self.workspace.lens,
            len(self.islands),
            self._shown_map(),
            self.workspace.mip,
            id(self._layout),
            self._shown_map() in self._images,
        )
        if self._cache is None or self._cache[0] != key:
            image = QImage(int(self.width() * ratio), int(self.height() * ratio), QImage.Format.Format_RGB32)
            image.setDevicePixelRatio(ratio)
            image.fill(QColor(self.theme.view))
            inner = QPainter(image)
            inner.setRenderHint(QPainter.RenderHint.Antialiasing)
            inner.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
            self._paint_sheet(inner, bundle)
            inner.end()
            self._cache = (key, image)
        painter.drawImage(0, 0, self._cache[1])

    def _paint_sheet(self, painter: QPainter, bundle: Bundle) -> None:
        width, height = self.sheet_size()
        sheet = QRectF(self.to_widget(0, 0), self.to_widget(width, height))
        painter.fillRect(sheet, QColor(self.theme.panel))
        images = self._images.get(self._shown_map())
        lens = self.workspace.lens
        shows_map = bool(images) and lens == "colour"
        painter.setTransform(QTransform(self.scale, 0, 0, self.scale, self.offset.x(), self.offset.y()))
        if self._layout is not None and not shows_map:
            halo = QColor(self.theme.raised)
            painter.setPen(
                QPen(
                    halo,
                    self._layout.padding,
                    Qt.PenStyle.SolidLine,
                    Qt.PenCapStyle.SquareCap,
                    Qt.PenJoinStyle.MiterJoin,
                )
            )
            painter.setBrush(halo)
            for island in self.islands:
                painter.drawPath(island.outline)
        if shows_map and images:
            self._paint_map(painter, images, width, height)
        line = QPen(QColor(255, 255, 255, 90) if shows_map else QColor(self.theme.text), 0)
        line.setCosmetic(True)
        for island in self.islands:
            painter.setPen(line)
            painter.setBrush(Qt.BrushStyle.NoBrush if shows_map else self._island_color(bundle, island))
            painter.drawPath(island.outline)
        painter.resetTransform()
        painter.setPen(QPen(QColor(self.theme.line), 1))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(sheet)

    def _paint_map(self, painter: QPainter, images: list[QImage], width: int, height: int) -> None:
        down = max(0, round(math.log2(max(width / images[0].width(), 1))))
        level = min(max(self.workspace.mip - down, 0), len(images) - 1)
        if self.workspace.mip == 0:
            # a smaller level, not a sparse reading, when the sheet is shown small
            while level + 1 < len(images) and images[level].width() > 2 * width * self.scale:
                level += 1
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, self.workspace.mip == 0 and self.scale < 4)
        painter.drawImage(QRectF(0, 0, width, height), images[level])

    def _island_color(self, bundle: Bundle, island: _Island) -> QColor:
        if self.workspace.lens == "object":
            return object_color(island.keys[0])
        if self.workspace.lens == "density" and self._layout is not None:
            target = self._layout.scale * bundle.share(island.keys[0])
            ratio = self._densities.get(island.keys[0], math.nan) / max(target, 1e-9)
            red, green, blue = scale_colors(np.array([ratio]))[0]
            return QColor.fromRgbF(red, green, blue)
        return QColor(self.theme.island)

    def _paint_marks(self, painter: QPainter) -> None:
        painter.setTransform(QTransform(self.scale, 0, 0, self.scale, self.offset.x(), self.offset.y()))
        chosen = self.workspace.selection
        for island in self.islands:
            hovered = self.workspace.hovered in island.keys
            if hovered or chosen & set(island.keys):
                strong = bool(chosen & set(island.keys))
                pen = QPen(QColor(self.theme.accent), 2.4 if strong else 1.4)
                pen.setCosmetic(True)
                painter.setPen(pen)
                tint = QColor(self.theme.accent)
                tint.setAlpha(60 if strong else 26)
                painter.setBrush(tint)
                painter.drawPath(island.outline)
        painter.resetTransform()
        if self._rubber is not None:
            tint = QColor(self.theme.accent)
            painter.setPen(QPen(tint, 1))
            tint.setAlpha(30)
            painter.setBrush(tint)
            painter.drawRect(QRectF(*self._rubber).normalized())

    def _paint_captions(self, painter: QPainter, bundle: Bundle) -> None:
        width, height = self.sheet_size()
        font = painter.font()
        font.setPixelSize(11)
        painter.setFont(font)
        painter.setPen(QColor(self.theme.quiet))
        top = max(self.to_widget(0, 0).y() - 8, 14)
        left = max(self.to_widget(0, 0).x(), 8)
        words = f"{bundle.name} · {width} × {height} px"
        if self._layout is not None:
            words += f" · fill {self._layout.fill:.0%}"
        document = self.workspace.shown
        if layout_state(document, bundle) == STALE:
            words += " · layout stale"
        elif bake_state(document, bundle) == STALE:
            words += " · maps stale"
        painter.drawText(QPointF(left, top), words)
        below = min(self.to_widget(0, height).y() + 16, self.height() - 8)
        painter.drawText(QPointF(left, below), self._caption(bundle))

    def _caption(self, bundle: Bundle) -> str:
        """Return what is said below the sheet: of the object pointed at or chosen, else of the layout."""
        key = self.workspace.hovered or (
            next(iter(self.workspace.selection)) if len(self.workspace.selection) == 1 else ""
        )
        if self._layout is not None and key in bundle.objects:
            count = sum(1 for island in self.islands if key in island.keys)
            shared = next((len(island.keys) for island in self.islands if key in island.keys), 1)
            words = f"{key} · {count} island{'s' if count != 1 else ''}"
            if math.isfinite(self._densities.get(key, math.nan)):
                words += f" · {self._densities[key]:.0f} px/m"
            return words + (f" · {shared} twins on one place" if shared > 1 else "")
        if self._layout is not None and layout_state(self.workspace.document, bundle) == DONE:
            return (
                f"{len(self.islands)} islands · gap {self._layout.gap} px · to the border {self._layout.border_gap} px"
            )
        return ""

    def _say(self, painter: QPainter, words: str) -> None:
        painter.setPen(QColor(self.theme.quiet))
        painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, words)

    # -- hands ------------------------------------------------------------------------------------------------

    def wheelEvent(self, event: QWheelEvent) -> None:
        factor = 1.0015 ** event.angleDelta().y()
        new = min(max(self.scale * factor, 0.005), 64.0)
        at = event.position()
        self.offset = at - (at - self.offset) * (new / self.scale)
        self.scale, self._moved = new, True
        self.update()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.setFocus()
        if event.button() == Qt.MouseButton.MiddleButton:
            self._pan = event.position() - self.offset
            self.setCursor(Qt.CursorShape.ClosedHandCursor)
        elif event.button() == Qt.MouseButton.LeftButton:
            self._rubber = (event.position(), event.position())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._pan is not None:
            self.offset, self._moved = event.position() - self._pan, True
        elif self._rubber is not None:
            self._rubber = (self._rubber[0], event.position())
        else:
            island = self.island_at(event.position())
            key = island.keys[0] if island is not None else ""
            if island is not None and self.workspace.hovered in island.keys:
                key = self.workspace.hovered
            self.workspace.hover(key)
            return
        self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.MiddleButton:
            self._pan = None
            self.unsetCursor()
        elif event.button() == Qt.MouseButton.LeftButton and self._rubber is not None:
            first, last = self._rubber
            self._rubber = None
            more = bool(event.modifiers() & (Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier))
            if (first - last).manhattanLength() < 4:
                island = self.island_at(last)
                found = set(island.keys) if island is not None else set()
            else:
                area = QRectF(self.to_sheet(first), self.to_sheet(last)).normalized()
                found = {
                    key
                    for island in self.islands
                    if island.box.intersects(area) and island.outline.intersects(area)
                    for key in island.keys
                }
            keys = self.workspace.selection ^ found if more else found
            self.workspace.select(keys, self.workspace.bundle_names)
        self.update()

    def leaveEvent(self, event: object) -> None:
        self.workspace.hover("")

    def keyPressEvent(self, event: QKeyEvent) -> None:
        steps = {Qt.Key.Key_Plus: 1.25, Qt.Key.Key_Minus: 0.8}
        if event.key() in steps:
            middle = QPointF(self.width() / 2, self.height() / 2)
            new = min(max(self.scale * steps[event.key()], 0.005), 64.0)
            self.offset = middle - (middle - self.offset) * (new / self.scale)
            self.scale, self._moved = new, True
            self.update()
        else:
            super().keyPressEvent(event)

    def resizeEvent(self, event: object) -> None:
        # what the artist has zoomed to stays; only a sheet that was shown whole is fitted again
        if not self._moved:
            QTimer.singleShot(0, self.fit)
