"""Named bakes: kept for a bundle or as presets, taken, run into files one or all, and handed on as files."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QAbstractItemView,
    QFileDialog,
    QGridLayout,
    QInputDialog,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QWidget,
)

from fasciculum.app.parts import Column, note
from fasciculum.app.workspace import Workspace
from fasciculum.errors import FasciculumError
from fasciculum.model.bundle import Bundle
from fasciculum.model.document import Document
from fasciculum.model.named_bakes import NamedBake
from fasciculum.operations.deliver.writing import write_whole
from fasciculum.project.bakes import presets_bytes, presets_of
from fasciculum.session import commands

ROLE = Qt.ItemDataRole.UserRole


class NamedBakes(Column):
    """The named bakes that suit the leading bundle, and what can be done with them."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace = workspace
        #: what they come to in a few words
        self.words = ""
        self.box.setContentsMargins(0, 0, 0, 0)
        self.list = QListWidget()
        self.list.setAccessibleName("Named bakes")
        self.list.setToolTip(
            "Maps and bake settings saved under a name. Double-click one to apply it to the chosen bundles."
        )
        self.list.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.list.setFixedHeight(92)
        self.list.itemDoubleClicked.connect(lambda _: self._take())
        self.list.itemSelectionChanged.connect(self._enable)
        self.hint = note(
            "None yet. Save the settings of this column under a name, to bake with them again or in the batch list."
        )
        self.keep = self._button(
            "Keep …", "Save this column's settings under a name, for this bundle", lambda: self._keep(False)
        )
        self.preset = self._button(
            "Save for all …",
            "Save this column's settings as a preset for every bundle",
            lambda: self._keep(True),
        )
        self.take = self._button("Take", "Apply the chosen named bake to the chosen bundles", self._take)
        self.drop = self._button("Drop", "Delete the chosen named bakes", self._drop)
        self.run = self._button(
            "Run chosen …", "Bake this bundle into files with the chosen named bakes", self._run_chosen
        )
        self.run_all = self._button(
            "Run all …",
            "Bake every bundle into files with its own named bakes and the presets",
            self.ask_and_run,
        )
        for widget in (self.hint, self.list, self._pairs(self.keep, self.preset, self.take, self.drop)):
            self.box.addWidget(widget)
        self.open_file = self._button("Load presets …", "Load named bakes from a file", self._open)
        self.save_file = self._button("Save presets …", "Save all named bakes to a file", self._save)
        self.box.addWidget(self._pairs(self.run, self.run_all, self.open_file, self.save_file))

    @staticmethod
    def _button(words: str, tip: str, act: Callable[[], None]) -> QPushButton:
        button = QPushButton(words)
        button.setToolTip(tip)
        button.setStyleSheet("padding: 3px 4px")
        button.clicked.connect(act)
        return button

    @staticmethod
    def _pairs(*buttons: QPushButton) -> QWidget:
        rows = QWidget()
        grid = QGridLayout(rows)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setSpacing(4)
        for number, button in enumerate(buttons):
            grid.addWidget(button, number // 2, number % 2)
        return rows

    # -- what is shown ----------------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Show the named bakes that suit the leading bundle."""
        bundle = self.workspace.bundle
        shown = [one for one in self.workspace.document.bakes if bundle is not None and one.suits(bundle.identity)]
        if [self.list.item(row).data(ROLE) for row in range(self.list.count())] != shown:
            chosen = {one.title for one in self.chosen()}
            self.list.clear()
            for one in shown:
                item = QListWidgetItem(f"{one.title}{'' if one.bundle else '  · for all'}")
                item.setData(ROLE, one)
                item.setToolTip(_words(one))
                self.list.addItem(item)
                item.setSelected(one.title in chosen)
        present = next((one.title for one in shown if bundle is not None and one.settings == bundle.bake), "")
        self.words = present or (f"{len(shown)} kept" if shown else "none")
        self.hint.setVisible(not shown)
        self.list.setVisible(bool(shown))
        self._enable()

    def _enable(self) -> None:
        some = bool(self.chosen())
        for button in (self.take, self.drop, self.run):
            button.setEnabled(some)
        for button in (self.run_all, self.save_file):
            button.setEnabled(bool(self.workspace.document.bakes))

    def chosen(self) -> list[NamedBake]:
        """Return what is chosen in the list."""
        return [item.data(ROLE) for item in self.list.selectedItems()]

    # -- what is done -----------------------------------------------------------------------------------------

    def _keep(self, for_all: bool) -> None:
        bundle = self.workspace.bundle
        if bundle is None:
            return
        present = self.chosen()[0].title if self.chosen() else ""
        title, done = QInputDialog.getText(
            self, "Save as a named bake", "Name of these maps and settings", text=present
        )
        if done:
            identity = "" if for_all else bundle.identity
            bake = bundle.bake
            self.workspace.apply(
                f"Save bake {title}", lambda document: commands.keep_bake(document, title, bake, identity)
            )

    def _take(self) -> None:
        chosen = self.chosen()
        if chosen:
            named, names = chosen[0], self.workspace.bundle_names
            self.workspace.apply(
                f"Apply bake {named.title}", lambda document: commands.take_bake(document, names, named)
            )

    def _drop(self) -> None:
        chosen = self.chosen()

        def change(document: Document) -> Document:
            for named in chosen:
                document = commands.drop_bake(document, named)
            return document

        if chosen:
            self.workspace.apply(f"Delete bake {', '.join(one.title for one in chosen)}", change)

    def _run_chosen(self) -> None:
        bundle = self.workspace.bundle
        if bundle is not None:
            self._run([(named, bundle) for named in self.chosen()])

    def ask_and_run(self) -> None:
        """Bake every bundle by all that suits it, into a folder that is asked for."""
        document = self.workspace.document
        filled = [bundle for bundle in document.bundles if bundle.objects]
        self._run([(one, bundle) for bundle in filled for one in document.bakes if one.suits(bundle.identity)])

    def _run(self, wanted: list[tuple[NamedBake, Bundle]]) -> None:
        if not wanted:
            self.workspace.say("No named bake fits a bundle of this project.", "broken")
            return
        start = self.workspace.document.delivered_to or str(Path.home())
        folder = QFileDialog.getExistingDirectory(self, "Bake into", start)
        if folder:
            self.workspace.bake_files(wanted, Path(folder))

    # -- files that are handed on -----------------------------------------------------------------------------

    def _open(self) -> None:
        path, _ = QFileDialog.getOpenFileName(self, "Presets of bakes", "", "Presets of bakes (*.json)")
        if path:
            self.read_presets(Path(path))

    def read_presets(self, path: Path) -> None:
        """Take the presets of a file in; those of the same titles give way."""
        told: list[str] = []
        try:
            result = presets_of(path.read_bytes(), path.name, told.append)
        except OSError as error:
            self.workspace.say(f"{path.name} cannot be read ({error.strerror}). Choose another file.", "broken")
            return
        except FasciculumError as error:
            self.workspace.say(str(error), "broken")
            return

        def change(document: Document) -> Document:
            for one in result:
                document = commands.keep_bake(document, one.title, one.settings)
            return document

        self.workspace.apply(f"Load {path.name}", change)
        self.workspace.say(" ".join([f"Loaded {len(result)} presets.", *told]), "broken" if told else "good")

    def _save(self) -> None:
        path, _ = QFileDialog.getSaveFileName(self, "Save presets", "bakes.json", "Presets of bakes (*.json)")
        if path:
            self.write_presets(Path(path))

    def write_presets(self, path: Path) -> None:
        """Save all named bakes to a file."""
        try:
            write_whole(path, presets_bytes(self.workspace.document.bakes))
        except FasciculumError as error:
            self.workspace.say(str(error), "broken")


def _words(named: NamedBake) -> str:
    """Return what a named bake makes, in a line."""
    bake = named.settings
    maps = ", ".join(bake.maps) or "the maps that materials need"
    packed = f"; packed: {', '.join(file.name for file in bake.packed)}" if bake.packed else ""
    return f"{maps}{packed}. {bake.bits} bits, {bake.format.upper()}, {bake.samples} samples a texel."
