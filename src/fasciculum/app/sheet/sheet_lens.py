"""Lenses of the sheet about materials and texels: ways, sharpness, repeats, waste and mixing."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QBrush, QColor, QImage, QPainter

from fasciculum.app.colors import WAY_WORDS, object_color, scale_colors, way_color
from fasciculum.app.look import Theme
from fasciculum.app.sheet.sheet_islands import Island
from fasciculum.app.workspace import Workspace
from fasciculum.model.choices import Treatment
from fasciculum.model.maps import BASE_COLOR
from fasciculum.operations.check.lenses import (
    SHARED,
    block_errors,
    mixed_texels,
    part_repeats,
    part_yields,
    wasted_sizes,
)
from fasciculum.operations.check.missed import missed_texels
from fasciculum.session.tasks import Kind, Task
from fasciculum.treatments.resolving import resolve_bundle

#: lenses that colour islands by what is known of their object
OF_OBJECTS = ("way", "yield", "repeats", "waste", "pairs", "missed", "reach")
#: hatching of patches by their way
HATCHES = {
    Treatment.LANE: Qt.BrushStyle.HorPattern,
    Treatment.CUT: Qt.BrushStyle.CrossPattern,
    Treatment.SWATCH: Qt.BrushStyle.Dense5Pattern,
    Treatment.SLICE: Qt.BrushStyle.FDiagPattern,
    Treatment.BLOCK: Qt.BrushStyle.DiagCrossPattern,
}


#: what colours of the scale mean, by lens
LEGENDS = {
    "yield": ((0.4, "sharpness lost"), (1.0, "as the source"), (2.5, "more texels than the source")),
    "repeats": ((1.0, "once"), (2.0, "2 times"), (4.0, "4 times or more")),
    "waste": ((1.0, "all of it is used"), (2.0, "half the size would do"), (4.0, "a quarter would do")),
}


#: errors of a block in steps of 255: from which one on, the place on the scale, and words
ERRORS = ((3, 1.6, "3 to 5 of 255 off"), (6, 2.4, "6 to 11 of 255 off"), (12, 4.0, "12 of 255 and more"))


def _ratio(value: float) -> QColor:
    red, green, blue = scale_colors(np.array([value]))[0]
    return QColor.fromRgbF(float(red), float(green), float(blue))


class SheetLens:
    """Colours of islands and marks of texels for the lenses of this module.

    ``changed`` is called when something that had to be measured has come in.
    """

    def __init__(self, workspace: Workspace, theme: Theme, changed: Callable[[], None]) -> None:
        self.workspace, self.theme, self._changed = workspace, theme, changed
        #: figures by object that a lens shows, and texels that mix, each with what it is about
        self._ratios: tuple[object, dict[str, float]] = (None, {})
        self._mixing: tuple[object, QImage | None] = (None, None)
        self._lost: tuple[object, QImage | None] = (None, None)
        self._blocks: tuple[object, QImage | None] = (None, None)

    @property
    def _ways(self) -> dict[str, Treatment]:
        """The way of each patch of the shown bundle, by its key."""
        bundle = self.workspace.bundle
        if bundle is None:
            return {}
        return {patch.key: patch.way for patch in resolve_bundle(self.workspace.document.scene, bundle).patches}

    def color(self, island: Island) -> QColor:
        """Return an island's colour by the lens that is on."""
        lens = self.workspace.lens
        if lens == "way":
            return way_color(self._ways.get(island.keys[0], Treatment.BAKE))
        if lens in ("pairs", "missed", "reach"):
            detail = self.workspace.document.scene.detail
            paired = detail is not None and any(detail.pair(key) is not None for key in island.keys)
            return (
                object_color(island.keys[0]).lighter(125) if paired and lens != "missed" else QColor(self.theme.island)
            )
        bundle = self.workspace.bundle
        about = lens, id(bundle)
        if self._ratios[0] != about:
            self._ratios = (about, self._measure(lens))
        value = self._ratios[1].get(island.keys[0], math.nan)
        if not math.isfinite(value):
            return QColor(self.theme.island)
        return _ratio(value)

    def _measure(self, lens: str) -> dict[str, float]:
        """Return a figure about its target, 1, for each object and patch of the shown bundle."""
        bundle, scene = self.workspace.bundle, self.workspace.document.scene
        if bundle is None:
            return {}
        if lens == "waste":
            return wasted_sizes(bundle)
        measured = (part_yields if lens == "yield" else part_repeats)(scene, bundle)
        results = {}
        for key, values in measured.items():
            results[key] = max((value for value in values if math.isfinite(value)), default=math.nan)
        # a patch shows what its readers have
        work = resolve_bundle(scene, bundle)
        for key in bundle.objects:
            for reader in work.readers_of(scene, key):
                for number in reader.every:
                    results.setdefault(work.patches[number].key, results.get(key, math.nan))
        return results

    def hatch(self, painter: QPainter, island: Island) -> None:
        """Lay a hatching of its own over each way but that of islands, so that nobody needs the colour."""
        pattern = HATCHES.get(self._ways.get(island.keys[0], Treatment.BAKE))
        if pattern is not None:
            brush = QBrush(QColor(0, 0, 0, 150), pattern)
            brush.setTransform(painter.transform().inverted()[0])
            painter.fillPath(island.path, brush)

    def paint_legend(self, painter: QPainter, at: QPointF, room: float) -> None:
        """Say what the colours mean, from a place on to the right, within so many px."""
        lens = self.workspace.lens
        if lens == "way":
            ways = dict.fromkeys([Treatment.BAKE, *self._ways.values()])
            entries = [(way_color(way), WAY_WORDS[way]) for way in ways]
        else:
            entries = [(_ratio(value), words) for value, words in LEGENDS.get(lens, ())]
            if lens == "missed":
                entries = [(QColor(self.theme.broken), "meets no high-poly surface"), (_ratio(1.0), "meets one")]
            if lens in ("pairs", "reach"):
                entries = [(QColor(self.theme.island), "no high-poly partner")]
            if lens == "blocks":
                entries = [
                    (QColor(self.theme.broken), "shared by two islands"),
                    *((_ratio(value), words) for _, value, words in ERRORS),
                ]
            if lens == "mixing":
                level = f"at mip {self.workspace.mip}"
                entries = [
                    (QColor(self.theme.broken), f"samples mix {level}"),
                    (QColor(self.theme.quiet), "a texel holds several islands"),
                ]
        x = at.x()
        for color, words in entries:
            wide = painter.fontMetrics().horizontalAdvance(words) + 30
            if x + wide - at.x() > room:
                break
            painter.fillRect(QRectF(x, at.y() - 8, 9, 9), color)
            painter.setPen(QColor(self.theme.quiet))
            painter.drawText(QPointF(x + 13, at.y()), words)
            x += wide

    def paint_mixing(self, painter: QPainter, sheet: QRectF) -> None:
        """Mark the texels that mix at the mip that is chosen: those that readings meet, and those beside islands."""
        bundle = self.workspace.bundle
        layout = bundle.layout if bundle is not None else None
        if bundle is None or layout is None or layout.scale <= 0 or bundle.identity in self.workspace.live:
            return
        about = id(layout), self.workspace.mip, bundle.bake.bleed
        if self._mixing[0] != about:
            self._mixing = (about, None)

            def take(found: np.ndarray) -> None:
                if self._mixing[0] == about:
                    self._mixing = (about, self._mixing_image(found))
                    self._changed()

            task = Task(Kind.MEASURE, "Find bleeding", mixed_texels, (layout, *about[1:]), part="mixing")
            self.workspace.run(task, take, anew=True)
        image = self._mixing[1]
        if image is not None:
            painter.drawImage(sheet, image)

    def paint_blocks(self, painter: QPainter, sheet: QRectF) -> None:
        """Mark compression blocks of the shown map's mip: hatched where two islands share one, coloured by error."""
        bundle, delivery = self.workspace.bundle, self.workspace.document.delivery
        layout = bundle.layout if bundle is not None else None
        if bundle is None or layout is None or layout.scale <= 0 or bundle.identity in self.workspace.live:
            return
        name = self.workspace.map or BASE_COLOR.name
        about = id(bundle), id(delivery), name, self.workspace.mip
        if self._blocks[0] != about:
            self._blocks = (about, None)

            def take(found: np.ndarray) -> None:
                if self._blocks[0] == about:
                    self._blocks = (about, self._block_image(found))
                    self._changed()

            arguments = bundle, delivery, name, self.workspace.mip, self.workspace.session.store
            self.workspace.run(
                Task(Kind.MEASURE, "Compare blocks", block_errors, arguments, part="blocks"), take, anew=True
            )
        if self._blocks[1] is not None:
            painter.drawImage(sheet, self._blocks[1])

    def _block_image(self, found: np.ndarray) -> QImage:
        """Return a picture of blocks, a few px for each so that there is room for hatching."""
        part = max(min(8, 2048 // max(found.shape)), 1)
        wide = np.repeat(np.repeat(found, part, axis=0), part, axis=1)
        shown = np.zeros((*wide.shape, 4), np.uint8)
        for least, value, _ in ERRORS:
            color = _ratio(value)
            shown[wide >= least] = [color.red(), color.green(), color.blue(), 170]
        rows, columns = np.indices(wide.shape)
        color = QColor(self.theme.broken)
        shown[wide == SHARED] = [color.red(), color.green(), color.blue(), 110]
        shown[(wide == SHARED) & ((rows + columns) % max(part, 2) < max(part // 2, 1))] = [
            color.red(), color.green(), color.blue(), 255
        ]  # fmt: skip
        image = QImage(shown.data, shown.shape[1], shown.shape[0], 4 * shown.shape[1], QImage.Format.Format_RGBA8888)
        return image.copy()

    def paint_missed(self, painter: QPainter, sheet: QRectF) -> None:
        """Mark the texels that meet no high-poly surface."""
        bundle, scene = self.workspace.bundle, self.workspace.document.scene
        if bundle is None or bundle.layout is None or scene.detail is None or bundle.identity in self.workspace.live:
            return
        about = id(scene), id(bundle.layout), id(bundle.bake)
        if self._lost[0] != about:
            self._lost = (about, None)

            def take(found: np.ndarray | None) -> None:
                if self._lost[0] == about and found is not None:
                    self._lost = (about, self._lost_image(found))
                    self._changed()

            arguments = (scene, bundle, self.workspace.session.store)
            task = Task(Kind.MEASURE, "Find missed texels", missed_texels, arguments, part="missed texels")
            self.workspace.run(task, take, anew=True)
        if self._lost[1] is not None:
            painter.drawImage(sheet, self._lost[1])

    def _lost_image(self, found: np.ndarray) -> QImage:
        shown = np.zeros((*found.shape, 4), np.uint8)
        for value, color, alpha in ((1, _ratio(1.0), 120), (2, QColor(self.theme.broken), 255)):
            shown[found == value] = [color.red(), color.green(), color.blue(), alpha]
        image = QImage(shown.data, shown.shape[1], shown.shape[0], 4 * shown.shape[1], QImage.Format.Format_RGBA8888)
        return image.copy()

    def _mixing_image(self, found: np.ndarray) -> QImage:
        shown = np.zeros((*found.shape, 4), np.uint8)
        for value, color, alpha in ((1, QColor(self.theme.quiet), 150), (2, QColor(self.theme.broken), 255)):
            shown[found == value] = [color.red(), color.green(), color.blue(), alpha]
        image = QImage(shown.data, shown.shape[1], shown.shape[0], 4 * shown.shape[1], QImage.Format.Format_RGBA8888)
        return image.copy()
