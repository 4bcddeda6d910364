"""The stages in a line, each with its state in a word. Choosing one changes what the right column offers."""

from __future__ import annotations

from collections.abc import Callable
from itertools import pairwise
from operator import attrgetter

from PySide6.QtCore import QRectF, QSize, Qt
from PySide6.QtGui import QColor, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QAbstractButton, QHBoxLayout, QPushButton, QSizePolicy, QWidget

from fasciculum.app.look import Theme
from fasciculum.app.workspace import STAGES, Workspace
from fasciculum.model.counting import counted
from fasciculum.model.document import Document
from fasciculum.model.finding import INFO, matters_of
from fasciculum.session.everything import will_do
from fasciculum.session.session import all_findings
from fasciculum.session.stale import DONE, NONE, STALE, bake_state, check_state, delivery_state, layout_state

TIPS = {
    "gather": "Models, and how they are bundled (1)",
    "lay out": "Sheet size, padding and packing of the chosen bundles (2)",
    "bake": "Which maps are baked, and how (3)",
    "check": "How the result compares with the source, and findings (4)",
    "deliver": "Where results are written, and under which names (5)",
}


def stage_words(document: Document, stage: str) -> tuple[str, str]:
    """Return the word for a stage's state and how to colour it: good, broken or neither."""
    bundles = [bundle for bundle in document.bundles if bundle.objects]
    if stage == "gather":
        count = len(document.scene.objects)
        return (counted(count, "object"), "good") if count else ("nothing yet", "")
    if stage == "deliver":
        state = delivery_state(document)
        return {NONE: ("not yet", ""), STALE: ("stale", ""), DONE: ("delivered", "good")}[state]
    if stage == "check":
        # as many as are listed under Check
        every = all_findings(document)
        if any(finding.severity != INFO for finding in every):
            asking = [finding for finding in every if finding.asks]
            return counted(len(matters_of(asking, attrgetter("kind"))), "finding"), "broken"
    if not bundles:
        return "no bundles", ""
    judge = {"lay out": layout_state, "bake": bake_state, "check": check_state}[stage]
    states = [judge(document, bundle) for bundle in bundles]
    small = [bundle for bundle in bundles if bundle.layout is not None and bundle.layout.scale <= 0]
    if stage == "lay out" and small:
        return f"{len(small)} too small", "broken"
    if STALE in states:
        return f"{states.count(STALE)} stale", ""
    if NONE in states:
        undone = states.count(NONE)
        return ("not yet" if undone == len(states) else f"{undone} to do"), ""
    return "in order", "good"


class _Stop(QAbstractButton):
    """One stage: its name and its word."""

    def __init__(self, stage: str, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        self.words, self.state = "", ""
        self.setText(stage.capitalize())
        self.setCheckable(True)
        self.setToolTip(TIPS[stage])
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setMinimumSize(QSize(80, 40))
        self.setMaximumSize(QSize(98, 40))
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def sizeHint(self) -> QSize:
        return self.maximumSize()

    def say(self, words: str, state: str) -> None:
        self.words, self.state = words, state
        self.setAccessibleName(f"{self.text()}: {words}")
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        theme = self.theme
        box = QRectF(self.rect()).adjusted(1, 1, -1, -1)
        if self.isChecked() or self.hasFocus() or self.underMouse():
            painter.setPen(QPen(QColor(theme.accent if self.isChecked() or self.hasFocus() else theme.line), 1.3))
            painter.setBrush(QColor(theme.raised) if self.isChecked() else Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(box, 6, 6)
        painter.setPen(QColor(theme.text))
        painter.drawText(QRectF(0, 4, self.width(), 18), Qt.AlignmentFlag.AlignCenter, self.text())
        font = painter.font()
        font.setPixelSize(11)
        painter.setFont(font)
        painter.setPen(QColor({"good": theme.good, "broken": theme.broken}.get(self.state, theme.quiet)))
        painter.drawText(QRectF(0, 21, self.width(), 15), Qt.AlignmentFlag.AlignCenter, self.words)


class _Make(QPushButton):
    """The act at the end of the line that makes everything; while it runs it shows how far it is."""

    def __init__(self, theme: Theme) -> None:
        super().__init__("Make everything")
        self.theme, self.part = theme, -1.0
        self.setAccessibleName("Make everything")
        self.setMinimumHeight(32)

    def show_part(self, part: float) -> None:
        """Show how much of a run is done, 0 to 1; below 0 when none is under way."""
        self.part = part
        self.setText(f"Making … {part:.0%}" if part >= 0 else "Make everything")
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        super().paintEvent(event)
        if self.part >= 0:
            painter = QPainter(self)
            painter.fillRect(QRectF(4, self.height() - 5, (self.width() - 8) * self.part, 2), QColor(self.theme.accent))


class StageLine(QWidget):
    """All stages, and the act that does what is left of all of them."""

    def __init__(self, workspace: Workspace, theme: Theme) -> None:
        super().__init__()
        self.workspace = workspace
        self.theme = theme
        line = QHBoxLayout(self)
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(10)
        self.stops: dict[str, _Stop] = {}
        for stage in STAGES:
            stop = _Stop(stage, theme)
            stop.clicked.connect(lambda _=False, stage=stage: workspace.set_stage(stage))
            self.stops[stage] = stop
            line.addWidget(stop)
        self.make = _Make(theme)
        self.make.clicked.connect(lambda _=False: self._make())
        line.addWidget(self.make)
        #: makes everything, and shows the queue while that is under way
        self.make_everything: Callable[[], None] = lambda: None
        self.folder: Callable[[], str] = lambda: ""
        self.open_queue: Callable[[], None] = lambda: None
        workspace.queue_changed.connect(self._show_run)
        workspace.document_changed.connect(lambda *_: self.refresh())
        workspace.preview_changed.connect(self.refresh)
        workspace.stage_changed.connect(self.refresh)
        self.refresh()

    def _make(self) -> None:
        (self.open_queue if self.workspace.making_everything else self.make_everything)()

    def _show_run(self) -> None:
        run = self.workspace.everything
        under_way = run is not None and not run.over
        self.make.show_part(run.fraction if run is not None and under_way else -1.0)
        if run is not None and under_way:
            part = run.running
            self.make.setToolTip(f"{part.title if part else run.title}. Click to see all parts, and to cancel.")
        else:
            self._say_make()

    def _say_make(self) -> None:
        document = self.workspace.document
        self.make.setEnabled(bool(document.scene.objects))
        words = will_do(document, self.folder())
        self.make.setToolTip(f"Bring everything up to date: {words} (Ctrl+Shift+M)")

    def refresh(self) -> None:
        """Renew every stage's word."""
        if not self.workspace.making_everything:
            self._say_make()
        for stage, stop in self.stops.items():
            stop.say(*stage_words(self.workspace.shown, stage))
            stop.setChecked(stage == self.workspace.stage)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setPen(QPen(QColor(self.theme.line), 1))
        stops = [*self.stops.values(), self.make]
        for one, two in pairwise(stops):
            y = one.geometry().center().y()
            painter.drawLine(one.geometry().right() + 2, y, two.geometry().left() - 2, y)
