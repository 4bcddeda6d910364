"""What the mouse does on the sheet: choosing by click and rectangle, and dragging the chosen islands."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Protocol

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QMouseEvent

from fasciculum.app.sheet.island_editor import IslandEditor
from fasciculum.app.sheet.sheet_islands import Drawn, Island
from fasciculum.app.workspace import Workspace
from fasciculum.model.layout import Layout
from fasciculum.operations.lay_out.arrange import find_conflicts, moved, snapped
from fasciculum.operations.lay_out.onto import snapped_onto

#: pixels of the screen that the pointer moves before a press becomes a drag, and within which islands snap
DRAG, SNAP = 4, 9
MORE = Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier


@dataclass
class Carried:
    """Islands on their way: which, by how much, and what they meet there; -1 stands for the sheet's border."""

    places: frozenset[int]
    dx: float = 0.0
    dy: float = 0.0
    overlapped: set[int] = field(default_factory=set)
    near: set[int] = field(default_factory=set)
    #: on a given sheet: which trim would take them, and how
    onto: str = ""

    def words(self, padding: int) -> str:
        """Return how it stands, in words."""
        by = f"by {self.dx:+.1f}, {self.dy:+.1f} px"
        if self.onto:
            return f"{by} · {self.onto}"
        if self.overlapped:
            count = len(self.overlapped - {-1})
            islands = f"overlaps {count} island{'s' if count != 1 else ''}"
            return f"{by} · {islands if count else 'reaches over the border'}"
        if self.near:
            return f"{by} · closer than {padding} px to {'the border' if self.near == {-1} else 'others'}"
        return f"{by} · free"


class Seen(Protocol):
    """What the mouse needs of the view that it is over; points are in the view's pixels."""

    hand: IslandEditor
    workspace: Workspace
    live: Layout | None
    drawn: Drawn | None
    scale: float
    offset: QPointF

    def island_at(self, point: QPointF) -> Island | None: ...

    def within(self, area: QRectF) -> list[Island]: ...

    def to_sheet(self, point: QPointF) -> QPointF: ...

    def pan_to(self, offset: QPointF) -> None: ...

    def point_at(self, point: QPointF) -> None: ...

    def settle(self) -> None: ...

    def setCursor(self, shape: Qt.CursorShape) -> None: ...

    def unsetCursor(self) -> None: ...

    def update(self) -> None: ...


class SheetMouse:
    """Presses, moves and releases over the sheet."""

    def __init__(self, view: Seen) -> None:
        self.view = view
        self.carried: Carried | None = None
        self.rubber: tuple[QPointF, QPointF] | None = None
        self._pan: QPointF | None = None
        self._pressed: QPointF | None = None
        self._on = -1

    @property
    def busy(self) -> bool:
        """Whether something is being dragged."""
        return self._pan is not None or self.rubber is not None or self.carried is not None

    @property
    def panning(self) -> bool:
        """Whether the sheet is being moved about."""
        return self._pan is not None

    def press(self, event: QMouseEvent) -> None:
        view = self.view
        if event.button() == Qt.MouseButton.MiddleButton:
            self._pan = event.position() - view.offset
            view.setCursor(Qt.CursorShape.ClosedHandCursor)
        elif event.button() == Qt.MouseButton.LeftButton:
            self._pressed = event.position()
            island = None if view.hand.marking is not None else view.island_at(event.position())
            self._on = island.place if island is not None else -1
            if island is None:
                self.rubber = (event.position(), event.position())

    def move(self, event: QMouseEvent) -> None:
        view = self.view
        if self._pan is not None:
            view.pan_to(event.position() - self._pan)
        elif self.carried is not None:
            self._carry(event)
        elif self.rubber is not None:
            self.rubber = (self.rubber[0], event.position())
        elif self._pressed is not None:
            if (event.position() - self._pressed).manhattanLength() >= DRAG and self._on >= 0:
                self._pick_up(event)
        else:
            view.point_at(event.position())
            return
        view.update()

    def _pick_up(self, event: QMouseEvent) -> None:
        hand = self.view.hand
        if self._on not in hand.places:
            hand.choose([self._on])
        layout = hand.layout
        if layout is None or self.view.live is not None:
            return
        held = layout.held_places()
        if hand.places <= held:
            self.view.workspace.say("The chosen islands are pinned; unpin them first (H).")
            self._pressed = None
            return
        self.carried = Carried(hand.places - held)
        self._carry(event)

    def _carry(self, event: QMouseEvent) -> None:
        view, carried, drawn = self.view, self.carried, self.view.drawn
        layout = view.hand.layout
        if carried is None or drawn is None or layout is None or self._pressed is None:
            return
        by = event.position() - self._pressed
        dx, dy = by.x() / view.scale, by.y() / view.scale
        places = sorted(carried.places)
        if layout.on_given:
            carried.dx, carried.dy = dx, dy
            carried.onto = self._onto(layout, places, dx, dy)
            return
        if not event.modifiers() & Qt.KeyboardModifier.AltModifier:
            own = drawn.boxes[places]
            box = (
                float(own[:, 0].min()) + dx,
                float(own[:, 1].min()) + dy,
                float(own[:, 2].max()) + dx,
                float(own[:, 3].max()) + dy,
            )
            others = np.delete(drawn.boxes, places, axis=0)
            reach = SNAP / view.scale
            close = (others[:, 0] < box[2] + reach * 4) & (others[:, 2] > box[0] - reach * 4)
            close &= (others[:, 1] < box[3] + reach * 4) & (others[:, 3] > box[1] - reach * 4)
            more = snapped(box, others[close], layout.padding, reach)
            dx, dy = dx + more[0], dy + more[1]
        carried.dx, carried.dy = dx, dy
        carried.overlapped, carried.near = find_conflicts(layout, places, drawn.with_moved(places, dx, dy))

    def _onto(self, layout: Layout, places: list[int], dx: float, dy: float) -> str:
        """Return which trim takes islands that are moved so far, and how they would lie there."""
        bundle = self.view.hand.bundle
        if bundle is None or bundle.given is None or bundle.given.is_palette:
            return ""
        result = snapped_onto(moved(layout, places, dx, dy), bundle.given, layout)
        number = int(np.flatnonzero(np.isin(result.places, places))[0])
        a, b, _, c, d, _ = result.placements[number].tolist()
        stretch = np.linalg.svd(np.array([[a, b], [c, d]]), compute_uv=False)
        density = float(np.sqrt(abs(a * d - b * c)))
        name = bundle.given.trims[int(result.fields[number])].name
        return f"onto {name} · {density:.0f} px/m · stretch {stretch[0] / stretch[1]:.2f}"

    def release(self, event: QMouseEvent) -> None:
        view = self.view
        if event.button() == Qt.MouseButton.MiddleButton:
            self._pan = None
            view.unsetCursor()
            view.settle()
        elif event.button() == Qt.MouseButton.LeftButton:
            carried, rubber, pressed = self.carried, self.rubber, self._pressed
            self.carried = self.rubber = self._pressed = None
            more = bool(event.modifiers() & MORE)
            if carried is not None:
                if carried.dx or carried.dy:
                    view.hand.move(carried.dx, carried.dy)
            elif rubber is not None and (rubber[0] - rubber[1]).manhattanLength() >= DRAG:
                area = QRectF(view.to_sheet(rubber[0]), view.to_sheet(rubber[1])).normalized()
                if view.hand.marking is not None:
                    view.hand.marking(area)
                    return
                self._choose({island.place for island in view.within(area)}, more)
            elif pressed is not None:
                self._choose({self._on} if self._on >= 0 else set(), more)
        view.update()

    def _choose(self, places: set[int], more: bool) -> None:
        hand = self.view.hand
        hand.choose(hand.places ^ places if more else places)

    def double(self, event: QMouseEvent) -> None:
        """Choose the whole object of the island under the pointer."""
        if self.view.island_at(event.position()) is not None:
            self.view.hand.grow_to_objects()

    def cancel(self) -> bool:
        """Put down where it was what is being carried; False when nothing is."""
        had = self.carried is not None or self.rubber is not None
        self.carried = self.rubber = self._pressed = None
        return had
