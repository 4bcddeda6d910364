"""Looks after what is outside of the document: sources that change on disk, and work that is not saved yet."""

from __future__ import annotations

import time
import uuid
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QFileSystemWatcher, QObject, QTimer, Signal

from fasciculum.app.workspace import Workspace
from fasciculum.jobs.processes import alive
from fasciculum.model.document import Document
from fasciculum.session.recovery import LostWork, adopt_work, forget_work, keep_work, kept_path, lost_work
from fasciculum.session.reloading import watched_files
from fasciculum.session.tasks import Kind, Task

#: seconds between two looks at whether there is something to keep
KEEP_EVERY = 30
#: milliseconds that a file must have been quiet, since programs write in several strokes
QUIET = 1000
#: files that are watched at most; a system allows only so many
MOST_WATCHED = 4000


def _stamp(path: str) -> tuple[int, int] | None:
    try:
        state = Path(path).stat()
        return state.st_mtime_ns, state.st_size
    except OSError:
        return None


class Keeper(QObject):
    """Watches sources and keeps unsaved work; tells, and leaves deciding to the artist."""

    sources_changed = Signal(list)

    def __init__(self, workspace: Workspace) -> None:
        super().__init__(workspace)
        self.workspace = workspace
        self.path = kept_path(uuid.uuid4().hex[:8])
        self._kept: Document | None = None
        self._stamps: dict[str, tuple[int, int] | None] = {}
        self._watcher = QFileSystemWatcher(self)
        self._settle = QTimer(self, singleShot=True, interval=QUIET)
        self._settle.timeout.connect(self.look)
        self._watcher.fileChanged.connect(lambda _: self._settle.start())
        self._watcher.directoryChanged.connect(lambda _: self._settle.start())
        self._timer = QTimer(self, interval=KEEP_EVERY * 1000)
        self._timer.timeout.connect(self.keep)
        self._timer.start()
        workspace.document_changed.connect(self._document_changed)

    # -- sources ----------------------------------------------------------------------------------------------

    def _document_changed(self, before: Document, after: Document) -> None:
        if before.scene.sources is not after.scene.sources or before.scene.images is not after.scene.images:
            self.watch()
        session = self.workspace.session
        if not session.unsaved and self._kept is not None:
            self.forget()

    def watch(self) -> None:
        """Watch what the document was read from, as it is on disk now."""
        files = list(watched_files(self.workspace.document))[:MOST_WATCHED]
        self._stamps = {path: self._as_read(path) for path in files}
        old = [*self._watcher.files(), *self._watcher.directories()]
        if old:
            self._watcher.removePaths(old)
        # folders too, since many programs write a new file and move it over the old one
        wanted = [path for path in [*files, *{str(Path(path).parent) for path in files}] if Path(path).exists()]
        if wanted:
            self._watcher.addPaths(wanted)

    def accept(self) -> None:
        """Go on with what was read, whatever has changed since."""
        self.watch()
        self._settle.stop()
        self._stamps = {path: _stamp(path) for path in self._stamps}

    def _as_read(self, path: str) -> tuple[int, int] | None:
        """Return what a file was like when it was read, nothing when it has changed since that began."""
        stamp = _stamp(path)
        if stamp is None or (path in self._stamps and self._stamps[path] == stamp):
            return stamp
        try:
            if Path(path).stat().st_ctime_ns < self.workspace.read_since:
                return stamp
        except OSError:
            return None
        # it may have been read before it changed or after: looked at again, it counts as changed
        self._settle.start()
        return None

    def look(self) -> None:
        """Tell which sources are no longer as they were read."""
        changed = [path for path, stamp in self._stamps.items() if _stamp(path) != stamp and _stamp(path) is not None]
        if changed:
            self.sources_changed.emit(changed)

    # -- unsaved work -----------------------------------------------------------------------------------------

    def keep(self, then: Callable[[], None] | None = None) -> None:
        """Keep what is not saved, unless that has been done or other work is under way."""
        session, document = self.workspace.session, self.workspace.document
        worth = session.unsaved and bool(document.scene.objects) and document is not self._kept
        if not worth or self.workspace.worker.runner.unfinished:
            return

        def take(_: Path) -> None:
            self._kept = document
            if not self.workspace.session.unsaved:
                self.forget()
            if then is not None:
                then()

        project = str(session.path) if session.path else ""
        arguments = (document, project, self.path, session.store)
        self.workspace.run(Task(Kind.KEEP, "Keep unsaved work", keep_work, arguments), take)

    def adopt(self, work: LostWork) -> None:
        """Keep recovered work as this session's own until it is saved, in case this one ends by itself too."""
        adopt_work(work, self.path)
        self._kept = self.workspace.document

    def forget(self) -> None:
        """Delete the unsaved work: it is saved, or given up."""
        forget_work(self.path)
        self._kept = None

    def lost(self) -> list[LostWork]:
        """Return the work of sessions that ended by themselves."""
        return lost_work(alive)

    def close(self) -> None:
        """Stop looking, and leave nothing behind."""
        self._timer.stop()
        self._settle.stop()
        self.forget()

    @staticmethod
    def when(work: LostWork) -> str:
        """Return the words for when work was kept."""
        today = time.strftime("%x") == time.strftime("%x", time.localtime(work.when))
        return time.strftime("%H:%M" if today else "%x %H:%M", time.localtime(work.when))
