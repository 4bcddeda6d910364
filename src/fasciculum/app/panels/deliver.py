"""Where results are written, under which names and by which convention."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

from PySide6.QtWidgets import (
    QFileDialog,
    QGridLayout,
    QHBoxLayout,
    QInputDialog,
    QLabel,
    QLineEdit,
    QMessageBox,
    QPushButton,
    QSizePolicy,
    QWidget,
)

from fasciculum.app.fields import ComboBox
from fasciculum.app.folds import FoldColumn
from fasciculum.app.look import Theme
from fasciculum.app.parts import Form, Switch, note
from fasciculum.app.rows import DELIVERY, Rows
from fasciculum.app.workspace import Workspace
from fasciculum.errors import FasciculumError
from fasciculum.io.formats.table import WRITTEN_FORMATS
from fasciculum.model.choices import Combine, Compression, Green
from fasciculum.model.counting import counted
from fasciculum.model.delivery import BUILT_IN, PATTERN, DeliverySettings
from fasciculum.model.document import Document
from fasciculum.model.map_overrides import judge_pattern
from fasciculum.model.maps import KINDS
from fasciculum.model.settings import words_of
from fasciculum.operations.bake.bake import wanted_maps
from fasciculum.operations.deliver.conventions import delivery_name
from fasciculum.operations.deliver.deliver import delivered_names, notes_on
from fasciculum.operations.deliver.joining import balance
from fasciculum.operations.deliver.scene import bare_bundles, ready_bundles
from fasciculum.operations.ledger import ledger_of
from fasciculum.session import commands
from fasciculum.session.everything import not_ready
from fasciculum.session.pipeline import written_beside
from fasciculum.session.stale import DONE, STALE, check_state, delivery_state
from fasciculum.units import memory_words


class DeliverPanel(FoldColumn):
    """Folder, convention, names, and what goes along."""

    def __init__(self, workspace: Workspace, theme: Theme) -> None:
        super().__init__("deliver", workspace.settings, ("Folder", "Delivery", "Will be written"))
        self.workspace = workspace
        self._filling = False
        self.rows = Rows(workspace, DELIVERY, self)
        self.fold("Folder", theme, *self._where())
        self.fold("Delivery", theme, *self._convention())
        self.name_note, self.balance_note = note(), note()
        self.fold("Names", theme, self.rows.form("Names", notes={"name": self.name_note}))
        pattern = self.rows.control("pattern")
        assert isinstance(pattern, QLineEdit)
        self.pattern = pattern
        # what it may be is judged before it is kept
        self.pattern.editingFinished.disconnect()
        self.pattern.editingFinished.connect(self._change_pattern)
        self.fold("Models", theme, self._kinds(), self.rows.form("Models"))
        self.fold("Textures", theme, self._which_maps(), self.rows.form("Textures"))
        self.kept = note()
        self.fold("Compression", theme, self.rows.form("Compression"), self.kept)
        self.fold("Meshes", theme, self.rows.form("Meshes", notes={"region": self.balance_note}))
        self.files = QLabel()
        self.files.setProperty("quiet", True)
        self.files.setWordWrap(True)
        self.files.setMinimumWidth(60)
        self.fold("Will be written", theme, self.files)
        self.box.addStretch(1)
        workspace.document_changed.connect(lambda *_: self.refresh())
        workspace.preview_changed.connect(self.refresh)
        workspace.opened.connect(self._follow_project)
        self.refresh()

    # -- parts ------------------------------------------------------------------------------------------------

    def _where(self) -> tuple[QWidget, ...]:
        form = Form()
        self.folder = QLineEdit()
        self.folder.setPlaceholderText("none yet")
        self.folder.textChanged.connect(lambda _: self._say_folder())
        form.row("Folder", self.folder, "Folder for the written files. Other files in it are not touched.")
        self.choose = QPushButton("Choose folder …")
        self.choose.setToolTip("Choose the folder to deliver to")
        self.choose.clicked.connect(self._choose)
        return form, self.choose

    def _convention(self) -> tuple[QWidget, ...]:
        self.title = ComboBox()
        self.title.setAccessibleName("Delivery")
        self.title.setToolTip(
            "A preset for the settings below, named after its convention. Included are presets for common "
            "conventions; the project keeps your own."
        )
        self.title.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.title.activated.connect(self._choose_delivery)
        self.keep_as = QPushButton("Save preset …")
        self.keep_as.setToolTip("Save the settings below as a preset of this project")
        self.keep_as.clicked.connect(self._keep_as)
        return self.title, self.keep_as

    def _kinds(self) -> QWidget:
        row = QWidget()
        line = QHBoxLayout(row)
        line.setContentsMargins(0, 0, 0, 0)
        self.kinds: dict[str, Switch] = {}
        for entry in WRITTEN_FORMATS:
            box = Switch(entry.suffix)
            box.setToolTip(entry.tip)
            box.setAccessibleName(f"Write {entry.suffix}")
            box.toggled.connect(self._kinds_changed)
            self.kinds[entry.name] = box
            line.addWidget(box)
        line.addStretch(1)
        return row

    def _which_maps(self) -> QWidget:
        row = QWidget()
        grid = QGridLayout(row)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setVerticalSpacing(0)
        self.maps: dict[str, Switch] = {}
        for number, kind in enumerate(KINDS.values()):
            box = Switch(kind.short)
            box.setToolTip(f"Write the textures of {kind.title.lower()}")
            box.setAccessibleName(f"Write {kind.title.lower()}")
            box.toggled.connect(self._maps_changed)
            self.maps[kind.name] = box
            grid.addWidget(box, number // 2, number % 2)
        return row

    # -- changes ----------------------------------------------------------------------------------------------

    def commit(self) -> None:
        """Make what has been typed a step of the history."""
        self.rows.commit()

    def _change(self, **values: Any) -> None:
        if not self._filling:
            self.rows.change(**values)

    def _change_pattern(self) -> None:
        pattern = self.pattern.text().strip() or PATTERN
        try:
            judge_pattern(pattern)
        except FasciculumError as error:
            self.workspace.say(str(error), "broken")
            self.refresh()
            return
        self._change(pattern=pattern)

    def _kinds_changed(self) -> None:
        chosen = tuple(kind for kind, box in self.kinds.items() if box.isChecked())
        if not self._filling:
            self._change(models=chosen)

    def _maps_changed(self) -> None:
        if self._filling:
            return
        chosen = tuple(name for name, box in self.maps.items() if box.isChecked() and not box.isHidden())
        shown = [box for box in self.maps.values() if not box.isHidden()]
        if not chosen:
            self.workspace.say("A delivery needs at least one kind of texture.", "broken")
            self.refresh()
            return
        self._change(maps=() if len(chosen) == len(shown) else chosen)

    def _choose_delivery(self, index: int) -> None:
        settings: DeliverySettings = self.title.itemData(index)
        if settings != self.workspace.document.delivery:
            self.workspace.apply(
                f"Apply delivery preset {settings.title}", lambda document: commands.choose_delivery(document, settings)
            )

    def _keep_as(self) -> None:
        present = self.workspace.document.delivery.title
        title, done = QInputDialog.getText(self, "Save delivery preset", "Name of the preset", text=present)
        if done:
            self.workspace.apply(
                f"Save delivery preset {title}", lambda document: commands.keep_delivery(document, title)
            )

    def _choose(self) -> None:
        result = QFileDialog.getExistingDirectory(self, "Deliver to", self.folder.text() or str(Path.home()))
        if result:
            self.folder.setText(result)

    def _follow_project(self) -> None:
        """Show where another project was delivered to, or nothing."""
        self.folder.setText(self.workspace.document.delivered_to)

    def wanted_folder(self) -> str:
        """Return the folder that is written there, asking for one when there is none; empty when none is chosen."""
        if not self.folder.text().strip():
            self._choose()
        folder = self.folder.text().strip()
        return str(Path(folder).expanduser()) if folder else ""

    def deliver(self) -> None:
        """Deliver to the folder that is written there; what is not up to date is asked about first."""
        folder = self.wanted_folder()
        if not folder:
            return
        left = self.workspace.not_ready()
        if not left:
            self.workspace.deliver(folder)
            return
        ask = QMessageBox(self.window())
        ask.setWindowTitle("Out of date")
        lines = "\n".join(f"{bundle.name}: {why}" for bundle, why in left[:12])
        ask.setText(f"The bundles' results are older than the project.\n\n{lines}")
        bring = ask.addButton("Update and deliver", QMessageBox.ButtonRole.AcceptRole)
        as_it_is = ask.addButton("Deliver anyway", QMessageBox.ButtonRole.DestructiveRole)
        ask.addButton("Do not deliver", QMessageBox.ButtonRole.RejectRole)
        ask.setDefaultButton(bring)
        ask.exec()
        if ask.clickedButton() is bring:
            self.workspace.make_everything(folder)
        elif ask.clickedButton() is as_it_is:
            self.workspace.deliver(folder, as_it_is=True)

    # -- what is shown ----------------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Show the settings and the names that follow from them."""
        document = self.workspace.shown
        settings = document.delivery
        self._filling = True
        if not self.folder.text() and document.delivered_to:
            self.folder.setText(document.delivered_to)
        self._fill_titles()
        for kind, box in self.kinds.items():
            box.setChecked(kind in settings.models)
        bundles = [bundle for bundle in document.bundles if bundle.objects]
        present = {name for bundle in bundles for name in wanted_maps(document.scene, bundle).maps}
        present = present or {kind.name for kind in KINDS.values() if kind.fills}
        for name, box in self.maps.items():
            box.setChecked(not settings.maps or name in settings.maps)
            box.setVisible(name in present or name in settings.maps)
        self._filling = False
        self.rows.refresh()
        line = self.rows.control("name")
        assert isinstance(line, QLineEdit)
        line.setPlaceholderText(document.name)
        self.name_note.setText(f"written as {delivery_name(document)}")
        self._show_balance()
        self._say_folds(settings)
        self._show_files()

    def _say_folder(self) -> None:
        name = self.folder.text().strip()
        self.folds["Folder"].say(Path(name).name if name else "none chosen")

    def _say_folds(self, settings: DeliverySettings) -> None:
        """Tell what each fold comes to."""
        self._say_folder()
        self.folds["Delivery"].say(self.title.currentText())
        self.folds["Names"].say(delivery_name(self.workspace.document))
        self.folds["Models"].say(", ".join(f".{kind}" for kind in settings.models) or "none")
        green = "green down" if settings.green == Green.DOWN else "green up"
        self.folds["Textures"].say(f"{words_of(settings, 'packing')} · {green}")
        joined = settings.combine == Combine.BUNDLE
        self.folds["Meshes"].say(
            (f"joined by {settings.region:g} m" if settings.region else "joined") if joined else "apart"
        )

    def _fill_titles(self) -> None:
        document = self.workspace.document
        known = {settings.title: settings for settings in (*BUILT_IN, *document.deliveries)}
        present = document.delivery
        plain = commands.choose_delivery(document, known[present.title]).delivery if present.title in known else None
        self.title.clear()
        for settings in known.values():
            self.title.addItem(settings.title, settings)
        if plain != present:
            self.title.addItem(f"{present.title} (changed)", present)
            self.title.setCurrentIndex(self.title.count() - 1)
        else:
            self.title.setCurrentText(present.title)

    def _show_balance(self) -> None:
        document = self.workspace.document
        bundles = [bundle for bundle in document.bundles if bundle.objects]
        if not bundles or document.delivery.combine != Combine.BUNDLE:
            self.balance_note.setText("each object is a draw call of its own" if bundles else "")
            self.balance_note.setVisible(bool(bundles))
            return
        result = balance(document.scene, bundles, document.delivery)
        # the same figures as in the ledger
        apart = replace(document, delivery=replace(document.delivery, combine=Combine.NONE))
        calls = tuple(ledger_of(one).after.draw_calls for one in (apart, document))
        self.balance_note.setVisible(True)
        self.balance_note.setText(
            f"{calls[0]} → {calls[1]} draw calls; seeing a corner of an object draws "
            f"{result.seen_apart:,.0f} → {result.seen_joined:,.0f} triangles on average"
        )

    def _show_files(self) -> None:
        document = self.workspace.document
        fold = self.folds["Will be written"]
        apart = bare_bundles(document)
        if not ready_bundles(document) and not apart:
            self.files.setText("Nothing is baked yet.")
            fold.say("nothing yet")
            return
        try:
            models = tuple(entry.suffix for entry in WRITTEN_FORMATS)
            lines = sorted(delivered_names(document), key=lambda name: not name.endswith(models))
            folder = Path(self.folder.text().strip()).expanduser()
            lines += written_beside(document, folder, self.workspace.session.path)
        except FasciculumError as error:
            lines = [str(error)]
        fold.say(counted(len(lines), "file"))
        self.kept.setText(_kept_words(document))
        self.kept.setVisible(bool(self.kept.text()))
        if apart:
            names = ", ".join(bundle.name for bundle in apart)
            lines.append(f"\n{names}: all materials are kept apart and delivered unchanged.")
        lines += [f"\n{words}" for words in notes_on(document)]
        lines += [f"\n{bundle.name}: {why}." for bundle, why in not_ready(document)]
        state = {DONE: f"\nDelivered to {document.delivered_to}.", STALE: "\nThe last delivery is stale."}
        lines.append(state.get(delivery_state(document), ""))
        # names may break behind an underscore
        self.files.setText("\n".join(lines).replace("_", "_\u200b"))


def _kept_words(document: Document) -> str:
    """Return in lines how each map came through compression, as far as that was checked."""
    if document.delivery.compress is Compression.NONE:
        return ""
    lines = []
    for bundle in document.bundles:
        if bundle.check is None or check_state(document, bundle) != DONE:
            if bundle.objects:
                lines.append(f"{bundle.name}: check it to see what its maps keep.")
            continue
        for one in bundle.check.compressed:
            title = KINDS[one.name].title if one.name in KINDS else one.name
            kept = f"{one.db[0]:.1f} dB" if one.db else ""
            form = one.block.upper() if one.block != "none" else "uncompressed"
            lines.append(f"{bundle.name}, {title}: {form}, {kept}, {memory_words(one.bytes)}")
    return "\n".join(lines)
