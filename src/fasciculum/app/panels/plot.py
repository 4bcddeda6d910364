"""The plot of plans: draw calls across, texture memory up; a mark for each plan that no other beats."""

from __future__ import annotations

import math
from collections.abc import Sequence

from PySide6.QtCore import QEvent, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPainterPath, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from fasciculum.app.look import Theme
from fasciculum.operations.plan.plan import Plan
from fasciculum.units import MIB

#: px: a mark's radius, how near the pointer must come, and the room for figures at the edges
RADIUS, NEAR, LEFT, BELOW, ABOVE, RIGHT = 5.0, 14.0, 34.0, 30.0, 10.0, 10.0
STEPS = (1, 2, 5)
#: memory below this is drawn here, MiB
LEAST = 0.01


def ticks(low: float, high: float) -> list[float]:
    """Return round numbers, 1, 2 and 5 times powers of ten, from low to high."""
    first, last = math.floor(math.log10(low)), math.ceil(math.log10(high))
    results = [step * 10.0**power for power in range(first, last + 1) for step in STEPS]
    return [value for value in results if low <= value <= high]


class PlanPlot(QWidget):
    """Marks for plans, one to be pointed at and taken.

    How full a mark is tells the sharpness that it keeps. The source is a ring, what stands now a square.
    """

    #: a plan is pointed at, or None; a plan was clicked
    pointed = Signal(object)
    clicked = Signal(object)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        self.plans: list[Plan] = []
        self.barred: list[bool] = []
        self.names: dict[int, str] = {}
        #: where names stand in the picture that is painted
        self._named: list[QRectF] = []
        self.source: tuple[float, float] | None = None
        self.now: tuple[float, float] | None = None
        self.at = -1
        self.setMinimumHeight(236)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("Plans: draw calls across, texture memory up")
        self.setToolTip(
            "One mark for each plan that no other plan beats: draw calls across, texture memory in MiB up; "
            "fuller marks are sharper. Lower left is better. Point at a mark to see its plan, click to apply"
            " it; by keyboard, use arrows and Return."
        )

    def show_plans(
        self,
        plans: Sequence[Plan],
        barred: Sequence[bool],
        names: dict[int, str],
        source: tuple[float, float] | None,
        now: tuple[float, float] | None,
    ) -> None:
        """Show plans, those that are barred in grey; ``source`` and ``now`` are draw calls and bytes."""
        self.plans, self.barred, self.names = list(plans), list(barred), names
        self.source, self.now = source, now
        if self.at >= len(self.plans):
            self.point(-1)
        self.update()

    # -- places -----------------------------------------------------------------------------------------------

    def _limits(self) -> tuple[float, float, float, float]:
        points = [(float(plan.draw_calls), float(plan.texture_bytes)) for plan in self.plans]
        points += [point for point in (self.source, self.now) if point is not None]
        calls = [max(one, 1.0) for one, _ in points] or [1.0]
        sizes = [max(two / MIB, LEAST) for _, two in points] or [1.0]
        return min(calls) / 1.25, max(calls) * 1.25, min(sizes) / 1.5, max(sizes) * 1.5

    def place(self, calls: float, size: float) -> QPointF:
        """Return where a number of draw calls and of bytes is drawn."""
        left, right, low, high = self._limits()
        across = math.log(max(calls, 1.0) / left) / math.log(right / left)
        up = math.log(max(size / MIB, LEAST) / low) / math.log(high / low)
        wide, tall = self.width() - LEFT - RIGHT, self.height() - ABOVE - BELOW
        return QPointF(LEFT + across * wide, ABOVE + (1 - up) * tall)

    def _place(self, plan: Plan) -> QPointF:
        return self.place(plan.draw_calls, plan.texture_bytes)

    # -- the hand ---------------------------------------------------------------------------------------------

    def point(self, number: int) -> None:
        """Point at a plan, or at none (-1)."""
        if number != self.at:
            self.at = number
            self.pointed.emit(self.plans[number] if 0 <= number < len(self.plans) else None)
            self.update()

    def _nearest(self, at: QPointF) -> int:
        away = [(self._place(plan) - at).manhattanLength() for plan in self.plans]
        number = min(range(len(away)), key=lambda one: away[one], default=-1)
        return number if number >= 0 and away[number] <= NEAR else -1

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        self.point(self._nearest(event.position()))

    def leaveEvent(self, event: QEvent) -> None:
        self.point(-1)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        number = self._nearest(event.position())
        if number >= 0 and event.button() == Qt.MouseButton.LeftButton:
            self.clicked.emit(self.plans[number])

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = {Qt.Key.Key_Right: 1, Qt.Key.Key_Up: 1, Qt.Key.Key_Left: -1, Qt.Key.Key_Down: -1}.get(event.key())  # type: ignore[call-overload]
        if step is not None and self.plans:
            self.point(max(0, min(self.at + step, len(self.plans) - 1)))
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and 0 <= self.at < len(self.plans):
            self.clicked.emit(self.plans[self.at])
        else:
            super().keyPressEvent(event)

    def focusOutEvent(self, event: QEvent) -> None:  # type: ignore[override]
        self.point(-1)

    # -- the picture ------------------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:
        self._named = []
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        font = painter.font()
        font.setPixelSize(10)
        painter.setFont(font)
        if not self.plans:
            painter.setPen(QColor(self.theme.quiet))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "Comparing plans …")
            return
        self._paint_axes(painter)
        self._paint_line(painter)
        for number, plan in enumerate(self.plans):
            self._paint_mark(painter, plan, number)
        if self.source is not None:
            painter.setPen(QPen(QColor(self.theme.text), 1.6))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawEllipse(self.place(*self.source), RADIUS + 2, RADIUS + 2)
            self._name(painter, self.place(*self.source), "source")
        if self.now is not None:
            middle = self.place(*self.now)
            painter.setPen(QPen(QColor(self.theme.accent), 1.8))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(middle.x() - 7, middle.y() - 7, 14, 14))
            self._name(painter, middle, "now")

    def _paint_axes(self, painter: QPainter) -> None:
        left, right, low, high = self._limits()
        quiet, line = QColor(self.theme.quiet), QPen(QColor(self.theme.line), 1)
        floor = self.height() - BELOW
        last = -100.0
        for value in ticks(left, right):
            x = self.place(value, MIB).x()
            painter.setPen(line)
            painter.drawLine(QPointF(x, ABOVE), QPointF(x, floor))
            if x - last > 22:
                painter.setPen(quiet)
                painter.drawText(QRectF(x - 20, floor + 2, 40, 12), Qt.AlignmentFlag.AlignHCenter, f"{value:g}")
                last = x
        last = 1e6
        for value in ticks(low, high):
            y = self.place(1, value * MIB).y()
            painter.setPen(line)
            painter.drawLine(QPointF(LEFT, y), QPointF(self.width() - RIGHT, y))
            if last - y > 14:
                painter.setPen(quiet)
                painter.drawText(QRectF(0, y - 6, LEFT - 4, 12), Qt.AlignmentFlag.AlignRight, f"{value:g}")
                last = y
        painter.setPen(quiet)
        painter.drawText(
            QRectF(LEFT, floor + 15, self.width() - LEFT - RIGHT, 13), Qt.AlignmentFlag.AlignRight, "draw calls"
        )
        painter.drawText(QRectF(2, floor + 15, 90, 13), Qt.AlignmentFlag.AlignLeft, "MiB up")

    def _paint_line(self, painter: QPainter) -> None:
        """Join the least memory that so many draw calls need: the front as seen from below."""
        path, least = QPainterPath(), math.inf
        for plan in sorted(self.plans, key=lambda one: (one.draw_calls, one.texture_bytes)):
            if plan.texture_bytes >= least:
                continue
            least = plan.texture_bytes
            if path.elementCount():
                path.lineTo(self._place(plan))
            else:
                path.moveTo(self._place(plan))
        painter.setPen(QPen(QColor(self.theme.quiet), 1))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPath(path)

    def _paint_mark(self, painter: QPainter, plan: Plan, number: int) -> None:
        middle, chosen = self._place(plan), number == self.at
        ink = QColor(self.theme.line if self.barred[number] else self.theme.text)
        size = RADIUS + (2 if chosen else 0)
        whole = QRectF(middle.x() - size, middle.y() - size, 2 * size, 2 * size)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(self.theme.panel))
        painter.drawEllipse(whole)
        # filled from below, as high as it is sharp
        painter.save()
        painter.setClipRect(QRectF(whole.x(), whole.bottom() - whole.height() * plan.point[2], 2 * size, 2 * size))
        painter.setBrush(ink)
        painter.drawEllipse(whole)
        painter.restore()
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(QColor(self.theme.accent) if chosen else ink, 2 if chosen else 1))
        painter.drawEllipse(whole)
        if number in self.names:
            self._name(painter, middle, self.names[number])

    def _name(self, painter: QPainter, middle: QPointF, words: str) -> None:
        wide = painter.fontMetrics().horizontalAdvance(words)
        x = middle.x() + 10 if middle.x() + 12 + wide < self.width() else middle.x() - 10 - wide
        metrics = painter.fontMetrics()
        box = QRectF(x, middle.y() - 9 - metrics.ascent(), wide, metrics.height())
        # names of marks that lie on one another stand below each other
        while any(box.intersects(other) for other in self._named):
            box.translate(0, metrics.height())
        self._named.append(box)
        painter.setPen(QColor(self.theme.text))
        painter.drawText(QPointF(box.x(), box.y() + metrics.ascent()), words)
