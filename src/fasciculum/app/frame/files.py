"""What the artist does with files: open, save, add, drop, leave; and what is said of files that changed or went."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PySide6.QtCore import QTimer
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QFileDialog, QMessageBox, QWidget

from fasciculum.app.demo import open_demo
from fasciculum.app.following import Following
from fasciculum.app.frame.keeper import Keeper
from fasciculum.app.frame.notice import Choice, NoticeBar
from fasciculum.app.parts import MODELS
from fasciculum.app.workspace import Workspace
from fasciculum.errors import FasciculumError, MissingLibrary, MissingSource
from fasciculum.io.formats.table import READ_FORMATS, suffixes
from fasciculum.model.counting import counted
from fasciculum.operations.gather.pairing import high_by_name
from fasciculum.session.recovery import LostWork, forget_work


def _nothing() -> None:
    """Do nothing: what was offered was declined."""


PROJECTS = "Fasciculum projects (*.fasc)"


class Files:
    """The window's dealings with files."""

    def __init__(self, workspace: Workspace, window: QWidget, notices: NoticeBar) -> None:
        self.window, self.workspace, self.notices = window, workspace, notices
        self.keeper = Keeper(self.workspace)
        self.keeper.sources_changed.connect(self._sources_changed)
        self.workspace.failed.connect(self._failed)
        self.workspace.gathered.connect(self._offer_high)
        self.leaving = False
        #: who takes changed sources by itself, when it is on
        self.follow: Following | None = None

    # -- projects ---------------------------------------------------------------------------------------------

    def new(self) -> None:
        """Start over."""
        self.leave_for(self.workspace.new)

    def open(self) -> None:
        """Ask for a project and open it."""
        name, _ = QFileDialog.getOpenFileName(self.window, "Open project", "", PROJECTS)
        if name:
            self.leave_for(lambda: self.workspace.open(Path(name)))

    def open_demo(self) -> None:
        """Open the demo station."""
        self.leave_for(lambda: open_demo(self.workspace))

    def save(self) -> None:
        """Save, asking for a name the first time."""
        if self.workspace.session.path is None:
            self.save_as()
        else:
            self.workspace.save(self.workspace.session.path)

    def save_as(self, then: Callable[[], None] | None = None) -> None:
        """Ask for a name and save."""
        document = self.workspace.document
        beside = Path(document.scene.sources[0].path).parent if document.scene.sources else Path.home()
        name, _ = QFileDialog.getSaveFileName(
            self.window, "Save project", str(beside / f"{document.name}.fasc"), PROJECTS
        )
        if name:
            path = Path(name)
            self.workspace.save(path if path.suffix == ".fasc" else path.with_name(f"{path.name}.fasc"), then)

    # -- models -----------------------------------------------------------------------------------------------

    def add_models(self) -> None:
        """Ask for model files and gather them."""
        names, _ = QFileDialog.getOpenFileNames(self.window, "Add models", "", MODELS)
        if names:
            self.workspace.gather(names)

    def add_folder(self) -> None:
        """Ask for a folder and gather all models in it."""
        name = QFileDialog.getExistingDirectory(self.window, "Add all models of a folder")
        if name:
            self.workspace.gather([name])

    def take(self, paths: list[Path]) -> None:
        """Open a project, or gather models and folders, by what the files are."""
        projects = [path for path in paths if path.suffix.lower() == ".fasc"]
        models = [path for path in paths if path.is_dir() or path.suffix.lower() in READ_FORMATS]
        models = [path for path in models if path not in projects]
        others = [path for path in paths if path not in projects and path not in models]
        if projects:
            self.leave_for(lambda: self.workspace.open(projects[0]))
        elif models:
            self.workspace.gather([str(path) for path in models])
        if others:
            self.workspace.say(
                f"{others[0].name} cannot be added. Drop {suffixes()} models, folders of them, or a .fasc project.",
                "broken",
            )

    def _offer_high(self, came: list[str]) -> None:
        """Offer to read objects that are called high-poly into the others."""
        scene = self.workspace.document.scene
        high = high_by_name(scene, [key for key in came if scene.has(key)])
        if not high or len(high) == len(scene.objects):
            return
        what = high[0] if len(high) == 1 else counted(len(high), "object")
        self.notices.tell(
            "high",
            f"{what} look{'s' if len(high) == 1 else ''} like high-poly by the name.",
            (
                Choice(
                    "Use as high-poly",
                    "Bake them into the objects that they are paired with; they are not delivered",
                    partial(self.workspace.use_as_high, high),
                ),
                Choice(
                    "Leave as objects",
                    "Add them as ordinary objects. You can choose Use as high-poly in their menu later",
                    _nothing,
                ),
            ),
        )

    def reload(self) -> None:
        """Read all sources again."""
        self.notices.withdraw("sources")
        self.workspace.reload()

    def _sources_changed(self, paths: list[str]) -> None:
        if self.follow is not None and self.follow.on:
            self.follow.changed()
            return
        name = Path(paths[0]).name
        more = f" and {len(paths) - 1} more" if len(paths) > 1 else ""
        self.notices.tell(
            "sources",
            f"{name}{more} changed on disk since it was read.",
            (
                Choice("Reload", "Reload the sources; unchanged objects keep their layout and maps", self.reload),
                Choice(
                    "Not now",
                    "Keep the models as they were read. You can reload later from the project menu",
                    self.keeper.accept,
                ),
            ),
        )

    def _failed(self, error: FasciculumError, again: object) -> None:
        """Offer to say where a project's source is now, or to copy the line that installs a library."""
        if isinstance(error, MissingLibrary):
            self._offer_line(error)
            return
        if not isinstance(error, MissingSource) or not callable(again):
            return
        ask = QMessageBox(self.window)
        ask.setWindowTitle("Source not found")
        ask.setText(f"{error.message}\n{error.file}")
        where = ask.addButton("Locate …", QMessageBox.ButtonRole.AcceptRole)
        without = ask.addButton("Open without it", QMessageBox.ButtonRole.DestructiveRole)
        ask.addButton("Do not open", QMessageBox.ButtonRole.RejectRole)
        ask.exec()
        if ask.clickedButton() is where:
            result, _ = QFileDialog.getOpenFileName(self.window, f"Where is {Path(error.file).name}?", "", MODELS)
            if result:
                again(error.file, result)
        elif ask.clickedButton() is without:
            again(error.file, "")

    def _offer_line(self, error: MissingLibrary) -> None:
        ask = QMessageBox(self.window)
        ask.setWindowTitle("Library not installed")
        ask.setText(f"{error.file}: {error.message}")
        ask.setInformativeText(f"Type this in the environment of Fasciculum, then add the file again:\n{error.line}")
        copy = ask.addButton("Copy the line", QMessageBox.ButtonRole.AcceptRole)
        ask.addButton("Close", QMessageBox.ButtonRole.RejectRole)
        ask.exec()
        if ask.clickedButton() is copy:
            QGuiApplication.clipboard().setText(error.line)

    # -- recovery ---------------------------------------------------------------------------------------------

    def offer_lost_work(self) -> None:
        """Offer the work of sessions that ended by themselves, the latest first."""
        for work in self.keeper.lost()[:3]:
            self.notices.tell(
                f"lost {work.kept}",
                f"{work.name} was not saved when the program ended; it was kept at {self.keeper.when(work)}.",
                (
                    Choice("Recover", "Recover the unsaved work", partial(self._recover, work)),
                    Choice("Discard", "Delete the unsaved work", partial(forget_work, work.kept)),
                ),
            )

    def _recover(self, work: LostWork) -> None:
        self.leave_for(lambda: self.workspace.recover(work, partial(self.keeper.adopt, work)))

    # -- leaving ----------------------------------------------------------------------------------------------

    def leave_for(self, following: Callable[[], None]) -> None:
        """Do something that gives up the present project, once what is unsaved has been dealt with."""
        session = self.workspace.session
        if not session.unsaved or not session.document.scene.objects:
            following()
            return
        ask = QMessageBox(self.window)
        ask.setWindowTitle("Unsaved work")
        ask.setText(f"{session.document.name} has changes that are not saved.")
        keep = ask.addButton("Save first", QMessageBox.ButtonRole.AcceptRole)
        drop = ask.addButton("Leave without saving", QMessageBox.ButtonRole.DestructiveRole)
        ask.addButton("Stay", QMessageBox.ButtonRole.RejectRole)
        ask.exec()
        if ask.clickedButton() is drop:
            following()
        elif ask.clickedButton() is keep:
            if session.path is not None:
                self.workspace.save(session.path, following)
            else:
                self.save_as(following)

    def may_close(self) -> bool:
        """Whether the window may close now; asks about unsaved work, and closes it afterwards, when it may not."""
        session = self.workspace.session
        if session.unsaved and session.document.scene.objects and not self.leaving:
            self.leave_for(self._leave)
            return False
        self.keeper.close()
        return True

    def _leave(self) -> None:
        self.leaving = True
        # the question may have been asked while the window was closing, when closing again does nothing
        QTimer.singleShot(0, self.window.close)
