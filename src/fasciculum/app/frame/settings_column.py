"""The right column: the settings of the chosen stage for the chosen bundles, with what each one changes."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import (
    QAbstractSpinBox,
    QCheckBox,
    QComboBox,
    QLabel,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QSlider,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from fasciculum.app.folds import FoldColumn
from fasciculum.app.given import GivenSheets
from fasciculum.app.layers import Layers
from fasciculum.app.lights import Lights
from fasciculum.app.look import Theme
from fasciculum.app.model.shaper import Shaper
from fasciculum.app.pairs import Pairs
from fasciculum.app.panels.bake import BakePanel
from fasciculum.app.panels.check import CheckPanel
from fasciculum.app.panels.deliver import DeliverPanel
from fasciculum.app.panels.gather import GatherPanel
from fasciculum.app.panels.lay_out import LayOutPanel
from fasciculum.app.panels.repairs import Repairs
from fasciculum.app.parts import Column
from fasciculum.app.workspace import STAGES, Workspace
from fasciculum.model.counting import counted
from fasciculum.operations.deliver.scene import bare_bundles
from fasciculum.session.stale import DONE, layout_state

#: letters of an act's name beside which its shortcut still finds room on the button
SHORT = 13
#: kinds of controls that settings have
FOUND = (QCheckBox, QComboBox, QLineEdit, QSlider, QAbstractSpinBox)


class SettingsColumn(QWidget):
    """One panel for each stage, and the stage's main act at the bottom."""

    def __init__(
        self,
        workspace: Workspace,
        theme: Theme,
        acts: Callable[[str], Callable[[], None]],
        repairs: Repairs,
        shaper: Shaper,
        pairs: Pairs,
        lights: Lights,
        layers: Layers,
        sheets: GivenSheets,
    ) -> None:
        super().__init__()
        self.workspace = workspace
        self.setObjectName("panel")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(0)
        self.title = QLabel()
        self.title.setProperty("heading", True)
        self.title.setContentsMargins(12, 10, 12, 4)
        box.addWidget(self.title)
        self.stack = QStackedWidget()
        self.lay_out = LayOutPanel(workspace, theme, acts, shaper, sheets)
        self.bake = BakePanel(workspace, theme, pairs)
        self.deliver = DeliverPanel(workspace, theme)
        self.gather = GatherPanel(workspace, theme, acts, pairs, lights, layers)
        self.pairing = self.gather.pairing
        self.check = CheckPanel(workspace, repairs, theme)
        self.panels: dict[str, Column] = {
            "gather": self.gather,
            "lay out": self.lay_out,
            "bake": self.bake,
            "check": self.check,
            "deliver": self.deliver,
        }
        self.areas: dict[str, QScrollArea] = {}
        for stage in STAGES:
            area = self.areas[stage] = QScrollArea()
            area.setObjectName("panel")
            area.setWidgetResizable(True)
            area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
            area.setWidget(self.panels[stage])
            area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
            self.stack.addWidget(area)
        box.addWidget(self.stack, 1)
        self.main = QPushButton()
        self.main.setProperty("main", True)
        self.main.clicked.connect(acts("main"))
        foot = QWidget()
        foot_box = QVBoxLayout(foot)
        foot_box.setContentsMargins(12, 6, 12, 10)
        foot_box.addWidget(self.main)
        box.addWidget(foot)
        for signal in (
            workspace.stage_changed,
            workspace.selection_changed,
            workspace.preview_changed,
            workspace.queue_changed,
        ):
            signal.connect(self.refresh)
        workspace.document_changed.connect(lambda *_: self.refresh())
        self.refresh()

    def commit(self) -> None:
        """Make what has been typed or dragged in any stage a step of the history."""
        for panel in (self.lay_out, self.bake, self.check, self.deliver):
            panel.commit()

    def named(self) -> dict[tuple[str, str], QWidget]:
        """Return every control that goes by a name, by its stage and name; of one name that of a setting."""
        hits = []
        for stage, panel in self.panels.items():
            for control in panel.findChildren(QWidget):
                name = control.accessibleName()
                if name and isinstance(control, FOUND) and not isinstance(control.parent(), QAbstractSpinBox):
                    hits.append(((stage, name), control))
        hits.sort(key=lambda hit: hit[1].property("setting") is None)
        return dict(reversed(hits))

    def open_fold(self, stage: str, fold: str) -> None:
        """Show a stage's panel with a fold of it open."""
        name = stage.lower()
        self.workspace.set_stage(name)
        panel = self.panels[name]
        part = panel.folds.get(fold) if isinstance(panel, FoldColumn) else None
        if part is not None:
            part.set_open(True)
            # once the fold has its size
            QTimer.singleShot(0, lambda: self.areas[name].ensureWidgetVisible(part))

    def go_to(self, stage: str, control: QWidget) -> None:
        """Show a control, and give it the keyboard."""
        self.workspace.set_stage(stage)
        panel = self.panels[stage]
        if isinstance(panel, FoldColumn):
            panel.reveal(control)
        control.setFocus(Qt.FocusReason.OtherFocusReason)
        # once the fold has its size
        QTimer.singleShot(0, lambda: self.areas[stage].ensureWidgetVisible(control))

    def main_words(self) -> tuple[str, bool]:
        """Return the words on the main button, and whether it can be pressed."""
        workspace = self.workspace
        names = workspace.bundle_names
        scene = bool(workspace.document.scene.objects)
        which = names[0] if len(names) == 1 else counted(len(names), "bundle") if names else "nothing"
        document = workspace.document
        ready = [bundle for bundle in document.bundles if bundle.texturing is not None]
        # a bundle whose materials are all kept apart has nothing to be packed or baked, and is delivered as it came
        bare = {bundle.name for bundle in bare_bundles(document)}
        filled = [bundle for bundle in workspace.bundles if bundle.objects]
        sheets = [bundle for bundle in filled if bundle.name not in bare]
        laid = [bundle for bundle in sheets if layout_state(document, bundle) == DONE]
        alone = bool(filled) and not sheets
        deliverable = bool(ready) or bool(bare)
        return {
            "gather": ("Add models", True),
            "lay out": ("No sheet is needed" if alone else f"Pack {which}", bool(sheets)),
            "bake": (
                "Nothing to bake" if alone else f"Bake {which}" if laid == sheets else f"Pack and bake {which}",
                bool(sheets),
            ),
            "check": ("Compare" if ready else "Nothing to compare" if alone else "Bake before checking", bool(ready)),
            "deliver": ("Deliver" if deliverable or not scene else "Bake before delivering", deliverable),
        }[workspace.stage]

    def refresh(self) -> None:
        """Show the stage's panel and name what it is about."""
        stage = self.workspace.stage
        names = self.workspace.bundle_names
        about = "" if stage in ("gather", "check", "deliver") else f": {', '.join(names) if names else 'no bundle'}"
        self.title.setText(f"{stage.capitalize()}{about}")
        self.stack.setCurrentIndex(STAGES.index(stage))
        words, can = self.main_words()
        self.main.setText(f"{words}    Ctrl+Return" if can and len(words) <= SHORT else words)
        self.main.setAccessibleName(words)
        self.main.setToolTip(f"{words} (Ctrl+Return)")
        self.main.setEnabled(can)
