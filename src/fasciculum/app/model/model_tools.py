"""The tools of the model view: picking edges and faces, handles of a projection, and how all of it is drawn."""

from __future__ import annotations

import math
from typing import Protocol

import numpy as np
from PySide6.QtCore import QLineF, QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPen, QPolygonF

from fasciculum.app.look import Theme
from fasciculum.app.model.shaper import EDGES, FACES, LOOK, PROJECTION, Shaper
from fasciculum.app.workspace import Workspace
from fasciculum.operations.lay_out.shaping import island_seams
from fasciculum.rendering.camera import Camera
from fasciculum.uv.edges import hit

#: pixels within which a handle is taken hold of
REACH = 11
#: edges that are drawn at most
MOST_LINES = 30_000
HANDLES = ("middle", "size", "turn")
WORDS = {
    EDGES: "Click an edge · Shift: path to it · Control: one more · L: edge loop · D: cut · J: join",
    FACES: "Click faces up to sharp edges · Control: more · Alt: single triangles · then choose a projection",
    PROJECTION: "Drag the square to move, the disc to scale, the ring to rotate · Return: apply · Escape: cancel",
}


class Seen(Protocol):
    """What the tools need of the view that they work in; points are in the view's pixels."""

    camera: Camera
    theme: Theme
    workspace: Workspace

    def object_at(self, point: QPointF) -> str: ...

    def width(self) -> int: ...

    def height(self) -> int: ...

    def setCursor(self, shape: Qt.CursorShape) -> None: ...

    def update(self) -> None: ...


class ModelTools:
    """What the mouse does in a model view while a tool is chosen, and what is drawn over the picture."""

    def __init__(self, view: Seen, shaper: Shaper) -> None:
        self.view, self.shaper = view, shaper
        shaper.camera = lambda: view.camera
        shaper.changed.connect(self._changed)
        self._handle = ""
        self._seams: tuple[object, str, np.ndarray] | None = None

    def _changed(self) -> None:
        cross = Qt.CursorShape.CrossCursor if self.picking else Qt.CursorShape.ArrowCursor
        self.view.setCursor(cross)
        self.view.update()

    @property
    def picking(self) -> bool:
        """Whether clicks pick edges or faces."""
        return self.shaper.tool in (EDGES, FACES)

    # -- from the world to the widget and back ----------------------------------------------------------------

    def on_widget(self, points: np.ndarray) -> np.ndarray:
        """Return points of the world, (N, 3), in the widget, (N, 2); NaN behind the camera."""
        width, height = max(self.view.width(), 1), max(self.view.height(), 1)
        matrix = self.view.camera.matrix(width / height).astype(np.float64)
        clip = points @ matrix[:, :3].T + matrix[:, 3]
        w = np.where(clip[:, 3] > 1e-9, clip[:, 3], np.nan)
        return np.stack([(clip[:, 0] / w * 0.5 + 0.5) * width, (0.5 - clip[:, 1] / w * 0.5) * height], axis=1)

    def ray(self, point: QPointF) -> tuple[np.ndarray, np.ndarray]:
        """Return where the line of sight through a point of the widget begins, and its direction."""
        camera = self.view.camera
        width, height = max(self.view.width(), 1), max(self.view.height(), 1)
        half = math.tan(math.radians(camera.field_of_view) / 2)
        right, up = camera.axes()
        across, along = (2 * point.x() / width - 1) * half * width / height, (1 - 2 * point.y() / height) * half
        way = right * across + up * along - camera.backward()
        return camera.eye(), way / np.linalg.norm(way)

    def _texel(self) -> float:
        """Return metres for each pixel at the projection's depth."""
        camera, projection = self.view.camera, self.shaper.projection
        assert projection is not None
        depth = float((camera.eye() - np.array(projection.origin)) @ camera.backward())
        return 2 * depth * math.tan(math.radians(camera.field_of_view) / 2) / max(self.view.height(), 1)

    # -- hands ------------------------------------------------------------------------------------------------

    def handles(self) -> dict[str, QPointF]:
        """Return where the handles of the projection that is being set are, in the widget."""
        projection = self.shaper.projection
        if projection is None:
            return {}
        middle, axes = np.array(projection.origin), np.array(projection.axes).reshape(3, 3)
        points = np.array([middle, middle + axes[0] * projection.size, middle + axes[1] * projection.size * 1.3])
        on_screen = self.on_widget(points)
        return {
            name: QPointF(x, y) for name, (x, y) in zip(HANDLES, on_screen.tolist(), strict=True) if math.isfinite(x)
        }

    def press(self, event: QMouseEvent) -> bool:
        """Take hold of a handle; False when there is none."""
        if event.button() != Qt.MouseButton.LeftButton:
            return False
        for name, place in reversed(self.handles().items()):
            if QLineF(place, event.position()).length() <= REACH:
                self._handle = name
                return True
        return False

    def move(self, point: QPointF, before: QPointF) -> bool:
        """Drag the handle that is held; False when none is."""
        projection = self.shaper.projection
        if not self._handle or projection is None:
            return False
        camera = self.view.camera
        right, up = camera.axes()
        middle = self.handles().get("middle", point)
        if self._handle == "middle":
            delta = (point - before) * self._texel()
            moved = np.array(projection.origin) + right * delta.x() - up * delta.y()
            self.shaper.move_projection(origin=(float(moved[0]), float(moved[1]), float(moved[2])))
        elif self._handle == "size":
            now, then = QLineF(middle, point).length(), max(QLineF(middle, before).length(), 1.0)
            self.shaper.move_projection(size=max(projection.size * now / then, 1e-6))
        else:
            one, two = before - middle, point - middle
            angle = math.atan2(one.x() * two.y() - one.y() * two.x(), one.x() * two.x() + one.y() * two.y())
            axes = np.array(projection.axes).reshape(3, 3) @ _about(camera.backward(), -angle).T
            self.shaper.move_projection(axes=tuple(float(value) for value in axes.ravel()))
        return True

    def release(self) -> bool:
        """Let go of a handle; False when none was held."""
        held, self._handle = bool(self._handle), ""
        return held

    def click(self, event: QMouseEvent) -> bool:
        """Pick what was clicked; False when the tool picks nothing."""
        if self.shaper.tool not in (EDGES, FACES):
            return self.shaper.tool == PROJECTION
        key = self.view.object_at(event.position())
        keys = event.modifiers()
        more = bool(keys & Qt.KeyboardModifier.ControlModifier)
        result = hit(self.shaper.graph(key).corners, *self.ray(event.position())) if key else None
        if result is None:
            self.shaper.clear()
        elif self.shaper.tool == EDGES:
            path = bool(keys & Qt.KeyboardModifier.ShiftModifier)
            self.shaper.pick_edge(key, result[0], result[1], path=path, more=more)
        else:
            self.shaper.pick_face(key, result[0], more=more, single=bool(keys & Qt.KeyboardModifier.AltModifier))
        return True

    def key(self, event: QKeyEvent) -> bool:
        """Use or put away the tool by key; False when the key is none of its."""
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.shaper.projection is not None:
            self.shaper.apply_projection()
            return True
        if event.key() == Qt.Key.Key_Escape and self.shaper.tool != LOOK:
            if self.shaper.edges or (self.shaper.faces and self.shaper.tool == FACES):
                self.shaper.clear()
            else:
                self.shaper.set_tool(LOOK)
            return True
        return False

    # -- painting ---------------------------------------------------------------------------------------------

    def paint(self, painter: QPainter) -> None:
        """Draw seams, what is picked, and the projection that is being set."""
        shaper, theme = self.shaper, self.view.theme
        if shaper.tool == LOOK and not shaper.faces:
            return
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if shaper.tool == EDGES:
            for key in shaper.keys()[:8]:
                self._lines(painter, key, self._seams_of(key), QColor(theme.text), 1.2)
            if shaper.edges:
                self._lines(painter, shaper.key, np.array(sorted(shaper.edges)), QColor(theme.accent), 3.0)
        if shaper.faces and shaper.key:
            self._faces(painter)
        if shaper.projection is not None:
            self._projection(painter)
        if shaper.tool in WORDS:
            self.words(painter, WORDS[shaper.tool])

    def words(self, painter: QPainter, words: str) -> None:
        """Say what the hand can do, at the lower edge."""
        font = painter.font()
        font.setPixelSize(11)
        painter.setFont(font)
        area = QRectF(8, 0, self.view.width() - 16, 200)
        box = painter.boundingRect(area, Qt.TextFlag.TextWordWrap, words)
        box.moveBottom(self.view.height() - 8)
        ground = QColor(self.view.theme.panel)
        ground.setAlpha(225)
        painter.fillRect(box.adjusted(-5, -3, 5, 3), ground)
        painter.setPen(QColor(self.view.theme.text))
        painter.drawText(box, Qt.TextFlag.TextWordWrap, words)

    def _seams_of(self, key: str) -> np.ndarray:
        """Return the edges at which islands of an object's layout end, or will end by hand."""
        document = self.view.workspace.document
        bundle = document.bundle_of(key)
        if bundle is None:
            return np.zeros(0, np.int64)
        if self._seams is None or self._seams[0] is not bundle or self._seams[1] != key:
            graph, told = self.shaper.graph(key), bundle.shaping(key)
            half = np.union1d(island_seams(document.scene, bundle, key), np.array(told.seams, np.int64))
            half = half[half < len(graph.edge_of)]
            self._seams = (bundle, key, np.union1d(graph.edges_of(half) if len(half) else half, graph.open))
        return self._seams[2]

    def _lines(self, painter: QPainter, key: str, edges: np.ndarray, color: QColor, width: float) -> None:
        graph = self.shaper.graph(key)
        edges = edges[:MOST_LINES]
        if not len(edges):
            return
        ends = graph.points[graph.ends[edges]]
        on_screen = self.on_widget(ends.reshape(-1, 3)).reshape(-1, 4)
        facing = self._facing(key)[edges]
        seen = np.isfinite(on_screen).all(axis=1)
        faint = QColor(color)
        faint.setAlpha(70)
        for part, tint in ((~facing, faint), (facing, color)):
            painter.setPen(QPen(tint, width))
            painter.drawLines([QLineF(*row) for row in on_screen[seen & part].tolist()])

    def _facing(self, key: str) -> np.ndarray:
        """Return which edges have a triangle that faces the camera."""
        graph = self.shaper.graph(key)
        front = np.einsum("ij,ij->i", graph.normals, self.view.camera.eye() - graph.corners[:, 0]) > 0
        result = np.zeros(len(graph.ends), np.bool_)
        result[graph.edge_of[np.repeat(front, 3)]] = True
        return result

    def _faces(self, painter: QPainter) -> None:
        graph = self.shaper.graph(self.shaper.key)
        corners = graph.corners[sorted(self.shaper.faces)[:MOST_LINES]]
        on_screen = self.on_widget(corners.reshape(-1, 3)).reshape(-1, 3, 2)
        tint = QColor(self.view.theme.accent)
        tint.setAlpha(95)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(tint)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        for triangle in on_screen[np.isfinite(on_screen).all(axis=(1, 2))].tolist():
            painter.drawPolygon(QPolygonF([QPointF(x, y) for x, y in triangle]))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)

    def _projection(self, painter: QPainter) -> None:
        projection, theme = self.shaper.projection, self.view.theme
        assert projection is not None
        middle, axes = np.array(projection.origin), np.array(projection.axes).reshape(3, 3)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for line in wire(projection.kind):
            points = self.on_widget(middle + (line * projection.size) @ axes)
            if np.isfinite(points).all():
                shape = QPolygonF([QPointF(x, y) for x, y in points.tolist()])
                painter.setPen(QPen(QColor(theme.view), 3.5))
                painter.drawPolyline(shape)
                painter.setPen(QPen(QColor(theme.accent), 1.6))
                painter.drawPolyline(shape)
        handles = self.handles()
        painter.setPen(QPen(QColor(theme.view), 1.5))
        painter.setBrush(QColor(theme.accent))
        if "middle" in handles:
            painter.drawRect(QRectF(handles["middle"].x() - 6, handles["middle"].y() - 6, 12, 12))
        if "size" in handles:
            painter.drawEllipse(handles["size"], 7, 7)
        if "turn" in handles:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(QColor(theme.accent), 3))
            painter.drawEllipse(handles["turn"], 7, 7)


def wire(kind: str) -> list[np.ndarray]:
    """Return the lines that stand for a projection of size 1, each (N, 3)."""
    turn = np.linspace(0, 2 * np.pi, 49)
    ring = np.stack([np.cos(turn), np.zeros(49), np.sin(turn)], axis=1)
    square = np.array([[-1, -1], [1, -1], [1, 1], [-1, 1], [-1, -1]], float)
    flat = np.stack([square[:, 0], square[:, 1], np.zeros(5)], axis=1)
    toward = np.array([[0, 0, 0], [0, 0, 0.4]], float)
    up = np.array([[0, 1, 0], [0, 1.3, 0]], float)
    if kind == "plane":
        return [flat, toward, up]
    if kind == "box":
        posts = [np.array([[x, y, -1], [x, y, 1]], float) for x in (-1, 1) for y in (-1, 1)]
        return [flat + [0, 0, 1], flat - [0, 0, 1], *posts, up]
    if kind == "cylinder":
        posts = [np.array([[x, -1, z], [x, 1, z]], float) for x, z in ((1, 0), (-1, 0), (0, 1), (0, -1))]
        return [ring + [0, 1, 0], ring - [0, 1, 0], *posts, up]
    return [ring, ring[:, [0, 2, 1]], ring[:, [1, 0, 2]], up]


def _about(axis: np.ndarray, angle: float) -> np.ndarray:
    """Return the matrix that turns about a unit vector (Rodrigues)."""
    x, y, z = axis
    cross = np.array([[0, -z, y], [z, 0, -x], [-y, x, 0]])
    result: np.ndarray = np.eye(3) + math.sin(angle) * cross + (1 - math.cos(angle)) * cross @ cross
    return result
