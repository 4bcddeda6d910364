"""Lights: what shines on the scene, how strongly, and from where."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import replace
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import (
    QDoubleSpinBox,
    QFileDialog,
    QHBoxLayout,
    QListWidget,
    QListWidgetItem,
    QSizePolicy,
    QWidget,
)

from fasciculum.app.fields import ComboBox, DoubleSpinBox
from fasciculum.app.lights import Lights, words_of_lights
from fasciculum.app.look import Theme
from fasciculum.app.parts import ColorButton, Column, Form, Switch, note, shown_color, small_button
from fasciculum.model.counting import counted
from fasciculum.model.lighting import Lamp, LampKind, Sky, SkyKind, sun_direction
from fasciculum.units import linear_to_srgb

KEY = Qt.ItemDataRole.UserRole
SKIES = {
    SkyKind.AUTO: "by itself",
    SkyKind.NONE: "none",
    SkyKind.PLAIN: "one colour",
    SkyKind.GRADIENT: "gradient",
    SkyKind.PICTURE: "a picture …",
}
KINDS = {LampKind.SUN: "sun", LampKind.POINT: "all around", LampKind.SPOT: "cone"}
#: edge of the half-dome, px, and how near to a sun on it the pointer takes hold
DOME, NEAR = 132, 12
#: part of a sky's picture, per cent, that is shown darker than white
PALE = 98
LEAST_ROW, MOST_ROWS = 22, 8


class Dome(QWidget):
    """The sky from above, north at the top, suns on it: drag one to move it, or the picture to turn it."""

    def __init__(self, lights: Lights, theme: Theme) -> None:
        super().__init__()
        self.lights, self.theme = lights, theme
        self.setFixedHeight(DOME + 4)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Sky")
        self.setToolTip(
            "The sky as seen from above: north (-Z) at the top, the horizon at the rim. Drag a sun to move it, the "
            "picture to turn it; arrow keys move the chosen sun by 5°"
        )
        self._held = ""
        self._from: tuple[float, float] | None = None
        self._turn = 0.0

    def _middle(self) -> tuple[float, float, float]:
        return self.width() / 2, DOME / 2 + 2, DOME / 2 - 4

    def place_of(self, lamp: Lamp) -> QPointF:
        """Return where a sun stands on the dome."""
        azimuth, elevation = lamp.stands
        x, y, radius = self._middle()
        away = radius * min(max((90.0 - elevation) / 90.0, 0.0), 1.08)
        angle = math.radians(azimuth)
        return QPointF(x + away * math.sin(angle), y - away * math.cos(angle))

    def _stands_at(self, point: QPointF) -> tuple[float, float]:
        """Return the azimuth and elevation of a point of the dome."""
        x, y, radius = self._middle()
        dx, dy = point.x() - x, point.y() - y
        away = math.hypot(dx, dy) / radius
        return math.degrees(math.atan2(dx, -dy)) % 360.0, 90.0 - 90.0 * min(away, 1.0)

    def _suns(self) -> list[Lamp]:
        return [lamp for lamp in self.lights.lamps() if lamp.kind is LampKind.SUN]

    def mousePressEvent(self, event: QMouseEvent) -> None:
        near = [lamp for lamp in self._suns() if (self.place_of(lamp) - event.position()).manhattanLength() <= NEAR]
        if near:
            self._held = near[-1].key
            self.lights.choose(self._held)
        elif self.lights.lighting.sky.kind is SkyKind.PICTURE:
            self._from = self._stands_at(event.position())
            self._turn = self.lights.lighting.sky.turn

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        stands = self._stands_at(event.position())
        lamp = self.lights.lamp(self._held) if self._held else None
        if lamp is not None:
            self.lights.drag(replace(lamp, direction=sun_direction(*stands)))
        elif self._from is not None:
            self._turn = (self.lights.lighting.sky.turn + stands[0] - self._from[0]) % 360.0
        self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._held:
            self.lights.drop(f"Move {self._held}")
        elif self._from is not None and self._turn != self.lights.lighting.sky.turn:
            self.lights.set_sky("Turn the sky", turn=round(self._turn, 1))
        self._held, self._from = "", None

    def keyPressEvent(self, event: QKeyEvent) -> None:
        lamp = self.lights.lamp()
        steps = {
            Qt.Key.Key_Left: (-5, 0),
            Qt.Key.Key_Right: (5, 0),
            Qt.Key.Key_Up: (0, 5),
            Qt.Key.Key_Down: (0, -5),
        }
        step = steps.get(Qt.Key(event.key()))
        if lamp is None or lamp.kind is not LampKind.SUN or step is None:
            super().keyPressEvent(event)
            return
        azimuth, elevation = lamp.stands
        way = sun_direction(azimuth + step[0], min(max(elevation + step[1], -90.0), 90.0))
        self.lights.change(f"Move {lamp.key}", direction=way)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        x, y, radius = self._middle()
        rim = QRectF(x - radius, y - radius, 2 * radius, 2 * radius)
        painter.save()
        painter.setBrush(QColor(self.theme.view))
        painter.setPen(QPen(QColor(self.theme.line), 1))
        painter.drawEllipse(rim)
        seen = self.lights.sky_picture()
        if seen is None:
            painter.drawImage(rim, _dome_picture(self.lights.lighting.sky, int(2 * radius)))
        else:
            turn = self._turn if self._from is not None else self.lights.lighting.sky.turn
            painter.drawImage(rim, _picture_dome(seen, turn, int(2 * radius)))
        painter.restore()
        painter.setPen(QPen(QColor(self.theme.quiet), 1))
        font = painter.font()
        font.setPixelSize(10)
        painter.setFont(font)
        painter.drawText(QPointF(x - radius - 12, y - radius + 10), "N ↑")
        if self._from is not None:
            painter.drawText(QPointF(x + radius + 4, y), f"{self._turn:.0f}°")
        for lamp in self._suns():
            place = self.place_of(lamp)
            picked = lamp.key == self.lights.chosen
            painter.setPen(QPen(QColor(self.theme.view), 2))
            painter.setBrush(shown_color(lamp.color) if lamp.on else QColor(self.theme.quiet))
            painter.drawEllipse(place, 6, 6)
            if picked:
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.setPen(QPen(QColor(self.theme.accent), 2))
                painter.drawEllipse(place, 9, 9)


@lru_cache(maxsize=4)
def _dome_picture(sky: Sky, edge: int) -> QImage:
    """Return a sky as its dome, as bright as its brightest part allows; a picture as long as it is not read."""
    _, away = _polar(edge)
    colors = {
        SkyKind.AUTO: [(1.0, 1.0, 1.0)] * 2,
        SkyKind.NONE: [(0.0, 0.0, 0.0)] * 2,
        SkyKind.PLAIN: [sky.color] * 2,
        SkyKind.GRADIENT: [sky.color, sky.horizon],
        SkyKind.PICTURE: [(0.35, 0.5, 0.8), (0.8, 0.8, 0.75)],
    }[sky.kind]
    height = np.sqrt(np.sin(np.clip(1 - away, 0, 1) * np.pi / 2))[..., None]
    top = max(*colors[0], *colors[1], 1e-9)
    light = (np.array(colors[1]) + height * (np.array(colors[0]) - np.array(colors[1]))) / top * 0.7
    return _round_image(light, away)


def _picture_dome(picture: NDArray[np.float32], turn: float, edge: int) -> QImage:
    """Return a sky's picture (H, W, 3) as its dome, turned by degrees clockwise."""
    height, width = picture.shape[:2]
    angle, away = _polar(edge)
    column = np.floor(((angle - math.radians(turn)) / (2 * np.pi) + 0.5) * width).astype(int) % width
    row = np.clip((away * height / 2).astype(int), 0, max(height // 2 - 1, 0))
    seen = picture[row, column]
    return _round_image(np.minimum(seen / max(float(np.percentile(picture, PALE)), 1e-9), 1.0) * 0.8, away)


def _polar(edge: int) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Return for each point of a dome its azimuth, radians clockwise from the top, and how far from the middle it is.

    The rim is 1 away.
    """
    span = (np.arange(edge) + 0.5) / edge * 2 - 1
    across, down = np.meshgrid(span, span)
    return np.arctan2(across, -down), np.hypot(across, down)


def _round_image(light: NDArray[np.floating], away: NDArray[np.float64]) -> QImage:
    """Return linear light (N, N, 3) as an image, clear beyond the rim."""
    edge = len(light)
    picture = np.zeros((edge, edge, 4), np.uint8)
    picture[..., :3] = np.round(linear_to_srgb(light) * 255)
    picture[..., 3] = np.where(away <= 1, 255, 0)
    return QImage(picture.tobytes(), edge, edge, edge * 4, QImage.Format.Format_RGBA8888).copy()


class LightsPanel(Column):
    """The lamps of the scene, the one that is chosen, and the sky."""

    def __init__(self, lights: Lights, theme: Theme) -> None:
        super().__init__()
        self.lights, self.theme = lights, theme
        self.short = ""
        self.said: Callable[[], None] = lambda: None
        self._filling = False
        self.box.setContentsMargins(0, 0, 0, 0)
        line = QHBoxLayout()
        line.setSpacing(3)
        self.add_sun = small_button("Sun", "Add a sun", lambda: lights.add(LampKind.SUN))
        self.add_lamp = small_button("Lamp", "Add a light that shines all around", lambda: lights.add(LampKind.POINT))
        self.add_spot = small_button("Spot", "Add a light that shines into a cone", lambda: lights.add(LampKind.SPOT))
        self.remove = small_button("Remove", "Remove the chosen light. A model's light is reset", lights.remove)
        for button in (self.add_sun, self.add_lamp, self.add_spot, self.remove):
            line.addWidget(button, len(button.text()) + 2)
        self.box.addLayout(line)
        self.list = QListWidget()
        self.list.setAccessibleName("Lights")
        self.list.setToolTip("Lights and their strength. Untick a light to switch it off")
        self.list.setStyleSheet("QListWidget { font-size: 12px; padding: 0px } QListWidget::item { padding: 2px }")
        self.list.currentItemChanged.connect(self._picked)
        self.list.itemChanged.connect(self._ticked)
        self.box.addWidget(self.list)
        self.about = note()
        self.box.addWidget(self.about)
        self.form = Form()
        self.strength = self._number(
            "Strength",
            "Brightness: lux for a sun, candela for other lights",
            0.0,
            1e9,
            1,
            lambda value: self._set(strength=value),
        )
        self.color = ColorButton("Colour", lambda color: self._set(color=color))
        self.form.row("Colour", self.color, "Colour of the light")
        self.azimuth = self._number(
            "Azimuth",
            "Direction of the sun: degrees clockwise from north (-Z)",
            -360,
            360,
            1,
            lambda _: self._turn(),
            "°",
        )
        self.elevation = self._number(
            "Elevation",
            "Height of the sun, in degrees above the horizon",
            -90,
            90,
            1,
            lambda _: self._turn(),
            "°",
        )
        self.wide = self._number(
            "Size",
            "Diameter of a sun in degrees, radius of other lights in metres. Larger lights give softer shadows",
            0.0,
            1e4,
            2,
            lambda value: self._set(size=value),
        )
        self.reach = self._number(
            "Reach",
            "Distance beyond which the light has no effect, in metres",
            0.0,
            1e6,
            2,
            lambda value: self._set(reach=value),
            " m",
        )
        self.reach.setSpecialValueText("unlimited")
        self.outer = self._number(
            "Cone",
            "Half the cone's angle, in degrees",
            0.1,
            90,
            1,
            lambda value: self._cone(outer=value),
            "°",
        )
        self.inner = self._number(
            "Soft from",
            "Angle from the centre at which the cone starts to fade, in degrees",
            0,
            90,
            1,
            lambda value: self._cone(inner=value),
            "°",
        )
        self.box.addWidget(self.form)
        self.sky = Form()
        self.kind = ComboBox()
        for kind, words in SKIES.items():
            self.kind.addItem(words, kind)
        self.kind.activated.connect(self._choose_sky)
        self.sky.row("Sky", self.kind, "The sky's light. Automatic: white if there are no other lights, else none")
        self.dome = Dome(lights, theme)
        self.sky_strength = self._number(
            "Sky strength",
            "Factor on the sky's light",
            0.0,
            1e9,
            2,
            lambda value: lights.set_sky("Strength of the sky", strength=value),
            "×",
            self.sky,
        )
        self.above = ColorButton("Above", lambda color: lights.set_sky("Colour of the sky", color=color))
        self.horizon = ColorButton("Horizon", lambda color: lights.set_sky("Colour of the horizon", horizon=color))
        self.below = ColorButton("Below", lambda color: lights.set_sky("Colour below", ground=color))
        for button, tip in (
            (self.above, "Colour of the sky, or of its zenith"),
            (self.horizon, "At the horizon"),
            (self.below, "Below the horizon"),
        ):
            self.sky.row(button.name, button, tip)
        self.turn = self._number(
            "Turn",
            "Rotation of the picture in degrees, clockwise seen from above",
            -360,
            360,
            1,
            lambda value: lights.set_sky("Turn the sky", turn=value),
            "°",
            self.sky,
        )
        self.box.addWidget(self.sky)
        self.box.addWidget(self.dome)
        self.glow = Switch("light other surfaces")
        self.glow.toggled.connect(lambda on: None if self._filling else lights.set_glow(on))
        last = Form()
        last.row("Emission", self.glow, "Whether surfaces that emit light other surfaces")
        self.box.addWidget(last)
        lights.changed.connect(self.refresh)
        self.refresh()

    def _number(
        self,
        name: str,
        tip: str,
        low: float,
        high: float,
        decimals: int,
        took: Callable[[float], None],
        unit: str = "",
        form: Form | None = None,
    ) -> QDoubleSpinBox:
        box = DoubleSpinBox()
        box.setDecimals(decimals)
        box.setRange(low, high)
        box.setStepType(QDoubleSpinBox.StepType.AdaptiveDecimalStepType if not unit else box.stepType())
        box.setSingleStep(5.0 if unit == "°" else 0.1)
        box.setSuffix(unit)
        box.setKeyboardTracking(False)
        box.valueChanged.connect(lambda value: None if self._filling else took(value))
        (form or self.form).row(name, box, tip)
        return box

    # -- what is changed --------------------------------------------------------------------------------------

    def _picked(self, item: QListWidgetItem | None) -> None:
        if not self._filling and item is not None:
            self.lights.choose(item.data(KEY))

    def _ticked(self, item: QListWidgetItem) -> None:
        if not self._filling:
            self.lights.switch(item.data(KEY), item.checkState() == Qt.CheckState.Checked)

    def _set(self, **values: object) -> None:
        self.lights.change(f"{self.lights.chosen}: {next(iter(values))}", **values)

    def _turn(self) -> None:
        self.lights.change(
            f"Move {self.lights.chosen}", direction=sun_direction(self.azimuth.value(), self.elevation.value())
        )

    def _cone(self, **values: float) -> None:
        lamp = self.lights.lamp()
        if lamp is None:
            return
        results = {name: math.radians(value) for name, value in values.items()}
        inner, outer = results.get("inner", lamp.inner), results.get("outer", lamp.outer)
        inner = min(inner, outer) if "outer" in results else inner
        self.lights.change(f"{lamp.key}: cone", inner=inner, outer=max(inner, outer))

    def _choose_sky(self) -> None:
        kind = self.kind.currentData()
        if kind is not SkyKind.PICTURE:
            self.lights.set_sky("Sky", kind=kind)
            return
        name, _ = QFileDialog.getOpenFileName(self.window(), "Sky picture", "", "Sky pictures (*.hdr *.exr)")
        if name:
            self.lights.take_picture(name)
        self.refresh()

    # -- what is shown ----------------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Show what shines."""
        lights, lamps = self.lights, self.lights.lamps()
        self._filling = True
        self._fill(lamps)
        lamp = lights.lamp()
        self.form.setVisible(lamp is not None)
        self.remove.setEnabled(lamp is not None)
        if lamp is not None:
            self._fill_lamp(lamp)
        sky = lights.lighting.sky
        self.kind.setCurrentIndex(max(self.kind.findData(sky.kind), 0))
        self.sky_strength.setValue(sky.strength)
        self.turn.setValue(sky.turn)
        for button, color in ((self.above, sky.color), (self.horizon, sky.horizon), (self.below, sky.ground)):
            button.show_color(color)
        self.sky.show_row(self.sky_strength, sky.kind not in (SkyKind.NONE, SkyKind.AUTO))
        self.sky.show_row(self.above, sky.kind in (SkyKind.PLAIN, SkyKind.GRADIENT))
        for button in (self.horizon, self.below):
            self.sky.show_row(button, sky.kind is SkyKind.GRADIENT)
        self.sky.show_row(self.turn, sky.kind is SkyKind.PICTURE)
        self.glow.setChecked(lights.lighting.glow)
        self._filling = False
        self.dome.update()
        self.short = words_of_lights(lamps, lights.lighting) or "a white sky"
        if not lamps:
            self.about.setText("No lights yet: a white sky lights the scene.")
        elif lamp is None:
            self.about.setText(
                f"{counted(len(lamps), 'light')}. Choose one to change it, or drag it in the model (lens Light)."
            )
        else:
            where = "of the project" if lights.is_own(lamp.key) else "of the model"
            changed = ", changed" if lights.is_changed(lamp.key) else ""
            self.about.setText(f"{lamp.key}: {KINDS[lamp.kind]}, {where}{changed}.")
        self.said()

    def _fill(self, lamps: tuple[Lamp, ...]) -> None:
        told = [(lamp.key, f"{lamp.key}    {lamp.strength:,.6g} {lamp.unit}", lamp.on) for lamp in lamps]
        present = [
            (self.list.item(row).data(KEY), self.list.item(row).text(), self.list.item(row).checkState())
            for row in range(self.list.count())
        ]
        ticks = {True: Qt.CheckState.Checked, False: Qt.CheckState.Unchecked}
        if present != [(key, words, ticks[on]) for key, words, on in told]:
            self.list.clear()
            for key, words, on in told:
                item = QListWidgetItem(words)
                item.setData(KEY, key)
                item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
                item.setCheckState(ticks[on])
                self.list.addItem(item)
            rows = max(self.list.sizeHintForRow(0), LEAST_ROW)
            self.list.setFixedHeight(rows * min(max(len(told), 1), MOST_ROWS) + 2 * self.list.frameWidth())
        for row in range(self.list.count()):
            if self.list.item(row).data(KEY) == self.lights.chosen:
                self.list.setCurrentRow(row)

    def _fill_lamp(self, lamp: Lamp) -> None:
        sun, spot = lamp.kind is LampKind.SUN, lamp.kind is LampKind.SPOT
        self.strength.setSuffix(f" {lamp.unit}")
        self.strength.setValue(lamp.strength)
        self.color.show_color(lamp.color)
        azimuth, elevation = lamp.stands
        self.azimuth.setValue(azimuth)
        self.elevation.setValue(elevation)
        self.wide.setSuffix("°" if sun else " m")
        self.wide.setValue(lamp.size)
        self.reach.setValue(lamp.reach)
        self.outer.setValue(math.degrees(lamp.outer))
        self.inner.setValue(math.degrees(lamp.inner))
        for box in (self.azimuth, self.elevation):
            self.form.show_row(box, sun)
        self.form.show_row(self.reach, not sun)
        for box in (self.outer, self.inner):
            self.form.show_row(box, spot)
