"""Layers in the model: they are shown while they change, and the chosen one has handles to move and turn it by."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QLineF, QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QMouseEvent, QPainter, QPen

from fasciculum.app.layers import Layers
from fasciculum.app.model.model_tools import REACH, ModelTools
from fasciculum.model.layers import Layer, LayerImage, LayerProjection

WORDS = "Drag the square to move the layer · drag the ring about it to turn it"
#: pixels from the square to the ring
AWAY = 46.0


def same(one: tuple[object, ...], two: tuple[object, ...]) -> bool:
    """Tell whether two tuples hold the same objects."""
    return len(one) == len(two) and all(a is b for a, b in zip(one, two, strict=True))


class LayerLens:
    """Hands layers to the drawing process, and takes hold of the chosen one."""

    def __init__(self, tools: ModelTools, layers: Layers, ask: Callable[[], None]) -> None:
        self.tools, self.layers, self._ask = tools, layers, ask
        self._shown: tuple[object, ...] = ()
        self._held = ""
        layers.changed.connect(self._changed)
        layers.moved.connect(self._changed)

    def _changed(self) -> None:
        """Have a picture drawn where the layers are others than those that are drawn."""
        if not same(self._now(), self._shown):
            self._ask()

    def _now(self) -> tuple[object, ...]:
        return self.layers.stack, self.layers.pictures, self.tools.view.workspace.document.scene.objects

    def to_send(self) -> tuple[tuple[Layer, ...], dict[LayerImage, str]] | None:
        """Return the layers and their pictures for the next picture, None when it has them already."""
        now = self._now()
        if same(now, self._shown) or (not self._shown and not self.layers.stack):
            return None
        self._shown = now
        return self.layers.stack, self.layers.pictures

    def forget(self) -> None:
        """Send all again: the drawing process has begun anew."""
        self._shown = ()

    # -- handles ----------------------------------------------------------------------------------------------

    @property
    def on(self) -> bool:
        """Whether there are handles: of the chosen layer, while layers are worked on."""
        workspace, layer = self.tools.view.workspace, self.layers.layer
        return (
            self.layers.working
            and workspace.stage == "gather"
            and workspace.lens == "colour"
            and workspace.side != "result"
            and layer is not None
            and bool(layer.images)
            and layer.projection is not LayerProjection.UV0
        )

    def _middle(self) -> np.ndarray | None:
        """Return the middle of the first object that the chosen layer lies on, in the world."""
        layer, scene = self.layers.layer, self.tools.view.workspace.document.scene
        for item in scene.objects:
            if layer is not None and layer.lies_on(item.key):
                world = scene.nodes[item.node].world
                points = np.concatenate([one.positions for one in scene.primitives_of(item)]).astype(np.float64)
                result: np.ndarray = world[:3, :3] @ ((points.min(axis=0) + points.max(axis=0)) / 2) + world[:3, 3]
                return result
        return None

    def handles(self) -> dict[str, QPointF]:
        """Return where the handles are in the widget."""
        middle = self._middle() if self.on else None
        if middle is None:
            return {}
        ((x, y),) = self.tools.on_widget(middle[None]).tolist()
        if not math.isfinite(x):
            return {}
        layer = self.layers.layer
        angle = math.radians(layer.turn if layer is not None else 0.0)
        return {"move": QPointF(x, y), "turn": QPointF(x + AWAY * math.cos(angle), y - AWAY * math.sin(angle))}

    def press(self, event: QMouseEvent) -> bool:
        """Take hold of a handle; False when there is none."""
        if event.button() != Qt.MouseButton.LeftButton:
            return False
        for name, place in self.handles().items():
            if QLineF(place, event.position()).length() <= REACH:
                self._held = name
                return True
        return False

    def move(self, point: QPointF, before: QPointF) -> bool:
        """Drag the handle that is held; False when none is."""
        layer, place = self.layers.layer, self.handles().get("move")
        if not self._held or layer is None or place is None:
            return False
        if self._held == "turn":
            way = point - place
            turn = math.degrees(math.atan2(-way.y(), way.x())) % 360.0
            self.layers.show("Turn the layer", held=True, turn=round(turn, 1))
            return True
        middle = self._middle()
        camera, view = self.tools.view.camera, self.tools.view
        assert middle is not None
        depth = float((camera.eye() - middle) @ camera.backward())
        texel = 2 * depth * math.tan(math.radians(camera.field_of_view) / 2) / max(view.height(), 1)
        size = texel / (layer.metres or 1.0)
        right, down = (point.x() - before.x()) * size, (point.y() - before.y()) * size
        # what is dragged to the right is read further left; turned as the picture is
        c, s = math.cos(math.radians(layer.turn)), math.sin(math.radians(layer.turn))
        u, v = c * right - s * down, s * right + c * down
        self.layers.show("Move the layer", held=True, offset=(layer.offset[0] - u, layer.offset[1] - v))
        return True

    def release(self) -> bool:
        """Let go of the handle that is held; False when none was."""
        if not self._held:
            return False
        self._held = ""
        self.layers.keep()
        return True

    def paint(self, painter: QPainter) -> None:
        """Draw the handles."""
        places = self.handles()
        if not places:
            return
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        theme = self.tools.view.theme
        middle, ring = places["move"], places["turn"]
        for color, wide in ((theme.view, 4.0), (theme.accent, 1.6)):
            painter.setPen(QPen(QColor(color), wide))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawLine(middle, ring)
            painter.drawRect(QRectF(middle.x() - 6, middle.y() - 6, 12, 12))
            painter.drawEllipse(ring, 6, 6)
        self.tools.words(painter, WORDS)
