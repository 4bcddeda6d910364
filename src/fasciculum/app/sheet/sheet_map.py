"""The baked map under the islands: all of it or one channel, at any mip and exposure, and the value at the pointer."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from PySide6.QtCore import QObject, QRectF, Qt, Signal
from PySide6.QtGui import QImage, QPainter
from PySide6.QtWidgets import QHBoxLayout, QLabel, QSlider, QWidget

from fasciculum.app.fields import ComboBox, Slider
from fasciculum.app.workspace import MAP_LENSES, Workspace
from fasciculum.model.choices import ColorSpace, Compression
from fasciculum.model.maps import KINDS, SHADOW, Origin
from fasciculum.model.texturing import BakedMap
from fasciculum.rendering.previews import Shown, make_previews

MAP_EDGE = 2048
#: px of the bar's height, and steps of its slider in a stop
BAR, STOP = 38, 4
#: pictures that are kept ready
KEPT = 24
CHANNELS = (("All channels", -1), ("Red", 0), ("Green", 1), ("Blue", 2), ("Alpha", 3))


class SheetMap(QObject):
    """Has pictures of the shown map made, and paints them."""

    changed = Signal()

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace = workspace
        self._images: dict[tuple[str, Shown], list[QImage]] = {}
        self._asked: set[tuple[str, Shown]] = set()

    @property
    def baked(self) -> BakedMap | None:
        """The map to show, None when there is none."""
        bundle = self.workspace.bundle
        if bundle is None or bundle.texturing is None or self.workspace.map == "none":
            return None
        return bundle.texturing.map(self.workspace.map or "base_color")

    @property
    def deep(self) -> bool:
        """Whether the shown map holds more than a screen shows at once."""
        return self.baked is not None and (self.baked.bits > 8 or KINDS[self.baked.name].origin is Origin.LIGHT)

    @property
    def key(self) -> tuple[str, Shown] | None:
        """What tells the picture to show from others."""
        baked, bundle = self.baked, self.workspace.bundle
        if baked is None or bundle is None:
            return None
        light = KINDS[baked.name].color_space is ColorSpace.SRGB
        exposure = self.workspace.exposure if self.deep else 0.0
        figures = bundle.texturing.light if bundle.texturing is not None else None
        if KINDS[baked.name].origin is Origin.LIGHT and baked.name != SHADOW.name and figures is not None:
            # as it is stored
            light, exposure = True, exposure + figures.stops(bundle.bake.exposure)
        return self._level_key(baked), Shown(self.workspace.channel, exposure, light)

    @property
    def own_levels(self) -> tuple[str, ...]:
        """The keys of the shown map's levels as an engine reads them, empty where it is shown as it was baked."""
        baked, bundle = self.baked, self.workspace.bundle
        if baked is None or bundle is None:
            return ()
        return self.workspace.decoded_levels(bundle).get(baked.name, ())

    @property
    def form_words(self) -> str:
        """Return how the shown map is compressed, and whether it is shown so; empty without compression."""
        baked, bundle, delivery = self.baked, self.workspace.bundle, self.workspace.document.delivery
        if baked is None or bundle is None or delivery.compress is Compression.NONE:
            return ""
        if not self.workspace.as_compressed:
            return "as baked"
        if not self.own_levels:
            return "not compressed yet: check it"
        compressed = bundle.check.compressed if bundle.check is not None else ()
        form = next((one.block for one in compressed if one.name == baked.name), "")
        return f"as {form.upper()}" if form not in ("", "none") else "uncompressed"

    def _level_key(self, baked: BakedMap) -> str:
        levels = self.own_levels
        return levels[min(self.workspace.mip, len(levels) - 1)] if levels else baked.pixels

    def images(self) -> list[QImage]:
        """Return the picture to show with its mip levels, empty while it does not exist."""
        key = self.key
        return self._images.get(key, []) if key is not None else []

    def want(self) -> None:
        """Have the picture made, unless it is there or under way."""
        key = self.key
        if key is None or key in self._images or key in self._asked:
            return
        self._asked.add(key)

        def take(found: dict[str, list[Any]]) -> None:
            chain = found[key[0]]
            images = [
                QImage(level.data, level.shape[1], level.shape[0], level.shape[1] * 4, QImage.Format.Format_RGBA8888)
                for level in chain
            ]
            for image, level in zip(images, chain, strict=True):
                image.pixels = level  # type: ignore[attr-defined]  # the image reads the array's memory
            self._asked.discard(key)
            self._images[key] = images
            while len(self._images) > KEPT:
                del self._images[next(iter(self._images))]
            self.changed.emit()
            # while the slider moved on, what it stands at now is still to be made
            self.want()

        folder = str(self.workspace.session.store.folder)
        runner = self.workspace.viewer.runner
        runner.submit("Show map", make_previews, folder, [key[0]], MAP_EDGE, key[1], finished=take)

    def paint(self, painter: QPainter, width: int, height: int, scale: float) -> None:
        """Paint the map over the whole sheet, texels of the sheet being units."""
        images, mip = self.images(), self.workspace.mip
        if self.own_levels and mip:
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, False)
            painter.drawImage(QRectF(0, 0, width, height), images[0])
            return
        down = max(0, round(math.log2(max(width / images[0].width(), 1))))
        level = min(max(mip - down, 0), len(images) - 1)
        if mip == 0:
            # a smaller level, not a sparse reading, when the sheet is shown small
            while level + 1 < len(images) and images[level].width() > 2 * width * scale:
                level += 1
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, mip == 0 and scale < 4)
        painter.drawImage(QRectF(0, 0, width, height), images[level])

    def value_at(self, x: float, y: float, size: tuple[int, int]) -> str:
        """Return what the map holds at a place of the sheet, in words; empty beside it."""
        baked = self.baked
        if baked is None or not (0 <= x < size[0] and 0 <= y < size[1]):
            return ""
        column, row = int(x * baked.width / size[0]), int(y * baked.height / size[1])
        try:
            key = self.own_levels[0] if self.own_levels else baked.pixels
            texel = self.workspace.session.store.get(key)[row, column]
        except (KeyError, IndexError):
            return ""
        if texel.dtype.kind == "f":
            values = "  ".join(f"{value:.4g}" for value in texel)
        else:
            top = np.iinfo(texel.dtype).max
            values = "  ".join(f"{value}" for value in texel) + f" of {top}"
        return f"{column}, {row}:  {values}"


def exposure_slider(workspace: Workspace, name: str, tip: str, width: int) -> QSlider:
    """Return a slider for the stops that light is shown brighter by; width in px."""
    slider = Slider(Qt.Orientation.Horizontal)
    slider.setRange(-8 * STOP, 8 * STOP)
    slider.setFixedWidth(width)
    slider.setAccessibleName(name)
    slider.setToolTip(tip)
    slider.valueChanged.connect(lambda steps: workspace.set_view(exposure=steps / STOP))
    return slider


class MapBar(QWidget):
    """Below the sheet: which channel of the map is shown, how bright, and what it holds at the pointer."""

    def __init__(self, workspace: Workspace, shown: SheetMap, parent: QWidget) -> None:
        super().__init__(parent)
        self.workspace, self.map = workspace, shown
        self.setFixedHeight(BAR)
        row = QHBoxLayout(self)
        row.setContentsMargins(8, 2, 8, 2)
        self.channel = ComboBox()
        for words, value in CHANNELS:
            self.channel.addItem(words, value)
        self.channel.setAccessibleName("Channel")
        self.channel.setToolTip("Show all channels of the map, or one of them as grey")
        self.channel.activated.connect(lambda _: workspace.set_view(channel=self.channel.currentData()))
        tip = "Brighten or darken what is shown of a map of 16 bits or floats, in stops"
        self.exposure = exposure_slider(workspace, "Exposure", tip, 84)
        self.stops, self.value, self.form = QLabel(), QLabel(), QLabel()
        self.form.setToolTip("How the shown map is compressed. Shift+Space shows it as it was baked, and back.")
        for label in (self.stops, self.value, self.form):
            label.setProperty("quiet", True)
        for part in (self.channel, self.form, self.exposure, self.stops, self.value):
            row.addWidget(part)
        row.addStretch(1)
        self.refresh()

    def refresh(self) -> None:
        """Show what is set."""
        baked = self.map.baked
        self.setVisible(baked is not None and self.workspace.lens in MAP_LENSES)
        self.channel.setCurrentIndex(self.channel.findData(self.workspace.channel))
        self.exposure.setValue(round(self.workspace.exposure * STOP))
        self.form.setText(self.map.form_words)
        self.form.setVisible(bool(self.map.form_words))
        self.stops.setText(f"{self.workspace.exposure:+.2g} stops")
        for part in (self.exposure, self.stops):
            part.setVisible(self.map.deep)

    def point_at(self, x: float, y: float, size: tuple[int, int]) -> None:
        """Tell what the map holds at a place of the sheet, texels."""
        self.value.setText(self.map.value_at(x, y, size) if self.isVisible() else "")
