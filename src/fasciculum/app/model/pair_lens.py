"""Lenses of the model about pairs: lines between partners, the reach as a shell with handles, and what is missed."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np
from PySide6.QtCore import QLineF, QPointF, Qt
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPen

from fasciculum.app.colors import object_color, scale_colors
from fasciculum.app.model.model_tools import MOST_LINES, REACH, ModelTools
from fasciculum.app.pairs import Pairs
from fasciculum.app.workspace import Workspace
from fasciculum.baking.reaching import low_rows, world_corners
from fasciculum.baking.world import world_box
from fasciculum.model.detail import Handle, Pair, Span
from fasciculum.operations.check.missed import missed_parts
from fasciculum.session.tasks import Kind, Task
from fasciculum.uv.edges import hit

PAIRS, MISSED, SHELL = "pairs", "missed", "reach"
LENSES = (PAIRS, MISSED, SHELL)
WORDS = {
    SHELL: "Choose an object · double-click: add a ray distance handle · drag: outwards, Control: "
    "inwards · Delete: remove",
}


class PairLens:
    """What these lenses colour, draw and take hold of. ``changed`` is called when colours came in."""

    def __init__(self, workspace: Workspace, tools: ModelTools, pairs: Pairs, changed: Callable[[], None]) -> None:
        self.workspace, self.tools, self.pairs, self._changed = workspace, tools, pairs, changed
        self._missed: tuple[object, dict[str, np.ndarray]] = (None, {})
        self._shell: tuple[object, np.ndarray, np.ndarray, np.ndarray] | None = None
        #: which handle is held, and the handles as they are being dragged
        self._held = -1
        self._picked = -1
        self._dragged: tuple[Handle, ...] | None = None

    # -- colours ----------------------------------------------------------------------------------------------

    def colors(self, lens: str) -> dict[str, np.ndarray]:
        """Return the colours of objects; those that are not told are dimmed."""
        document = self.workspace.document
        detail = document.scene.detail
        results: dict[str, np.ndarray] = {}
        if detail is None:
            return results
        if lens == MISSED:
            return {key: scale_colors(1.0 + 3.0 * part) for key, part in self._missed_parts().items() if len(part)}
        for pair in detail.pairs:
            color = object_color(pair.low).lighter(125)
            values = np.array([[color.redF(), color.greenF(), color.blueF()]])
            for key in (pair.low, *pair.high):
                results.setdefault(key, values)
        return results

    def _missed_parts(self) -> dict[str, np.ndarray]:
        """Return what is known of what is missed; have it found when it is not."""
        document = self.workspace.document
        about = id(document.scene), tuple(id(bundle.bake) for bundle in document.bundles)
        if self._missed[0] != about:
            self._missed = (about, {})
            for bundle in document.bundles:

                def take(found: dict[str, np.ndarray]) -> None:
                    if self._missed[0] == about:
                        self._missed[1].update(found)
                        self._changed()

                task = Task(
                    Kind.MEASURE,
                    "Find missed texels",
                    missed_parts,
                    (document.scene, bundle),
                    part=f"missed {bundle.identity}",
                )
                self.workspace.run(task, take, anew=True)
        return self._missed[1]

    # -- the shell --------------------------------------------------------------------------------------------

    @property
    def key(self) -> str:
        """The one object whose reach is shown, empty for none."""
        chosen = [key for key in self.workspace.selection if self.pairs.pair(key) is not None]
        return chosen[0] if len(chosen) == 1 else ""

    def handles(self) -> tuple[Handle, ...]:
        """Return the handles of the shown object, as they are being dragged."""
        pair = self.pairs.pair(self.key) if self.key else None
        return self._dragged if self._dragged is not None else (() if pair is None else pair.handles)

    def _rows(self) -> np.ndarray:
        """Return what the shown object is probed by, at its corners."""
        key = self.key
        pair = self.pairs.pair(key)
        scene, span = self.workspace.document.scene, self.pairs.reach_of(key)
        detail = scene.detail
        cage = detail.cage_of(pair) if detail is not None and pair is not None else None
        return low_rows(scene, key, span, self.handles(), cage)

    def shell(self) -> tuple[np.ndarray, np.ndarray, np.ndarray] | None:
        """Return the shown object's corners, and those of the shell outside and inside, (T, 3, 3); None without one."""
        key = self.key
        if not key:
            return None
        about = id(self.workspace.document.scene), key, self.handles(), self.pairs.reach_of(key)
        if self._shell is None or self._shell[0] != about:
            rows = self._rows()
            way = rows[..., 3:6]
            caged = rows[..., 6:7] < 0
            length = np.linalg.norm(way, axis=2, keepdims=True)
            unit = way / np.maximum(length, 1e-12)
            out = rows[..., :3] + np.where(caged, way, unit * rows[..., 6:7])
            self._shell = (about, rows[..., :3], out, rows[..., :3] - unit * rows[..., 7:8])
        return self._shell[1:]

    def _knobs(self) -> list[tuple[QPointF, np.ndarray]]:
        """Return where the handles are in the widget, and which way out is in the world."""
        key = self.key
        if not key or not self.handles():
            return []
        scene = self.workspace.document.scene
        world = scene.nodes[scene.object(key).node].world
        corners = world_corners(scene, scene.object(key)).reshape(-1, 3)
        ways = self._rows()[..., 3:6].reshape(-1, 3)
        results = []
        for handle in self.handles():
            place = world[:3, :3] @ np.array(handle.place) + world[:3, 3]
            nearest = int(((corners - place) ** 2).sum(axis=1).argmin())
            way = ways[nearest] / max(float(np.linalg.norm(ways[nearest])), 1e-12)
            ((x, y),) = self.tools.on_widget((place + way * handle.span[0])[None]).tolist()
            results.append((QPointF(x, y), way))
        return results

    # -- hands ------------------------------------------------------------------------------------------------

    def press(self, event: QMouseEvent) -> bool:
        """Take hold of a handle; False when there is none."""
        if self.workspace.lens != SHELL or event.button() != Qt.MouseButton.LeftButton:
            return False
        for number, (place, _) in enumerate(self._knobs()):
            if QLineF(place, event.position()).length() <= REACH:
                self._held = self._picked = number
                self._dragged = self.handles()
                return True
        return False

    def move(self, point: QPointF, before: QPointF, *, inwards: bool) -> bool:
        """Drag the handle that is held; False when none is."""
        if self._held < 0 or self._dragged is None:
            return False
        _, way = self._knobs()[self._held]
        handle = self._dragged[self._held]
        span = max(handle.span[0], 1e-4)
        # how far the knob moves in the widget for each metre outwards
        scene = self.workspace.document.scene
        world = scene.nodes[scene.object(self.key).node].world
        foot = world[:3, :3] @ np.array(handle.place) + world[:3, 3]
        (ax, ay), (bx, by) = self.tools.on_widget(np.stack([foot, foot + way])).tolist()
        ex, ey = bx - ax, by - ay
        square = ex * ex + ey * ey
        if square < 1.0:
            return True
        delta = ((point.x() - before.x()) * ex + (point.y() - before.y()) * ey) / square
        out, into = handle.span
        changed: Span = (out, max(into - delta, 0.0)) if inwards else (max(span + delta, 1e-4), into)
        held = list(self._dragged)
        held[self._held] = replace(handle, span=changed)
        self._dragged = tuple(held)
        return True

    def release(self) -> bool:
        """Let go of the handle that is held; False when none was."""
        if self._held < 0:
            return False
        handles, self._held, self._dragged = self._dragged or (), -1, None
        pair = self.pairs.pair(self.key)
        if pair is not None and handles != pair.handles:
            self.pairs.set_handles(self.key, handles)
        return True

    def double_click(self, event: QMouseEvent, key: str) -> bool:
        """Put a handle on the corner of the shown object that is nearest; False when it was not clicked."""
        if self.workspace.lens != SHELL or not self.key or key != self.key:
            return False
        scene = self.workspace.document.scene
        item = scene.object(key)
        corners = world_corners(scene, item)
        result = hit(corners, *self.tools.ray(event.position()))
        if result is None:
            return False
        triangle, point = result
        nearest = corners[triangle][((corners[triangle] - point) ** 2).sum(axis=1).argmin()]
        back = np.linalg.pinv(scene.nodes[item.node].world)
        x, y, z = (back[:3, :3] @ nearest + back[:3, 3]).tolist()
        handle = Handle((x, y, z), self.pairs.reach_of(key))
        self.pairs.set_handles(key, (*self.handles(), handle), f"Add a ray distance handle to {key}")
        return True

    def key_press(self, event: QKeyEvent) -> bool:
        """Take the handle away that was last held; False when there is none."""
        if self.workspace.lens != SHELL or event.key() not in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
            return False
        handles = self.handles()
        if not handles:
            return False
        gone = self._picked if 0 <= self._picked < len(handles) else len(handles) - 1
        left = tuple(handle for number, handle in enumerate(handles) if number != gone)
        self._picked = -1
        self.pairs.set_handles(self.key, left, f"Remove a ray distance handle from {self.key}")
        return True

    # -- painting ---------------------------------------------------------------------------------------------

    def paint(self, painter: QPainter) -> None:
        """Draw lines between partners, or the shell."""
        lens = self.workspace.lens
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if lens == PAIRS:
            self._paint_pairs(painter)
        elif lens == SHELL:
            self._paint_shell(painter)
            self.tools.words(painter, WORDS[SHELL])

    def _paint_pairs(self, painter: QPainter) -> None:
        scene = self.workspace.document.scene
        detail = scene.detail
        for pair in detail.pairs if detail is not None else ():
            if not scene.has(pair.low):
                continue
            assert detail is not None
            ends = [np.mean(world_box(scene, [pair.low]), axis=0)]
            ends += [np.mean(world_box(detail.scene, [key]), axis=0) for key in pair.high]
            on_screen = self.tools.on_widget(np.array(ends))
            if not np.isfinite(on_screen).all():
                continue
            self._paint_pair(painter, pair, [QPointF(x, y) for x, y in on_screen.tolist()])

    def _paint_pair(self, painter: QPainter, pair: Pair, places: list[QPointF]) -> None:
        theme = self.tools.view.theme
        chosen = not self.workspace.selection or pair.low in self.workspace.selection
        color = object_color(pair.low).lighter(140)
        color.setAlpha(255 if chosen else 80)
        for place in places[1:]:
            painter.setPen(QPen(QColor(theme.view), 4.0))
            painter.drawLine(places[0], place)
            painter.setPen(QPen(color, 2.0))
            painter.drawLine(places[0], place)
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawEllipse(place, 6, 6)
        painter.setPen(QPen(QColor(theme.view), 1.0))
        painter.setBrush(color)
        painter.drawEllipse(places[0], 4, 4)

    def _paint_shell(self, painter: QPainter) -> None:
        result = self.shell()
        if result is None:
            return
        theme = self.tools.view.theme
        _, out, into = result
        quiet = QColor(theme.quiet)
        quiet.setAlpha(150)
        outer = QColor(theme.accent)
        outer.setAlpha(170)
        for corners, color in ((into, quiet), (out, outer)):
            ends = np.stack([corners, np.roll(corners, -1, axis=1)], axis=2).reshape(-1, 2, 3)[:MOST_LINES]
            on_screen = self.tools.on_widget(ends.reshape(-1, 3)).reshape(-1, 4)
            seen = np.isfinite(on_screen).all(axis=1)
            painter.setPen(QPen(color, 1.0))
            painter.drawLines([QLineF(*row) for row in on_screen[seen].tolist()])
        painter.setPen(QPen(QColor(theme.view), 1.5))
        for number, (place, _) in enumerate(self._knobs()):
            painter.setBrush(QColor(theme.text if number == self._picked else theme.accent))
            painter.drawRect(int(place.x()) - 6, int(place.y()) - 6, 12, 12)
