"""Rows for settings: each control is built from what is declared of its setting, and changes all chosen bundles."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from PySide6.QtCore import QObject, Qt, QTimer
from PySide6.QtWidgets import QCheckBox, QComboBox, QDoubleSpinBox, QLabel, QLineEdit, QSlider, QSpinBox, QWidget

from fasciculum.app.fields import ComboBox, DoubleSpinBox, Slider, SpinBox
from fasciculum.app.parts import Form, Switch
from fasciculum.app.workspace import Workspace
from fasciculum.model.bake_settings import BakeSettings
from fasciculum.model.budget import Budget
from fasciculum.model.bundle import Bundle
from fasciculum.model.delivery import DeliverySettings
from fasciculum.model.document import Document
from fasciculum.model.settings import Declared, settings_of
from fasciculum.model.sheet import SheetSettings
from fasciculum.model.unwrapping import UnwrapSettings
from fasciculum.session import commands

#: milliseconds after the last change of a number before it becomes a step of the history
SETTLE = 350
#: of a slider
STEPS = 100
#: numbers beyond this are typed as floats; Qt's whole numbers end here
MOST_WHOLE = 2**31 - 1


@dataclass(frozen=True)
class Holder:
    """Where settings of a class stand, and how they are changed.

    Attributes
    ----------
    stage : str
        The stage that they are set under.
    settings : type
    get : callable
        Returns the settings that are shown, None when there are none.
    put : callable
        Returns a document with other values of them.
    about : callable
        Returns what they are settings of, in words.
    """

    stage: str
    settings: type
    get: Callable[[Workspace], Any]
    put: Callable[[Document, Workspace, dict[str, Any]], Document]
    about: Callable[[Workspace], str]

    def settings_in(self, document: Document, workspace: Workspace) -> Any:
        """Return the settings as a document has them, None when there are none."""
        if self.settings is SheetSettings and workspace.bundle is not None:
            return document.bundle(workspace.bundle.name).sheet
        return self.get(workspace)


def _nothing(value: Any, settings: Any) -> dict[str, Any]:
    return {}


def _of_bundles(stage: str, settings: type, get: Callable[[Bundle], Any], put: Callable[..., Document]) -> Holder:
    """Return where settings of the chosen bundles stand; the leading one's are shown, those of all are changed."""
    return Holder(
        stage,
        settings,
        lambda workspace: get(workspace.bundle) if workspace.bundle is not None else None,
        lambda document, workspace, values: put(document, workspace.bundle_names, **values),
        lambda workspace: ", ".join(workspace.bundle_names),
    )


SHEET = _of_bundles("lay out", SheetSettings, lambda bundle: bundle.sheet, commands.set_sheet)
UNWRAP = _of_bundles("lay out", UnwrapSettings, lambda bundle: bundle.sheet.unwrap, commands.set_unwrap)
BAKE = _of_bundles("bake", BakeSettings, lambda bundle: bundle.bake, commands.set_bake)
DELIVERY = Holder(
    "deliver",
    DeliverySettings,
    lambda workspace: workspace.shown.delivery,
    lambda document, workspace, values: commands.set_delivery(document, **values),
    lambda workspace: "the delivery",
)
BUDGET = Holder(
    "check",
    Budget,
    lambda workspace: workspace.shown.budget,
    lambda document, workspace, values: commands.set_budget(document, **values),
    lambda workspace: "the budget",
)
HOLDERS = (SHEET, UNWRAP, BAKE, BUDGET, DELIVERY)


class Rows(QObject):
    """The controls of one holder's settings; what is typed or dragged is shown at once, and kept when it settles."""

    def __init__(self, workspace: Workspace, holder: Holder, parent: QObject) -> None:
        super().__init__(parent)
        self.workspace, self.holder = workspace, holder
        self.controls: dict[str, QWidget] = {}
        self._declared = {entry.name: entry for entry in settings_of(holder.settings)}
        self._filling = False
        #: what else changes with a setting, by its new value and the settings as they are
        self.together: dict[str, Callable[[Any, Any], dict[str, Any]]] = {}
        self._pending: dict[str, Any] = {}
        self._settle = QTimer(self, singleShot=True, interval=SETTLE)
        self._settle.timeout.connect(self.commit)

    def form(self, fold: str, *, notes: dict[str, QLabel] | None = None, without: Sequence[str] = ()) -> Form:
        """Return the rows of the settings of a fold, with notes below some of them."""
        form = Form()
        for entry in self._declared.values():
            if entry.setting.fold == fold and entry.name not in without:
                form.row(
                    entry.setting.label, self.control(entry.name), entry.setting.tip, (notes or {}).get(entry.name)
                )
        return form

    def control(self, name: str) -> QWidget:
        """Return the control of a setting."""
        if name not in self.controls:
            entry = self._declared[name]
            control = self._made(entry)
            control.setAccessibleName(entry.setting.label)
            control.setToolTip(entry.setting.tip)
            control.setProperty("setting", f"{self.holder.settings.__name__}.{name}")
            self.controls[name] = control
        return self.controls[name]

    def _made(self, entry: Declared) -> QWidget:
        told = entry.setting
        if entry.type is bool:
            return self._switch(entry)
        if entry.choices or told.words:
            return self._chooser(entry)
        if entry.type is str:
            return self._text(entry)
        return self._slider(entry) if told.slide else self._number(entry)

    def _switch(self, entry: Declared) -> Switch:
        box = Switch(entry.setting.words.get(True, ""))
        box.toggled.connect(lambda on: self.change(**{entry.name: on}))
        return box

    def _chooser(self, entry: Declared) -> QComboBox:
        box = ComboBox()
        for value in entry.choices or tuple(entry.setting.words):
            box.addItem(entry.setting.words.get(value, str(value)), value)
        # what the list's highlighted entry would lead to shows before it is chosen
        box.highlighted.connect(lambda index: self.preview(**{entry.name: entry.type(box.itemData(index))}))
        box.activated.connect(lambda index: self.change(**{entry.name: entry.type(box.itemData(index))}))
        return box

    def _text(self, entry: Declared) -> QLineEdit:
        line = QLineEdit()
        line.editingFinished.connect(lambda: self.change(**{entry.name: line.text().strip()}))
        return line

    def _slider(self, entry: Declared) -> QSlider:
        slider = Slider(Qt.Orientation.Horizontal)
        slider.setRange(0, STEPS)
        low, high = entry.setting.low or 0.0, entry.setting.high or 1.0
        slider.valueChanged.connect(lambda at: self._typed(entry.name, low + (high - low) * at / STEPS))
        return slider

    def _number(self, entry: Declared) -> QWidget:
        told = entry.setting
        part = 100.0 if told.unit == "%" else 1.0
        low, high = (told.low or 0.0) * part, min((told.high or MOST_WHOLE) * part, MOST_WHOLE)
        # below the least value stands that it is not set
        low -= told.step if entry.optional else 0
        box: QSpinBox | QDoubleSpinBox
        if entry.type is int:
            box = SpinBox(minimum=int(low), maximum=int(high), singleStep=int(told.step))  # type: ignore[call-overload]
        else:
            box = DoubleSpinBox(minimum=low, maximum=high, decimals=told.decimals, singleStep=told.step)  # type: ignore[call-overload]
        if told.unit:
            box.setSuffix(told.unit if told.unit == "°" else f" {told.unit}")
        box.setSpecialValueText(told.unset)

        def typed(shown: float) -> None:
            unset = entry.optional and shown <= low
            self._typed(entry.name, None if unset else entry.type(shown / part) if part != 1.0 else shown)

        box.valueChanged.connect(typed)
        return box

    # -- changes ----------------------------------------------------------------------------------------------

    def preview(self, **values: Any) -> None:
        """Show what other values would lead to."""
        if not self._filling and self.holder.get(self.workspace) is not None:
            values = self._whole(values)
            self.workspace.preview(self.holder.put(self.workspace.document, self.workspace, values))

    def _whole(self, values: dict[str, Any]) -> dict[str, Any]:
        """Return values with those that change with them."""
        workspace = self.workspace
        # as they are kept, not as they are previewed
        before = self.holder.settings_in(workspace.document, workspace)
        results = dict(values)
        for name, value in values.items():
            for other, follows in self.together.get(name, _nothing)(value, before).items():
                results.setdefault(other, follows)
        return results

    def change(self, **values: Any) -> None:
        """Make other values a step of the history, where they are others."""
        now = self.holder.get(self.workspace)
        if self._filling or now is None:
            return
        words = ", ".join(self._declared[name].setting.label.lower() for name in values if name in self._declared)
        values = self._whole(values)
        label = f"Set {words} of {self.holder.about(self.workspace)}"
        before = self.workspace.document
        after = self.holder.put(before, self.workspace, values)
        if self._same(before, after):
            self.workspace.preview(None)
            return
        self.workspace.apply(label, lambda document: self.holder.put(document, self.workspace, values))

    def _same(self, before: Document, after: Document) -> bool:
        bundles = zip(before.bundles, after.bundles, strict=True)
        return (
            before.delivery == after.delivery
            and before.budget == after.budget
            and all(one.sheet == two.sheet and one.bake == two.bake for one, two in bundles)
        )

    def _typed(self, name: str, value: Any) -> None:
        if not self._filling and self.holder.get(self.workspace) is not None:
            self._pending[name] = value
            self.preview(**self._pending)
            self._settle.start()

    def commit(self) -> None:
        """Make what has been typed or dragged a step of the history."""
        self._settle.stop()
        pending, self._pending = self._pending, {}
        if pending:
            self.change(**pending)

    def drop(self) -> None:
        """Give up what has been typed and not kept yet."""
        self._settle.stop()
        self._pending = {}

    # -- what is shown ----------------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Show the settings as they are."""
        settings = self.holder.get(self.workspace)
        if settings is None:
            return
        self._filling = True
        for name, control in self.controls.items():
            entry = self._declared[name]
            control.setEnabled(entry.setting.when(settings))
            if name not in self._pending:
                self._show(entry, control, getattr(settings, name))
        self._filling = False

    def _show(self, entry: Declared, control: QWidget, value: Any) -> None:
        told = entry.setting
        if isinstance(control, QCheckBox):
            control.setChecked(value)
        elif isinstance(control, QComboBox):
            index = control.findData(value)
            if index < 0:
                control.addItem(str(value), value)
                index = control.count() - 1
            if not control.view().isVisible():
                control.setCurrentIndex(index)
        elif isinstance(control, QLineEdit):
            if not control.hasFocus():
                control.setText(value)
                control.setCursorPosition(0)
        elif isinstance(control, QSlider):
            low, high = told.low or 0.0, told.high or 1.0
            control.setValue(round((value - low) / (high - low) * STEPS))
        elif isinstance(control, QSpinBox):
            control.setValue(control.minimum() if value is None else value)
        elif isinstance(control, QDoubleSpinBox):
            shown = control.minimum() if value is None else value * (100.0 if told.unit == "%" else 1.0)
            if abs(control.value() - shown) > 1e-9:
                control.setValue(shown)
