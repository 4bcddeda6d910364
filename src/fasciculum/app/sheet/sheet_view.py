"""The sheet: islands where they lie, the padding about them, and the baked map under them."""

from __future__ import annotations

import math

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSizeF, Qt, QTimer
from PySide6.QtGui import (
    QColor,
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QTransform,
    QWheelEvent,
)
from PySide6.QtWidgets import QWidget

from fasciculum.app.colors import WAY_WORDS, object_color, scale_colors
from fasciculum.app.look import Theme
from fasciculum.app.sheet.island_editor import IslandEditor
from fasciculum.app.sheet.sheet_drag import Carried, SheetMouse
from fasciculum.app.sheet.sheet_islands import Drawn, Island
from fasciculum.app.sheet.sheet_lens import OF_OBJECTS, SheetLens
from fasciculum.app.sheet.sheet_map import BAR, MapBar, SheetMap
from fasciculum.app.workspace import MAP_LENSES, Workspace
from fasciculum.model.bundle import Bundle
from fasciculum.model.counting import counted
from fasciculum.model.layout import Layout
from fasciculum.operations.check.check import measure_islands, object_density
from fasciculum.packing.outlines import Outline, island_outlines
from fasciculum.session.stale import DONE, STALE, bake_state, layout_state
from fasciculum.session.tasks import Kind, Task
from fasciculum.treatments.resolving import islands_alone, resolve_bundle
from fasciculum.units import density_words

#: parts of the view that are drawn beyond its edges; more islands than MOST_SMOOTH are drawn without smoothing
RIM, MOST_SMOOTH = 0.25, 4000
#: more places than this take a moment to move
MANY = 500
#: lenses of densities, and all that figures of islands are needed for
DENSITIES = ("density", "light density")
#: of what is chosen, 0 to 255
FAINT = 14
FIGURED = (*DENSITIES, "stretch", "overlap")
#: milliseconds without panning after which the sheet is drawn anew
SETTLE = 120
#: arrow keys move by one texel, with Shift by so many
FAR = 16
NUDGES = {Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, -1), Qt.Key.Key_Down: (0, 1)}


class IslandFigures:
    """What was measured of a layout's islands; empty until it is."""

    def __init__(self, layout: Layout) -> None:
        self.layout = layout
        self.density = self.stretch = self.conflict = np.zeros(0)


def _scaled(ratio: float) -> QColor:
    red, green, blue = scale_colors(np.array([ratio]))[0]
    return QColor.fromRgbF(red, green, blue)


class SheetView(QWidget):
    """Pans with the middle button, zooms at the pointer with the wheel; islands are chosen and dragged."""

    def __init__(self, workspace: Workspace, theme: Theme, hand: IslandEditor) -> None:
        super().__init__()
        self.workspace = workspace
        self.hand = hand
        self.mouse = SheetMouse(self)
        self.theme = theme
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Sheet")
        self.setMinimumSize(160, 160)
        self.drawn: Drawn | None = None
        #: the layout that is being made, while it is
        self.live: Layout | None = None
        self.scale = 0.1
        self.offset = QPointF(0, 0)
        self._layout: Layout | None = None
        self._densities: tuple[Layout | None, dict[str, float]] = (None, {})
        self._fitted = False
        self._size = (0, 0)
        self._moved = False
        self._cache: tuple[tuple, QImage, QPointF] | None = None
        self._version = 0
        self.lens = SheetLens(workspace, theme, self._changed)
        self._figures: IslandFigures | None = None
        self._filling = QTimer(self, interval=0)
        self._filling.timeout.connect(self._fill_some)
        self._settling = QTimer(self, singleShot=True, interval=SETTLE)
        self._settling.timeout.connect(self.settle)
        self.map = SheetMap(workspace)
        self.map.changed.connect(self._changed)
        self.bar = MapBar(workspace, self.map, self)
        hand.changed.connect(self.update)
        workspace.live_changed.connect(self.refresh)
        workspace.theme_changed.connect(self._forget_picture)
        workspace.document_changed.connect(lambda *_: self._refresh_soon())
        workspace.selection_changed.connect(self.refresh)
        workspace.hover_changed.connect(self.update)
        workspace.view_changed.connect(self.refresh)
        workspace.preview_changed.connect(self.update)

    # -- what is shown ----------------------------------------------------------------------------------------

    @property
    def islands(self) -> list[Island]:
        """The places as they are drawn."""
        return self.drawn.islands if self.drawn is not None else []

    def _refresh_soon(self) -> None:
        """Take in a change: at once, but large sheets in a turn of the event loop of their own."""
        if len(self.islands) > MANY:
            QTimer.singleShot(0, self.refresh)
        else:
            self.refresh()

    def refresh(self) -> None:
        """Take in the present bundle, its layout and its map."""
        bundle = self.workspace.bundle
        layout = bundle.layout if bundle is not None and bundle.layout and bundle.layout.scale > 0 else None
        layout = self.workspace.light_layout or layout
        self.live = self.workspace.live.get(bundle.identity) if bundle is not None else None
        layout = self.live or layout
        if layout is not self._layout:
            same = (
                layout and self._layout and (layout.width, layout.height) == (self._layout.width, self._layout.height)
            )
            self._layout = layout
            self._version += 1
            self._show(layout)
            if not same:
                self._fitted = False
        if not self.mouse.panning:
            self._cache = None
        self.map.want()
        self.bar.refresh()
        self._want_figures()
        self.update()

    def _show(self, layout: Layout | None) -> None:
        """Draw another layout: by moving what is drawn when that is all that changed, else anew."""
        if layout is None:
            self.drawn = None
        elif self.drawn is not None and self.drawn.fits(layout):
            before = self.drawn.layout
            self.drawn.follow(layout)
            if self.live is None and before.surfaces is not layout.surfaces:
                self._want_outlines()
        else:
            self.drawn = None
            self._want_outlines()

    def _want_outlines(self) -> None:
        layout = self._layout

        def take(outlines: list[Outline]) -> None:
            now = self._layout
            if layout is None or now is None:
                return
            drawn = Drawn(layout, outlines)
            if now is layout or drawn.fits(now):
                if now is not layout:
                    drawn.follow(now)
                drawn.fill()
                self.drawn = drawn
                self._filling.start()
                self._changed()

        self.workspace.viewer.runner.submit("Outline islands", island_outlines, layout, finished=take)

    def _fill_some(self) -> None:
        """Make some more paths, between events."""
        if self.drawn is None or not self.drawn.fill():
            self._filling.stop()
            self._changed()

    def _changed(self) -> None:
        self._version += 1
        self._cache = None
        self.update()

    def _want_figures(self) -> None:
        """Have the islands measured when the lens needs it."""
        layout, lens = self._layout, self.workspace.lens
        if layout is None or self.live is not None or lens not in FIGURED:
            return
        if self._figures is not None and self._figures.layout is layout:
            return
        figures = self._figures = IslandFigures(layout)

        def take(found: tuple[np.ndarray, np.ndarray, np.ndarray]) -> None:
            figures.density, figures.stretch, figures.conflict = found
            self._changed()

        bundle = self.workspace.bundle
        if bundle is None:
            return
        scene = self.workspace.document.scene
        scene = scene if self.workspace.light_layout is layout else resolve_bundle(scene, bundle).scene
        task = Task(Kind.MEASURE, "Measure islands", measure_islands, (scene, layout), part="islands")
        self.workspace.run(task, take, anew=True)

    def sheet_size(self) -> tuple[int, int]:
        """Return the size of all tiles in texels: the layout's, else the settings'."""
        if self._layout is not None:
            return self._layout.across, self._layout.height
        bundle = self.workspace.bundle
        return (bundle.sheet.width * bundle.sheet.tiles, bundle.sheet.height) if bundle else (1, 1)

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
        boxes = [island.box for island in self.islands if island.place in self.hand.places]
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

    def island_at(self, point: QPointF) -> Island | None:
        """Return the island under a point of the widget."""
        return self.drawn.at(self.to_sheet(point)) if self.drawn is not None else None

    def within(self, area: QRectF) -> list[Island]:
        """Return the islands that a rectangle, in texels, meets."""
        return self.drawn.within(area) if self.drawn is not None else []

    def point_at(self, point: QPointF) -> None:
        """Take note of what the pointer is over."""
        island = self.island_at(point)
        key = island.keys[0] if island is not None else ""
        if island is not None and self.workspace.hovered in island.keys:
            key = self.workspace.hovered
        self.workspace.hover(key)

    def pan_to(self, offset: QPointF) -> None:
        """Move the sheet about; what is drawn follows at once, and is drawn anew when it rests."""
        self.offset, self._moved = offset, True
        self._settling.start()

    def settle(self) -> None:
        """Draw anew what was only pushed about."""
        self._settling.stop()
        self._cache = None
        self.update()

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
                else "Not packed yet.\nPress Pack (Ctrl+Return)."
            )
            if not empty and resolve_bundle(self.workspace.document.scene, bundle).bare:
                words = "All materials of this bundle are kept apart.\nIt needs no sheet."
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
            self.workspace.lens,
            self._version,
            self.map.key,
            self.workspace.mip,
            bool(self.map.images()),
            self.mouse.carried is not None and self.mouse.carried.places,
        )
        # a rim around the view, so that panning has something to show
        rim = QPointF(self.width(), self.height()) * RIM
        resting = not self._settling.isActive()
        away = self.offset - self._cache[2] if self._cache is not None else rim
        gone = abs(away.x()) > rim.x() or abs(away.y()) > rim.y()
        if self._cache is None or self._cache[0] != key or gone or (resting and not away.isNull()):
            image = QImage(
                int((self.width() + 2 * rim.x()) * ratio),
                int((self.height() + 2 * rim.y()) * ratio),
                QImage.Format.Format_RGB32,
            )
            image.setDevicePixelRatio(ratio)
            image.fill(QColor(self.theme.view))
            inner = QPainter(image)
            inner.setRenderHint(QPainter.RenderHint.Antialiasing, len(self.islands) < MOST_SMOOTH)
            inner.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
            at, self.offset = self.offset, self.offset + rim
            self._paint_sheet(inner, bundle)
            self.offset = at
            inner.end()
            self._cache = (key, image, QPointF(at))
        painter.drawImage(self.offset - self._cache[2] - rim, self._cache[1])

    def _paint_sheet(self, painter: QPainter, bundle: Bundle) -> None:
        width, height = self.sheet_size()
        sheet = QRectF(self.to_widget(0, 0), self.to_widget(width, height))
        painter.fillRect(sheet, QColor(self.theme.panel))
        carried = self.mouse.carried.places if self.mouse.carried is not None else frozenset()
        area = QRectF(0, 0, painter.device().width(), painter.device().height())
        shown = self._in_view(area, carried)
        images = self.map.images()
        lens = self.workspace.lens
        shows_map = bool(images) and lens in MAP_LENSES
        painter.setTransform(QTransform(self.scale, 0, 0, self.scale, self.offset.x(), self.offset.y()))
        if self._layout is not None and not shows_map:
            halo = QColor(self.theme.raised)
            painter.setPen(
                QPen(
                    halo,
                    self._layout.padding,
                    Qt.PenStyle.SolidLine,
                    Qt.PenCapStyle.SquareCap,
                    Qt.PenJoinStyle.BevelJoin,
                )
            )
            painter.setBrush(halo)
            if self._layout.padding * self.scale >= 1.0:
                for island in shown:
                    painter.drawPath(island.path)
        if shows_map and images:
            self.map.paint(painter, width, height, self.scale)
        line = QPen(QColor(255, 255, 255, 90) if shows_map else QColor(self.theme.text), 0)
        line.setCosmetic(True)
        pinned = self._layout.pinned if self._layout is not None else None
        hatched = lens == "way"
        for island in shown:
            painter.setPen(line)
            painter.setBrush(Qt.BrushStyle.NoBrush if shows_map else self._island_color(bundle, island))
            painter.drawPath(island.path)
            if hatched:
                self.lens.hatch(painter, island)
        painter.resetTransform()
        if lens == "mixing":
            self.lens.paint_mixing(painter, sheet)
        if lens == "blocks":
            self.lens.paint_blocks(painter, sheet)
        if lens == "missed":
            self.lens.paint_missed(painter, sheet)
        if pinned is not None and pinned.any():
            self._paint_pins(painter, [island for island in shown if pinned[island.islands[0]]])
        painter.setPen(QPen(QColor(self.theme.line), 1))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(sheet)
        tiles = self._layout.tiles if self._layout is not None else bundle.sheet.tiles
        for tile in range(1, tiles):
            x = self.to_widget(width * tile / tiles, 0).x()
            painter.drawLine(QPointF(x, sheet.top()), QPointF(x, sheet.bottom()))

    def _in_view(self, area: QRectF, carried: frozenset[int]) -> list[Island]:
        """Return the islands that a picture of that size shows, without those that are being carried."""
        if self.drawn is None:
            return []
        own = self.drawn.boxes
        low = self.to_sheet(area.topLeft())
        high = self.to_sheet(area.bottomRight())
        met = (own[:, 0] <= high.x()) & (own[:, 2] >= low.x()) & (own[:, 1] <= high.y()) & (own[:, 3] >= low.y())
        return [
            self.islands[place]
            for place in np.flatnonzero(met).tolist()
            if place < len(self.islands) and place not in carried
        ]

    def _paint_pins(self, painter: QPainter, islands: list[Island]) -> None:
        """Mark pinned islands: a round head with a dark rim."""
        painter.setPen(QPen(QColor(self.theme.view), 1.5))
        painter.setBrush(QColor(self.theme.accent))
        for island in islands:
            middle = island.box.center()
            painter.drawEllipse(self.to_widget(middle.x(), middle.y()), 4.5, 4.5)

    def _island_color(self, bundle: Bundle, island: Island) -> QColor:
        lens, layout, figures = self.workspace.lens, self._layout, self._figures
        first = island.islands[0]
        if lens == "object":
            return object_color(island.keys[0])
        if lens in OF_OBJECTS:
            return self.lens.color(island)
        if lens == "moved" and layout is not None:
            return QColor(self.theme.accent) if layout.moved[first] else QColor(self.theme.island)
        if layout is None or figures is None or figures.layout is not layout or not len(figures.density):
            return QColor(self.theme.island)
        if lens in DENSITIES and not self.workspace.document.scene.has(island.keys[0]):
            # a patch has the density of whoever reads it
            return QColor(self.theme.island)
        if lens in DENSITIES:
            # a light sheet has shares of its own, by how light varies
            target = layout.scale * (bundle.share(island.keys[0]) if lens == "density" else 1.0)
            return _scaled(figures.density[first] / max(target, 1e-9))
        if lens == "stretch":
            return _scaled(figures.stretch[first])
        if lens == "overlap" and figures.conflict[island.place]:
            return QColor(self.theme.broken if figures.conflict[island.place] > 1 else self.theme.accent)
        return QColor(self.theme.island)

    def _paint_marks(self, painter: QPainter) -> None:
        base = QTransform(self.scale, 0, 0, self.scale, self.offset.x(), self.offset.y())
        painter.setTransform(base)
        chosen, carried = self.hand.places, self.mouse.carried
        if carried is not None:
            self._paint_carried(painter, carried)
        elif chosen or self.workspace.hovered:
            for island in self._in_view(QRectF(self.rect()), frozenset()):
                strong = island.place in chosen
                if strong or self.workspace.hovered in island.keys:
                    self._mark(painter, island, QColor(self.theme.accent), strong)
        painter.resetTransform()
        self._paint_fields(painter)
        if self.mouse.rubber is not None:
            tint = QColor(self.theme.accent)
            painter.setPen(QPen(tint, 1))
            tint.setAlpha(30)
            painter.setBrush(tint)
            painter.drawRect(QRectF(*self.mouse.rubber).normalized())

    def _paint_fields(self, painter: QPainter) -> None:
        """Draw the trims of a given sheet with their names, or the borders of its cells."""
        bundle = self.workspace.bundle
        given = bundle.given if bundle is not None else None
        if given is None or self._layout is None:
            return
        font = painter.font()
        font.setPixelSize(11)
        painter.setFont(font)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        names = [trim.name for trim in given.trims] or [""] * len(given.cells)
        for (x0, y0, x1, y1), name in zip(given.fields, names, strict=True):
            box = QRectF(self.to_widget(x0, y0), self.to_widget(x1, y1))
            for color, wide, style in (
                (self.theme.view, 3.0, Qt.PenStyle.SolidLine),
                (self.theme.text, 1.0, Qt.PenStyle.DashLine),
            ):
                painter.setPen(QPen(QColor(color), wide if name else 1.0, style))
                painter.drawRect(box)
            if name:
                room = box.adjusted(4, 2, -4, -2)
                words = painter.fontMetrics().elidedText(name, Qt.TextElideMode.ElideRight, max(int(room.width()), 0))
                back = QRectF(room.topLeft(), QSizeF(painter.fontMetrics().horizontalAdvance(words) + 8, 16))
                painter.fillRect(back, QColor(self.theme.view))
                painter.setPen(QColor(self.theme.text))
                painter.drawText(back, Qt.AlignmentFlag.AlignCenter, words)

    @staticmethod
    def _mark(painter: QPainter, island: Island, tint: QColor, strong: bool) -> None:
        # an outline on a dark rim is seen on any map, and hides nothing of it; what is within is hardly tinted
        rim = QColor(0, 0, 0, 170)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for color, wide in ((rim, 4.2 if strong else 2.6), (tint, 2.4 if strong else 1.4)):
            pen = QPen(color, wide)
            pen.setCosmetic(True)
            painter.setPen(pen)
            painter.drawPath(island.path)
        faint = QColor(tint)
        faint.setAlpha(FAINT)
        painter.fillPath(island.path, faint)

    def _paint_carried(self, painter: QPainter, carried: Carried) -> None:
        """Paint the islands on their way, and what they would overlap or come too near to."""
        for places, color in ((carried.near, self.theme.accent), (carried.overlapped, self.theme.broken)):
            for place in places - {-1}:
                self._mark(painter, self.islands[place], QColor(color), True)
        bad = self.theme.broken if carried.overlapped else self.theme.accent if carried.near else self.theme.good
        painter.translate(carried.dx, carried.dy)
        for place in carried.places:
            self._mark(painter, self.islands[place], QColor(bad), True)

    def _paint_captions(self, painter: QPainter, bundle: Bundle) -> None:
        if self._layout is None and resolve_bundle(self.workspace.document.scene, bundle).bare:
            return
        width, height = self.sheet_size()
        font = painter.font()
        font.setPixelSize(11)
        painter.setFont(font)
        painter.setPen(QColor(self.theme.quiet))
        top = max(self.to_widget(0, 0).y() - 8, 14)
        left = max(self.to_widget(0, 0).x(), 8)
        layout = self._layout
        tiles = layout.tiles if layout is not None else bundle.sheet.tiles
        words = f"{bundle.name} · {width // tiles} × {height} px" + (f" · {tiles} tiles" if tiles > 1 else "")
        if layout is not None:
            words += f" · fill {layout.fill:.1%}" if self.live is not None else f" · fill {layout.fill:.0%}"
        document = self.workspace.shown
        if self.live is not None:
            words += " · packing …"
        elif layout_state(document, bundle) == STALE:
            words += " · layout stale"
        elif bake_state(document, bundle) == STALE:
            words += " · maps stale"
        painter.drawText(QPointF(left, top), words)
        below = min(self.to_widget(0, height).y() + 16, self.height() - 8 - (BAR if self.bar.isVisible() else 0))
        painter.drawText(QPointF(left, below), self._caption(bundle))
        self.lens.paint_legend(painter, QPointF(left, below + 16), self.width() - left)

    def _caption(self, bundle: Bundle) -> str:
        """Return what is said below the sheet: of what is carried, pointed at or chosen, else of the layout."""
        if self.mouse.carried is not None and self._layout is not None:
            return self.mouse.carried.words(self._layout.padding)
        key = self.workspace.hovered or (
            next(iter(self.workspace.selection)) if len(self.workspace.selection) == 1 else ""
        )
        if self._layout is not None and key in bundle.objects:
            count = sum(1 for island in self.islands if key in island.keys)
            shared = next((len(island.keys) for island in self.islands if key in island.keys), 1)
            words = f"{key} · {counted(count, 'island')}"
            if not count:
                work = resolve_bundle(self.workspace.document.scene, bundle)
                ways = dict.fromkeys(work.ways_of(self.workspace.document.scene, key))
                words = f"{key} · {', '.join(WAY_WORDS[way] for way in ways)}"
            if math.isfinite(density := self._density_of(key)):
                words += f" · {density_words(density)}"
            return words + (f" · {shared} twins on one place" if shared > 1 else "")
        layout = self._layout
        if (
            layout is None
            or layout.scale <= 0
            or self.live is not None
            or layout_state(self.workspace.document, bundle) != DONE
        ):
            return ""
        # those of the layout, even while their outlines are still being put together
        words = counted(layout.distinct, "island")
        if self.workspace.lens == "moved":
            stayed = int((~layout.moved).sum())
            return f"{stayed} of {len(layout.moved)} islands stayed where they were"
        if layout.on_given:
            return words + " · overlapping, allowed"
        if layout.border_gap < 0:
            return words + " · being verified"
        if layout.overlap > 0:
            return words + f" · overlapping on {layout.overlap:.1f} px²"
        # one alone has no other that it could come near to
        gap = f" · gap {layout.gap} px" if layout.gap >= 0 else ""
        words += f"{gap} · to the border {layout.border_gap} px"
        if math.isfinite(layout.gain) and layout.gain > 0.002:
            words += f" · a fresh layout: {layout.gain:+.1%} px/m"
        return words

    def _density_of(self, key: str) -> float:
        layout = self._layout
        if self._densities[0] is not layout:
            self._densities = (layout, {})
        known = self._densities[1]
        if layout is not None and key not in known:
            bundle = self.workspace.bundle
            scene, own = (
                (None, layout) if bundle is None else islands_alone(self.workspace.document.scene, bundle, layout)
            )
            present = scene is not None and any(key in surface.objects for surface in own.surfaces)
            known[key] = object_density(scene, own, key) if present and scene is not None else math.nan
        return known.get(key, math.nan)

    def _forget_picture(self) -> None:
        """Paint everything anew: its colours are others."""
        self._cache = None
        self.update()

    def _say(self, painter: QPainter, words: str) -> None:
        # on a ground of its own, since a small sheet's caption may lie in the middle, too
        room = painter.boundingRect(self.rect(), Qt.AlignmentFlag.AlignCenter, words).adjusted(-12, -8, 12, 8)
        painter.fillRect(room, QColor(self.theme.view))
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
        self.mouse.press(event)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        self.mouse.move(event)
        at = self.to_sheet(event.position())
        self.bar.point_at(at.x(), at.y(), self.sheet_size())

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self.mouse.release(event)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self.mouse.double(event)

    def leaveEvent(self, event: object) -> None:
        self.workspace.hover("")
        self.bar.point_at(-1, -1, self.sheet_size())

    def keyPressEvent(self, event: QKeyEvent) -> None:
        steps = {Qt.Key.Key_Plus: 1.25, Qt.Key.Key_Minus: 0.8}
        key = Qt.Key(event.key())
        if key in NUDGES and self.hand.places:
            by = FAR if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1
            self.hand.move(NUDGES[key][0] * by, NUDGES[key][1] * by, "Nudge")
        elif event.key() == Qt.Key.Key_Escape:
            if not self.mouse.cancel():
                self.hand.choose([])
            self.update()
        elif key in steps:
            middle = QPointF(self.width() / 2, self.height() / 2)
            new = min(max(self.scale * steps[key], 0.005), 64.0)
            self.offset = middle - (middle - self.offset) * (new / self.scale)
            self.scale, self._moved = new, True
            self.update()
        else:
            super().keyPressEvent(event)

    def resizeEvent(self, event: object) -> None:
        self.bar.setGeometry(0, self.height() - self.bar.height(), self.width(), self.bar.height())
        # what the artist has zoomed to stays; only a sheet that was shown whole is fitted again
        if not self._moved:
            QTimer.singleShot(0, self.fit)
