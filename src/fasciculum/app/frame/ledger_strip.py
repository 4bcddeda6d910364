"""The ledger: what the scene costs before and after. Each figure opens the list behind it, worst first."""

from __future__ import annotations

import math

from PySide6.QtCore import QPoint, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPaintEvent
from PySide6.QtWidgets import (
    QAbstractButton,
    QDialog,
    QHBoxLayout,
    QLabel,
    QListWidget,
    QListWidgetItem,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from fasciculum.app.look import Theme
from fasciculum.app.workspace import Workspace
from fasciculum.model.counting import counted
from fasciculum.model.maps import BASE_COLOR
from fasciculum.operations.block_memory import compressed_memory
from fasciculum.operations.check.budgets import Judged, judged_document
from fasciculum.operations.check.check import object_densities
from fasciculum.operations.lay_out.forecast import clean_size
from fasciculum.operations.ledger import cost_of, ledger_of
from fasciculum.session.stale import DONE, check_state
from fasciculum.treatments.resolving import islands_alone, resolve_bundle
from fasciculum.units import MIB, density_words, texture_bytes

FIGURES = (
    (
        "draw_calls",
        "Draw calls",
        "Distinct materials of each drawn object, summed: draw calls without batching.",
    ),
    ("materials", "Materials", "Number of distinct materials."),
    (
        "memory",
        "Texture memory",
        "Distinct textures with their mip levels: as the delivery compresses them, else at 8 bits per channel.",
    ),
    ("fill", "Fill", "Island area over sheet area of the chosen bundle, padding not counted."),
    ("density", "Density", "Texels per metre of the chosen bundle's surface."),
    ("clean", "Bleed-free to", "The smallest mip level of the chosen bundle at which no two islands mix."),
    (
        "match",
        "Match with source",
        "Base colour of the chosen bundle's worst object against its source, in dB; 38 dB and above look the same.",
    ),
)


def verdict(before: int, after: int) -> str:
    """Return in a word whether a figure is better than it was."""
    return "unchanged" if after == before else "better" if after < before else "worse"


#: figures that may have a limit, and the limit's name
LIMITED = {"draw_calls": "draw_calls", "memory": "texture_mib", "match": "match_db"}


class LimitBar(QWidget):
    """A thin line: how much of a limit is used, with a mark where it ends."""

    def __init__(self, theme: Theme, button: QAbstractButton) -> None:
        super().__init__()
        self.theme, self._button, self._tip = theme, button, button.toolTip()
        self.limit: Judged | None = None
        self.setFixedHeight(4)
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)

    def show_limit(self, limit: Judged | None) -> None:
        """Show a limit, or nothing."""
        self.limit = limit
        words = f"\nBudget: {limit.words(limit.value)} of {limit.words(limit.limit)}." if limit is not None else ""
        self._button.setToolTip(self._tip + words)
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        if self.limit is None:
            return
        painter = QPainter(self)
        # the limit lies at four fifths, so that what goes beyond it is seen
        end = 0.8 * (self.width() - 6)
        painter.fillRect(QRectF(0, 1, end, 2), QColor(self.theme.line))
        used = min(self.limit.share, 1.25) * end
        known = self.limit.value is not None
        color = self.theme.quiet if not known else self.theme.good if self.limit.ok else self.theme.broken
        painter.fillRect(QRectF(0, 1, used, 2), QColor(color))
        painter.fillRect(QRectF(end, 0, 1, 4), QColor(self.theme.text))


class LedgerStrip(QWidget):
    """The strip at the bottom."""

    def __init__(self, workspace: Workspace, theme: Theme) -> None:
        super().__init__()
        self.workspace = workspace
        self.setObjectName("panel")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(54)
        line = QHBoxLayout(self)
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(1)
        self.buttons: dict[str, QAbstractButton] = {}
        self.values: dict[str, QLabel] = {}
        self.bars: dict[str, LimitBar] = {}
        for name, title, tip in FIGURES:
            button = QToolButton()
            button.setProperty("ledger", True)
            button.setToolTip(f"{tip}\nClick for the list behind it.")
            button.setSizePolicy(button.sizePolicy().Policy.Expanding, button.sizePolicy().Policy.Expanding)
            inner = QVBoxLayout(button)
            inner.setContentsMargins(12, 6, 6, 6)
            inner.setSpacing(0)
            label = QLabel(title)
            label.setProperty("quiet", True)
            value = QLabel("nothing yet")
            value.setTextFormat(Qt.TextFormat.RichText)
            for part in (label, value):
                part.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
                inner.addWidget(part)
            bar = self.bars[name] = LimitBar(theme, button)
            inner.addWidget(bar)
            button.clicked.connect(lambda _=False, name=name: self.open_list(name))
            self.buttons[name], self.values[name] = button, value
            line.addWidget(button, 1)
        for signal in (workspace.preview_changed, workspace.selection_changed, workspace.figures_changed):
            signal.connect(self.refresh)
        workspace.document_changed.connect(lambda *_: self.refresh())
        self.refresh()

    def text(self, name: str) -> str:
        """Return what a figure says, without markup."""
        return self.values[name].text().replace("<b>", "").replace("</b>", "")

    def _show(self, name: str, words: str) -> None:
        self.values[name].setText(words)
        self.buttons[name].setAccessibleName(f"{dict((n, t) for n, t, _ in FIGURES)[name]}: {self.text(name)}")

    def refresh(self) -> None:
        """Renew every figure; what is not there yet is foretold and says so."""
        document = self.workspace.shown
        if not document.scene.objects:
            for name in self.values:
                self._show(name, "nothing yet")
                self.bars[name].show_limit(None)
            return
        limits = {one.name: one for one in judged_document(document)}
        for name, bar in self.bars.items():
            bar.show_limit(limits.get(LIMITED.get(name, "")))

        def over(name: str) -> str:
            return "over budget" if name in limits and not limits[name].ok else ""

        ledger = ledger_of(document)
        before, after = ledger.before, ledger.after
        calls = before.draw_calls, after.draw_calls
        self._show("draw_calls", f"{calls[0]} → <b>{calls[1]}</b> {over('draw_calls') or verdict(*calls)}")
        self._show("materials", f"{before.materials} → <b>{after.materials}</b>")
        memory = before.texture_bytes, after.texture_bytes
        # light is no cost of merging: the source has none that could be compared
        without_light = memory[1] - ledger.light_bytes
        sizes = tuple(round(size / MIB) for size in (memory[0], without_light))
        light = f" + {ledger.light_bytes / MIB:.0f} light" if ledger.light_bytes else ""
        # beside the light there is no room for the verdict
        words = "" if light else f" {over('texture_mib') or verdict(*sizes)}"
        blocks = compressed_memory(document)
        if blocks[1]:
            name = document.delivery.compress.upper()
            told = f"{name} {blocks[0] / MIB:.1f} → <b>{blocks[1] / MIB:.1f} MiB</b> {over('texture_mib')}"
            self._show("memory", told)
        else:
            self._show("memory", f"{sizes[0]} → <b>{sizes[1]}{light} MiB</b>{words}")
        bundle = self.workspace.bundle
        if bundle is None or not bundle.objects:
            for name in ("fill", "density", "clean", "match"):
                self._show(name, "no bundle chosen" if bundle is None else "empty bundle")
            return
        if resolve_bundle(document.scene, bundle).bare:
            for name in ("fill", "density", "clean", "match"):
                self._show(name, "no sheet needed")
            return
        figures = self.workspace.sheet_figures(bundle)
        if figures is None:
            for name in ("fill", "density", "clean"):
                self._show(name, "measuring …")
        else:
            about = "" if figures.measured else "about "
            self._show("fill", f"{about}<b>{figures.fill:.0%}</b>")
            self._show("density", f"{about}<b>{density_words(figures.density)}</b>")
            about = "" if bundle.check is not None and figures.measured else "about "
            self._show("clean", f"{about}<b>{figures.clean} px</b>")
        if bundle.check is not None and check_state(document, bundle) == DONE:
            results = [entry.figure(BASE_COLOR.name) for entry in bundle.check.fidelity]
            worst = min((figure for figure in results if not math.isnan(figure)), default=math.nan)
            self._show(
                "match",
                f"<b>{worst:.1f} dB</b> {over('match_db') or 'at worst'}"
                if math.isfinite(worst)
                else "nothing to match",
            )
        else:
            self._show("match", "not baked" if bundle.texturing is None else "not checked")

    def rows(self, name: str) -> list[tuple[str, str, str]]:
        """Return the list behind a figure, worst first: words, figure, and the object they are about."""
        document = self.workspace.shown
        scene, bundle = document.scene, self.workspace.bundle
        if name == "draw_calls":
            results = [(len(scene.materials_of(item)), item.key) for item in scene.objects]
            return [
                (key, counted(count, "draw call"), key)
                for count, key in sorted(results, key=lambda pair: (-pair[0], pair[1]))
            ]
        if name == "materials":
            users: dict[int, list[str]] = {}
            for item in scene.objects:
                for index in scene.materials_of(item):
                    users.setdefault(index, []).append(item.key)
            return [
                (
                    scene.materials[index].name if index >= 0 else "default",
                    f"on {counted(len(keys), 'object')}",
                    keys[0],
                )
                for index, keys in sorted(users.items(), key=lambda pair: len(pair[1]))
            ]
        if name == "memory":
            images = sorted(
                ((texture_bytes(image.width, image.height), image) for image in scene.images),
                key=lambda pair: -pair[0],
            )
            return [
                (
                    image.name,
                    "missing" if image.missing else f"{image.width} × {image.height}, {size / MIB:.1f} MiB",
                    "",
                )
                for size, image in images
            ]
        if bundle is None:
            return []
        if name == "match" and bundle.check is not None:
            entries = sorted(bundle.check.fidelity, key=lambda entry: entry.figure(BASE_COLOR.name))
            return [
                (
                    entry.object,
                    f"{entry.figure(BASE_COLOR.name):.1f} dB"
                    + (f", yield {entry.yield_:.2f}" if math.isfinite(entry.yield_) else ""),
                    entry.object,
                )
                for entry in entries
            ]
        if name in ("density", "fill") and bundle.layout is not None and bundle.layout.scale > 0:
            found_densities = object_densities(*islands_alone(scene, bundle))
            return [
                (key, density_words(value), key)
                for key, value in sorted(found_densities.items(), key=lambda pair: pair[1])
                if math.isfinite(value)
            ]
        if name == "clean":
            return [
                (
                    other.name,
                    f"padding {other.sheet.padding} px: about {clean_size(other.sheet.width, other.sheet.padding)} px",
                    "",
                )
                for other in document.bundles
            ]
        return [(key, counted(cost_of(scene, (key,)).draw_calls, "draw call"), key) for key in bundle.objects]

    def open_list(self, name: str) -> None:
        """Open the list behind a figure; a row shows its object in the views."""
        dialog = QDialog(self.window(), Qt.WindowType.Popup)
        dialog.setObjectName(f"list_{name}")
        box = QVBoxLayout(dialog)
        box.setContentsMargins(6, 6, 6, 6)
        rows = QListWidget()
        rows.setAccessibleName(f"Details: {name}")
        for words, figure, key in self.rows(name):
            entry = QListWidgetItem(f"{words}   ·   {figure}")
            entry.setData(Qt.ItemDataRole.UserRole, key)
            rows.addItem(entry)
        if not rows.count():
            rows.addItem("Nothing to list yet.")

        def show(entry: QListWidgetItem) -> None:
            key = entry.data(Qt.ItemDataRole.UserRole)
            if key:
                self.workspace.select({key})
                self.workspace.frame_wanted.emit()
            dialog.close()

        rows.itemActivated.connect(show)
        rows.itemClicked.connect(show)
        box.addWidget(rows)
        dialog.resize(360, min(340, 40 + 27 * rows.count()))
        button = self.buttons[name]
        place = button.mapToGlobal(QPoint(0, -dialog.height() - 2))
        dialog.move(min(place.x(), self.window().geometry().right() - dialog.width() - 8), place.y())
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.show()
        rows.setFocus()
