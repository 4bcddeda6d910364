"""The model: objects as they came and as they come out, with a wipe between, drawn by a process of its own."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, QTimer
from PySide6.QtGui import QColor, QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QWheelEvent
from PySide6.QtWidgets import QWidget

from fasciculum.app.colors import object_color, scale_colors, way_color
from fasciculum.app.layers import Layers
from fasciculum.app.lights import Lights
from fasciculum.app.look import Theme
from fasciculum.app.model.layer_lens import LayerLens
from fasciculum.app.model.light_lens import LIGHT, LightLens
from fasciculum.app.model.model_tools import ModelTools
from fasciculum.app.model.pair_lens import LENSES as PAIR_LENSES
from fasciculum.app.model.pair_lens import PairLens
from fasciculum.app.model.shaper import Shaper
from fasciculum.app.pairs import Pairs
from fasciculum.app.workspace import Workspace
from fasciculum.io.formats.table import suffixes
from fasciculum.jobs.runner import FAILED, QueueEntry
from fasciculum.model.bundle import Bundle
from fasciculum.model.document import Document
from fasciculum.model.scene import Scene
from fasciculum.operations.check.check import object_densities
from fasciculum.operations.check.lenses import part_repeats, part_yields, wasted_sizes
from fasciculum.operations.lay_out.arrange import conflicts
from fasciculum.rendering import service
from fasciculum.rendering.camera import Camera
from fasciculum.rendering.renderer import View
from fasciculum.treatments.resolving import islands_alone, resolve_bundle
from fasciculum.units import srgb_to_linear
from fasciculum.uv.corners import corners_of
from fasciculum.uv.overlaps import overlapping_triangles
from fasciculum.uv.stretch import angle_stretch

#: part of the full size at which the view is drawn while it moves, and milliseconds after which it is drawn whole
MOVING, REST = 0.6, 140
#: the same where layers are drawn, which cost more
MOVING_LAYERED = 0.5
#: lenses that colour nothing by triangle
PLAIN = ("colour", "checker", "blocks", LIGHT)
GRIP = 9


def stretch_colors(document: Document) -> dict[str, np.ndarray]:
    """Return for each object that is laid out the colour of each triangle by how much it is stretched."""
    colors: dict[str, np.ndarray] = {}
    for bundle in document.bundles:
        if bundle.layout is None or bundle.layout.scale <= 0:
            continue
        scene, layout = islands_alone(document.scene, bundle)
        for index, surface in enumerate(layout.surfaces):
            known: dict[object, np.ndarray] = {}
            for key in surface.objects:
                # copies in nodes of uneven scale are stretched otherwise
                alike = scene.instance_key(scene.object(key))
                if alike not in known:
                    world = corners_of(scene, scene.object(key)).world
                    if len(world) != len(surface.corners):
                        break
                    stretch = np.nan_to_num(angle_stretch(world, layout.sheet_corners(index)), nan=1.0, posinf=4.0)
                    known[alike] = scale_colors(np.minimum(stretch, 4.0))
                colors[key] = known[alike]
    return colors


def overlap_colors(document: Document, theme: Theme) -> dict[str, np.ndarray]:
    """Return for each object, or each of its triangles, whether it lies on others.

    Packed objects are coloured by their places on the sheet, the rest triangle by triangle by their source UVs.
    """

    def rgb(name: str) -> list[float]:
        color = QColor(name)
        return [color.redF(), color.greenF(), color.blueF()]

    levels = np.array([rgb(theme.island), rgb(theme.accent), rgb(theme.broken)])
    colors: dict[str, np.ndarray] = {}
    for bundle in document.bundles:
        layout = bundle.layout
        if layout is None or layout.scale <= 0:
            continue
        # what is verified and in order needs no second look
        order = layout.overlap <= 0 and 0 <= layout.gap >= layout.padding
        result = np.zeros(int(layout.places.max(initial=-1)) + 1, np.int8) if order else conflicts(layout)
        for index, surface in enumerate(layout.surfaces):
            own = result[layout.places[layout.starts[index] : layout.starts[index + 1]]]
            colors |= dict.fromkeys(surface.objects, levels[[own.max(initial=0)]])
    rest = [item for item in document.scene.objects if item.key not in colors]
    for key, marked in overlapping_triangles(document.scene, rest).items():
        colors[key] = levels[np.where(marked, 2, 0)]
    return colors


def way_colors(document: Document) -> dict[str, np.ndarray]:
    """Return for each primitive of each bundled object the colour of how it is treated."""
    colors: dict[str, np.ndarray] = {}
    for bundle in document.bundles:
        work = resolve_bundle(document.scene, bundle)
        for key in bundle.objects:
            for number, way in enumerate(work.ways_of(document.scene, key)):
                color = way_color(way)
                colors[service.part_key(key, number)] = np.array([[color.redF(), color.greenF(), color.blueF()]])
    return colors


def ratio_colors(
    document: Document, measure: Callable[[Scene, Bundle], dict[str, list[float]]]
) -> dict[str, np.ndarray]:
    """Return for each primitive of each bundled object the colour of a figure about its target, 1."""
    colors: dict[str, np.ndarray] = {}
    for bundle in document.bundles:
        for key, values in measure(document.scene, bundle).items():
            for number, value in enumerate(values):
                if math.isfinite(value):
                    colors[service.part_key(key, number)] = scale_colors(np.array([value]))
    return colors


def light_density_colors(document: Document) -> dict[str, np.ndarray]:
    """Return for each object on a light sheet the colour of its density there, about the sheet's own."""
    colors: dict[str, np.ndarray] = {}
    for bundle in document.bundles:
        layout = bundle.texturing.light_layout if bundle.texturing is not None else None
        if layout is not None and layout.scale > 0:
            for key, value in object_densities(document.scene, layout).items():
                colors[key] = scale_colors(np.array([value / layout.scale]))
    return colors


def waste_colors(document: Document) -> dict[str, np.ndarray]:
    """Return for each object the colour of how many levels smaller its islands could be without anybody seeing it."""
    colors: dict[str, np.ndarray] = {}
    for bundle in document.bundles:
        wasted = wasted_sizes(bundle)
        for key in bundle.objects:
            if key in wasted:
                colors[key] = scale_colors(np.array([wasted[key]]))
    return colors


class ModelView(QWidget):
    """Orbits with the left button, pans with the middle one, zooms with the wheel; the wipe's line is dragged."""

    def __init__(
        self, workspace: Workspace, theme: Theme, shaper: Shaper, pairs: Pairs, lights: Lights, layers: Layers
    ) -> None:
        super().__init__()
        self.workspace = workspace
        self.theme = theme
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Model")
        self.setMinimumSize(160, 160)
        self.camera = Camera()
        self.tools = ModelTools(self, shaper)
        self.pairs = PairLens(workspace, self.tools, pairs, self._lens_came)
        pairs.previewed.connect(self._show_preview)
        self.lights = LightLens(workspace, self.tools, lights, self.update, self)
        self.layers = LayerLens(self.tools, layers, self.ask)
        self.wipe = 0.5
        self.trouble = ""
        self.frames = 0
        self._picture: QImage | None = None
        self._seen: service.Picture | None = None
        self._inflight: QueueEntry | None = None
        self._again = False
        self._whole = False
        self._scene: object = None
        self._high = False
        self._previewed = False
        self._made: tuple = ()
        self._lens_made: tuple = ()
        self._pointed = False
        self._framed = False
        self._drag: tuple[str, QPointF, Camera] | None = None
        self._moved = False
        self._rest = QTimer(self, singleShot=True, interval=REST)
        self._rest.timeout.connect(lambda: self.ask(whole=True))
        workspace.document_changed.connect(lambda *_: self.refresh())
        workspace.selection_changed.connect(lambda: self.ask(whole=True))
        workspace.theme_changed.connect(self._lens_came)
        workspace.hover_changed.connect(lambda: self.ask(whole=True))
        workspace.view_changed.connect(self.refresh)
        workspace.preview_changed.connect(self._show_pointed)
        workspace.lit_changed.connect(self.refresh)
        workspace.viewer.changed.connect(self._viewer_changed)

    # -- what is shown ----------------------------------------------------------------------------------------

    def _submit(
        self,
        title: str,
        function: Callable[..., Any],
        *arguments: Any,
        finished: Callable[[Any], None] | None = None,
        **keywords: Any,
    ) -> QueueEntry:
        return self.workspace.viewer.runner.submit(title, function, *arguments, finished=finished, **keywords)

    def refresh(self) -> None:
        """Hand the drawing process what has changed."""
        document = self.workspace.document
        if not document.scene.same_surfaces(self._scene) or self.workspace.high is not self._high:
            # the same objects at other pairs are seen from where they were
            before = self._scene.objects if isinstance(self._scene, Scene) else ()
            self._framed = self._framed and before is document.scene.objects
            self._scene, self._made, self._lens_made = document.scene, (), ()
            self._high = self.workspace.high
            folder = str(self.workspace.session.store.folder)
            arguments = (document.scene, folder)
            self._submit("Show scene", service.show_scene, *arguments, high=self._high, finished=self._show_box)
            self.layers.forget()
        checker = self.workspace.lens == "checker"
        if self.workspace.lens == LIGHT:
            self._show_light()
            self.ask(whole=True)
            return
        ready = tuple(
            replace(bundle, texturing=self.workspace.shown_texturing(bundle))
            for bundle in document.bundles
            if (bundle.layout is not None and bundle.layout.scale > 0 if checker else bundle.texturing is not None)
        )
        made = ((checker,), *((bundle.layout, bundle.texturing, bundle.objects) for bundle in ready))
        if [tuple(map(id, entry)) for entry in made] != [tuple(map(id, entry)) for entry in self._made]:
            self._made = made
            self._submit("Show result", service.show_bundles, ready, checker=checker)
            self._lens_made = ()
        self._send_lens()
        self.ask(whole=True)

    def _show_light(self) -> None:
        """Show objects in their baked light, as far as that has come."""
        live, stops = self.workspace.lit, self.lights.lights.stops
        ready = tuple(
            replace(bundle, texturing=live.get(bundle.identity, bundle.texturing))
            for bundle in self.workspace.document.bundles
        )
        made = ((LIGHT, stops), *((bundle.layout, bundle.texturing, bundle.objects) for bundle in ready))
        before = self._made
        if made[:1] != before[:1] or [tuple(map(id, part)) for part in made[1:]] != [
            tuple(map(id, part)) for part in before[1:]
        ]:
            self._made = made
            self._submit("Show light", service.show_lit, ready, stops)

    @property
    def lens(self) -> str:
        """The lens that is on: that of ways while a plan is pointed at."""
        return "way" if self.workspace.pointing else self.workspace.lens

    def _show_pointed(self) -> None:
        if self.workspace.pointing or self._pointed:
            self._pointed = self.workspace.pointing
            self._send_lens()
            self.ask(whole=True)

    def _send_lens(self) -> None:
        lens = self.lens
        document = self.workspace.shown if lens == "way" else self.workspace.document
        if lens in PLAIN:
            return
        of_bundles = (bundle if lens == "way" else bundle.layout for bundle in document.bundles)
        made = (lens, document.scene, *of_bundles)
        if [id(part) for part in made[1:]] == [id(part) for part in self._lens_made[1:]] and made[
            :1
        ] == self._lens_made[:1]:
            return
        self._lens_made = made
        colors = self._lens_colors(lens, document)
        linear = {key: srgb_to_linear(value).astype(np.float32) for key, value in colors.items()}
        self._submit("Show lens", service.show_lens, linear)

    def _lens_colors(self, lens: str, document: Document) -> dict[str, np.ndarray]:
        """Return the colours of objects, or of their primitives, by a lens."""
        colors: dict[str, np.ndarray] = {}
        if lens == "object":
            for item in document.scene.objects:
                color = object_color(item.key)
                colors[item.key] = np.array([[color.redF(), color.greenF(), color.blueF()]])
        elif lens in PAIR_LENSES:
            colors = self.pairs.colors(lens)
        elif lens == "light density":
            colors = light_density_colors(document)
        elif lens == "stretch":
            colors = stretch_colors(document)
        elif lens == "overlap":
            colors = overlap_colors(document, self.theme)
        elif lens == "way":
            colors = way_colors(document)
        elif lens == "yield":
            colors = ratio_colors(document, part_yields)
        elif lens == "repeats":
            colors = ratio_colors(document, part_repeats)
        elif lens == "waste":
            colors = waste_colors(document)
        else:
            for bundle in document.bundles:
                if bundle.layout is None or bundle.layout.scale <= 0:
                    continue
                result = object_densities(*islands_alone(document.scene, bundle))
                for key, value in result.items():
                    colors[key] = scale_colors(np.array([value / (bundle.layout.scale * bundle.share(key))]))
        return colors

    def _lens_came(self) -> None:
        self._lens_made = ()
        self._send_lens()
        self.ask(whole=True)

    def _show_preview(self, bundle: Bundle | None) -> None:
        """Show an object as it was previewed in the place of its result, or the results again."""
        if bundle is None and not self._previewed:
            return
        self._previewed = bundle is not None
        self._submit("Show preview", service.show_preview, bundle)
        self.ask(whole=True)

    def _show_box(self, box: np.ndarray | None) -> None:
        if box is not None and not self._framed:
            self._framed = True
            self._look_at(box)
        self.ask(whole=True)

    def _look_at(self, box: np.ndarray) -> None:
        self.camera = self.camera.framing(box, self.width() / max(self.height(), 1))

    def frame(self) -> None:
        """Show the chosen objects, or all."""
        keys = set(self.workspace.selection) or {item.key for item in self.workspace.document.scene.objects}

        def take(box: np.ndarray | None) -> None:
            if box is not None:
                self._look_at(box)
                self.ask(whole=True)

        if keys:
            self._submit("Frame", service.corners_of_boxes, keys, finished=take)

    def ask(self, *, whole: bool = False) -> None:
        """Ask for a new picture; while one is being drawn, only the last wish is kept."""
        self.lights.want()
        if self.trouble or not self.workspace.document.scene.objects or self.width() < 8:
            self.update()
            return
        if not whole:
            self._rest.start()
        if self._inflight is not None and not self._inflight.over:
            self._again, self._whole = True, whole or (self._again and self._whole)
            return
        self._again = False
        moving = MOVING_LAYERED if self.layers.layers.stack else MOVING
        scale = self.devicePixelRatioF() * (1.0 if whole else moving)
        width, height = max(int(self.width() * scale), 8), max(int(self.height() * scale), 8)
        side = "result" if self.workspace.lens == "checker" else self.workspace.side
        views = {
            "source": [View("source")],
            "result": [View("result")],
            "wipe": [View("source", 0.0, self.wipe), View("result", self.wipe, 1.0)],
        }[side]
        ground = QColor(self.theme.view)
        self._inflight = self._submit(
            "Draw",
            service.draw,
            self.camera,
            width,
            height,
            views,
            lens=self.lens not in PLAIN,
            chosen=set(self.workspace.selection),
            hovered=self.workspace.hovered,
            ground=(ground.redF(), ground.greenF(), ground.blueF()),
            over=self.layers.to_send(),
            finished=self._take,
        )

    def _take(self, picture: service.Picture) -> None:
        height, width = picture.pixels.shape[:2]
        self._seen = picture
        self._picture = QImage(picture.pixels.data, width, height, width * 4, QImage.Format.Format_RGBX8888)
        self.frames += 1
        self.update()
        if self._again:
            QTimer.singleShot(0, lambda: self.ask(whole=self._whole))
        elif picture.incomplete:
            QTimer.singleShot(0, lambda: self.ask(whole=True))

    def _viewer_changed(self) -> None:
        jobs = self.workspace.viewer.runner.jobs
        for job in [job for job in jobs if job.over]:
            jobs.remove(job)
            if job.state == FAILED and job.error is not None:
                code = getattr(job.error, "code", "")
                if code == "no_graphics":
                    self.trouble = str(job.error)
                elif code == "worker_lost":
                    self._scene, self._made, self._lens_made = None, (), ()
                    QTimer.singleShot(0, self.refresh)
                elif job.title != "Draw":
                    self.workspace.say(f"{job.title}: {str(job.error).strip().splitlines()[-1]}", "broken")
                self.update()

    # -- painting ---------------------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), QColor(self.theme.view))
        painter.setPen(QColor(self.theme.quiet))
        if self.trouble:
            painter.drawText(
                self.rect().adjusted(20, 20, -20, -20),
                Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap,
                f"{self.trouble}\nEverything else works.",
            )
            return
        if not self.workspace.document.scene.objects:
            painter.drawText(
                self.rect(), Qt.AlignmentFlag.AlignCenter, f"Drop {suffixes()} files here,\nor a folder of them."
            )
            return
        if self._picture is None:
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "Drawing the model …")
            return
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.drawImage(QRectF(self.rect()), self._picture)
        if self.workspace.side != "result":
            share = self.wipe if self.workspace.side == "wipe" else 1.0
            self.lights.paint_source(painter, QRectF(0, 0, share * self.width(), self.height()))
        if self.workspace.side == "wipe":
            self._paint_wipe(painter)
        self.tools.paint(painter)
        self.pairs.paint(painter)
        self.lights.paint(painter)
        self.layers.paint(painter)

    def _paint_wipe(self, painter: QPainter) -> None:
        x = self.wipe * self.width()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(QColor(self.theme.accent), 1.5))
        painter.drawLine(QPointF(x, 0), QPointF(x, self.height()))
        painter.setBrush(QColor(self.theme.accent))
        painter.drawEllipse(QPointF(x, self.height() / 2), GRIP, GRIP)
        font = painter.font()
        font.setPixelSize(11)
        painter.setFont(font)
        painter.setPen(QColor(self.theme.quiet))
        painter.drawText(QRectF(x - 120, 6, 110, 18), Qt.AlignmentFlag.AlignRight, "source")
        painter.drawText(QRectF(x + 10, 6, 110, 18), Qt.AlignmentFlag.AlignLeft, "result")

    # -- hands ------------------------------------------------------------------------------------------------

    def object_at(self, point: QPointF) -> str:
        """Return the object that is seen at a point of the widget, empty when there is none."""
        if self._seen is None or not self._seen.keys:
            return ""
        height, width = self._seen.ids.shape
        x = min(max(int(point.x() / max(self.width(), 1) * width), 0), width - 1)
        y = min(max(int(point.y() / max(self.height(), 1) * height), 0), height - 1)
        number = int(self._seen.ids[y, x])
        return self._seen.keys[number] if 0 <= number < len(self._seen.keys) else ""

    def _on_wipe(self, point: QPointF) -> bool:
        return self.workspace.side == "wipe" and abs(point.x() - self.wipe * self.width()) < GRIP

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.setFocus()
        if any(hand.press(event) for hand in (self.tools, self.pairs, self.lights, self.layers)):
            self._drag = ("handle", event.position(), self.camera)
            return
        kinds = {Qt.MouseButton.LeftButton: "orbit", Qt.MouseButton.MiddleButton: "pan"}
        if event.button() in kinds:
            kind = kinds[event.button()]
            if kind == "orbit" and self._on_wipe(event.position()):
                kind = "wipe"
            self._drag = (kind, event.position(), self.camera)
            self._moved = False

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        point = event.position()
        if self._drag is None:
            plain = Qt.CursorShape.CrossCursor if self.tools.picking else Qt.CursorShape.ArrowCursor
            self.setCursor(Qt.CursorShape.SplitHCursor if self._on_wipe(point) else plain)
            self.workspace.hover(self.object_at(point))
            return
        kind, start, camera = self._drag
        if kind == "handle":
            inwards = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
            if (
                self.tools.move(point, start)
                or self.pairs.move(point, start, inwards=inwards)
                or self.lights.move(point, start, upwards=inwards)
                or self.layers.move(point, start)
            ):
                self.update()
            self._drag = (kind, point, camera)
            return
        delta = point - start
        self._moved = self._moved or delta.manhattanLength() > 3
        if kind == "wipe":
            self.wipe = min(max(point.x() / max(self.width(), 1), 0.02), 0.98)
        elif kind == "pan":
            self.camera = camera.pan(delta.x() / self.height(), delta.y() / self.height())
        elif self._moved:
            self.camera = camera.orbit(delta.x() * 0.4, delta.y() * 0.4)
        self.update()
        self.ask()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._drag is None:
            return
        kind, _, _ = self._drag
        self._drag = None
        if (
            self.pairs.release()
            or self.lights.release()
            or self.layers.release()
            or self.tools.release()
            or (kind == "orbit" and not self._moved and self.tools.click(event))
        ):
            self.ask(whole=True)
            return
        if kind == "orbit" and not self._moved:
            key = self.object_at(event.position())
            result = {key} if key else set()
            more = bool(event.modifiers() & (Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier))
            self.workspace.select(self.workspace.selection ^ result if more else result)
        self.ask(whole=True)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if not self.pairs.double_click(event, self.object_at(event.position())):
            super().mouseDoubleClickEvent(event)

    def wheelEvent(self, event: QWheelEvent) -> None:
        middle = QPointF(self.width() / 2, self.height() / 2)
        at, high = event.position() - middle, max(self.height(), 1)
        self.camera = self.camera.zoom(1.0012 ** event.angleDelta().y(), (at.x() / high, at.y() / high))
        self.ask()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if self.tools.key(event) or self.pairs.key_press(event) or self.lights.key_press(event):
            return
        turns = {
            Qt.Key.Key_Left: (10, 0),
            Qt.Key.Key_Right: (-10, 0),
            Qt.Key.Key_Up: (0, 8),
            Qt.Key.Key_Down: (0, -8),
        }
        key = Qt.Key(event.key())
        if key in turns:
            self.camera = self.camera.orbit(*turns[key])
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Minus):
            self.camera = self.camera.zoom(1.25 if event.key() == Qt.Key.Key_Plus else 0.8)
        else:
            super().keyPressEvent(event)
            return
        self.ask(whole=True)

    def leaveEvent(self, event: object) -> None:
        self.workspace.hover("")

    def resizeEvent(self, event: object) -> None:
        self.ask(whole=True)
