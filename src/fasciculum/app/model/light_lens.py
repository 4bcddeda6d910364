"""The lens of light: the source as it looks in it, lamps with their handles, and the hand on these."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import replace

import numpy as np
from PySide6.QtCore import QLineF, QObject, QPointF, QRectF, Qt, QTimer
from PySide6.QtGui import QColor, QImage, QKeyEvent, QMouseEvent, QPainter, QPen

from fasciculum.app.lights import Lights
from fasciculum.app.model.model_tools import REACH, ModelTools
from fasciculum.app.workspace import Workspace
from fasciculum.baking.world import diagonal_of
from fasciculum.model.lighting import Lamp, LampKind, triple
from fasciculum.units import linear_to_srgb

LIGHT = "light"
WORDS = "Drag a light · Control: up and down · Delete: reset or remove · drag a spot's ring to aim it"
#: parts of the scene's diagonal: how far off a sun's handle stands, and a spot's ring
FAR, TIP = 0.55, 0.16
#: milliseconds that the camera rests before the source is seen in its light
REST = 200


class LightLens:
    """What this lens draws over the model and takes hold of. ``changed`` is called when a picture came in."""

    def __init__(
        self,
        workspace: Workspace,
        tools: ModelTools,
        lights: Lights,
        changed: Callable[[], None],
        view: QObject,
    ) -> None:
        self.workspace, self.tools, self.lights, self._changed = workspace, tools, lights, changed
        self._held: tuple[str, bool] | None = None
        self._image: tuple[object, QImage] | None = None
        self._rest = QTimer(view, singleShot=True, interval=REST)
        self._rest.timeout.connect(self._look)
        lights.seen.connect(changed)
        lights.changed.connect(changed)

    @property
    def on(self) -> bool:
        """Whether the lens is on."""
        return self.workspace.lens == LIGHT

    # -- the source in its light ------------------------------------------------------------------------------

    def want(self) -> None:
        """Have the source seen from where the camera comes to rest."""
        if self.on and self.workspace.side != "result" and self.workspace.document.scene.objects:
            self._rest.start()
        else:
            self._rest.stop()
            self.lights.look_away()

    def _look(self) -> None:
        view = self.tools.view
        self.lights.look(view.camera, view.width(), view.height())

    def _picture(self) -> QImage | None:
        sight, stops = self.lights.sight, self.lights.stops
        if sight is None:
            return None
        about = id(sight), stops
        if self._image is None or self._image[0] != about:
            seen, hit = sight.picture(2.0**stops)
            shown = np.concatenate([linear_to_srgb(np.clip(seen / np.maximum(hit, 1e-6), 0, 1)), hit], axis=2)
            pixels = np.round(np.clip(shown, 0, 1) * 255).astype(np.uint8)
            height, width = pixels.shape[:2]
            image = QImage(pixels.tobytes(), width, height, width * 4, QImage.Format.Format_RGBA8888).copy()
            self._image = (about, image)
        return self._image[1]

    # -- handles ----------------------------------------------------------------------------------------------

    def _scale(self) -> tuple[np.ndarray, float]:
        low, high = self.lights.box()
        return (low + high) / 2, diagonal_of((low, high))

    def handles(self) -> list[tuple[str, bool, np.ndarray]]:
        """Return the handles: each lamp's key, whether it is a spot's ring, and its place in the world."""
        middle, size = self._scale()
        results = []
        for lamp in self.lights.lamps():
            if lamp.kind is LampKind.SUN:
                results.append((lamp.key, False, middle - np.array(lamp.direction) * FAR * size))
                continue
            results.append((lamp.key, False, np.array(lamp.place)))
            if lamp.kind is LampKind.SPOT:
                results.append((lamp.key, True, np.array(lamp.place) + np.array(lamp.direction) * TIP * size))
        return results

    def on_widget(self) -> list[tuple[str, bool, QPointF]]:
        """Return the handles where they are in the widget."""
        handles = self.handles()
        if not handles:
            return []
        places = self.tools.on_widget(np.array([place for _, _, place in handles]))
        return [
            (key, ring, QPointF(x, y))
            for (key, ring, _), (x, y) in zip(handles, places.tolist(), strict=True)
            if math.isfinite(x)
        ]

    def press(self, event: QMouseEvent) -> bool:
        """Take hold of a handle; False when there is none."""
        if not self.on or event.button() != Qt.MouseButton.LeftButton:
            return False
        for key, ring, place in reversed(self.on_widget()):
            if QLineF(place, event.position()).length() <= REACH:
                self._held = (key, ring)
                self.lights.choose(key)
                return True
        return False

    def move(self, point: QPointF, before: QPointF, *, upwards: bool) -> bool:
        """Drag the handle that is held; False when none is."""
        if self._held is None:
            return False
        key, ring = self._held
        lamp = self.lights.lamp(key)
        place = next((place for other, kind, place in self.handles() if (other, kind) == (key, ring)), None)
        if lamp is None or place is None:
            return True
        middle, size = self._scale()
        moved = self._beside(place, point, before)
        if lamp.kind is LampKind.SUN:
            way = self._on_ball(point, middle, FAR * size)
            self.lights.drag(replace(lamp, direction=triple((middle - way) / max(np.linalg.norm(middle - way), 1e-9))))
        elif ring:
            way = moved - np.array(lamp.place)
            length = float(np.linalg.norm(way))
            if length > 1e-9:
                self.lights.drag(replace(lamp, direction=triple(way / length)))
        else:
            if upwards:
                moved[[0, 2]] = place[[0, 2]]
            self.lights.drag(replace(lamp, place=triple(moved)))
        return True

    def _beside(self, place: np.ndarray, point: QPointF, before: QPointF) -> np.ndarray:
        """Return a place moved as the pointer was, at the same distance from the camera."""
        back = self.tools.view.camera.backward()
        ends = []
        for spot in (before, point):
            eye, way = self.tools.ray(spot)
            ends.append(eye + way * ((place - eye) @ back) / (way @ back))
        result: np.ndarray = place + ends[1] - ends[0]
        return result

    def _on_ball(self, point: QPointF, middle: np.ndarray, radius: float) -> np.ndarray:
        """Return where the line of sight meets a ball, or comes nearest to it, on the side of the camera."""
        eye, way = self.tools.ray(point)
        along = float((middle - eye) @ way)
        off = eye + way * along - middle
        square = radius * radius - float(off @ off)
        if square > 0:
            result: np.ndarray = eye + way * (along - math.sqrt(square))
            return result
        rim: np.ndarray = middle + off / max(float(np.linalg.norm(off)), 1e-9) * radius
        return rim

    def release(self) -> bool:
        """Let go of the handle that is held; False when none was."""
        if self._held is None:
            return False
        (key, ring), self._held = self._held, None
        self.lights.drop(f"Point {key}" if ring else f"Move {key}")
        return True

    def key_press(self, event: QKeyEvent) -> bool:
        """Take the chosen lamp away; False when there is none."""
        if not self.on or event.key() not in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace) or not self.lights.chosen:
            return False
        self.lights.remove()
        return True

    # -- painting ---------------------------------------------------------------------------------------------

    def paint_source(self, painter: QPainter, rect: QRectF) -> None:
        """Draw the source in its light over the part of the view that shows the source."""
        picture = self._picture() if self.on else None
        if picture is None:
            return
        view = QRectF(0, 0, self.tools.view.width(), self.tools.view.height())
        painter.save()
        painter.setClipRect(rect)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.drawImage(view, picture)
        painter.restore()

    def paint(self, painter: QPainter) -> None:
        """Draw the lamps and their handles."""
        if not self.on:
            return
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        theme = self.tools.view.theme
        middle, _ = self._scale()
        ((x, y),) = self.tools.on_widget(middle[None]).tolist()
        lamps = {lamp.key: lamp for lamp in self.lights.lamps()}
        places = {(key, ring): place for key, ring, place in self.on_widget()}
        for (key, ring), place in places.items():
            lamp = lamps[key]
            color = QColor(theme.accent if key == self.lights.chosen else theme.text)
            color.setAlpha(255 if lamp.on else 90)
            if lamp.kind is LampKind.SUN and math.isfinite(x):
                painter.setPen(QPen(color, 1.0, Qt.PenStyle.DotLine))
                painter.drawLine(place, QPointF(x, y))
            self._knob(painter, lamp, place, color, ring=ring)
            if ring and (key, False) in places:
                painter.setPen(QPen(color, 1.0))
                painter.drawLine(places[key, False], place)
        self._words(painter)

    def _knob(self, painter: QPainter, lamp: Lamp, place: QPointF, color: QColor, *, ring: bool) -> None:
        painter.setPen(QPen(QColor(self.tools.view.theme.view), 4))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawEllipse(place, 7, 7)
        painter.setPen(QPen(color, 2))
        if ring:
            painter.drawEllipse(place, 7, 7)
            return
        most = max(*lamp.color, 1e-9)
        shade = linear_to_srgb(np.array(lamp.color) / most)
        painter.setBrush(QColor.fromRgbF(*(float(part) for part in shade)) if lamp.on else Qt.BrushStyle.NoBrush)
        if lamp.kind is LampKind.SUN:
            painter.drawEllipse(place, 7, 7)
        else:
            painter.drawRect(QRectF(place.x() - 6, place.y() - 6, 12, 12))

    def _words(self, painter: QPainter) -> None:
        if self.lights.chosen or self.lights.lamps():
            self.tools.words(painter, WORDS)
