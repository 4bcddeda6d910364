"""Jobs for batch_list: projects as they were when they were put on the list, done by the command line's own batch."""

from __future__ import annotations

import json
import sys
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from platformdirs import user_state_path
from PySide6.QtCore import QObject, QProcess, Signal

import fasciculum
from fasciculum.app.workspace import Workspace
from fasciculum.errors import FasciculumError
from fasciculum.io.names import file_name
from fasciculum.operations.deliver.writing import write_whole
from fasciculum.operations.projects import save_project
from fasciculum.session.tasks import Kind, Task

#: milliseconds that a batch has to end by itself once it is asked to
PATIENCE = 3000


@dataclass(frozen=True)
class BatchListJob:
    """A job on the list: its name, the project as it was kept, where it goes, and how it stands."""

    name: str
    project: str
    out: str
    state: str = "waits"


class BatchList(QObject):
    """The list, kept between sessions, and the batch that does it.

    It is a list of jobs as ``fasciculum batch`` reads it, so that it can be handed on.
    """

    changed = Signal()

    def __init__(self, workspace: Workspace, folder: Path | None = None) -> None:
        super().__init__(workspace)
        self.workspace = workspace
        self.folder = folder or user_state_path("fasciculum") / "batch-list"
        self.farm = ""
        self.jobs = self._read()
        self._batch: QProcess | None = None
        self._heard = b""

    @property
    def list(self) -> Path:
        """The list's file."""
        return self.folder / "batch_list.toml"

    @property
    def page(self) -> Path:
        """The page that sums up the last run."""
        return self.folder / f"{self.list.stem}_summary.html"

    @property
    def running(self) -> bool:
        """Whether the list is being done."""
        return self._batch is not None

    # -- the list -------------------------------------------------------------------------------------------------

    def _read(self) -> tuple[BatchListJob, ...]:
        if not self.list.is_file():
            return ()
        # a start of the window without a list does not wait for what reads one
        from fasciculum.cli.jobs import read_jobs

        try:
            return tuple(BatchListJob(one.name, one.models[0], one.out) for one in read_jobs(self.list) if one.models)
        except FasciculumError:
            return ()

    def _set(self, jobs: tuple[BatchListJob, ...]) -> None:
        self.jobs = jobs
        text = "".join(
            f"[[job]]\nname = {_quoted(job.name)}\nmodels = [{_quoted(job.project)}]\nout = {_quoted(job.out)}\n\n"
            for job in jobs
        )
        write_whole(self.list, text.encode())
        self.changed.emit()

    def add(self, out: str = "") -> None:
        """Put what is open on the list, as it is now; it may be worked on meanwhile."""
        document = self.workspace.document
        if not document.scene.objects:
            self.workspace.say("There is no open project to add to the batch list.", "broken")
            return
        taken = {job.name for job in self.jobs}
        first = document.delivery.name or document.name
        name = next(one for one in (first, *(f"{first} {n}" for n in range(2, 10_000))) if one not in taken)
        beside = (self.workspace.session.path or Path(document.scene.sources[0].path)).parent
        if Path(fasciculum.__file__).parent in (beside, *beside.parents):
            # the demo's own folder is not to be written into
            beside = Path.home()
        where = out or document.delivered_to or str(beside / f"{file_name(first)}_built")
        kept = self.folder / f"{file_name(name)}.fasc"
        task = Task(
            Kind.SAVE, f"Keep {name}", save_project, (document, kept, self.workspace.session.store), part=str(kept)
        )

        def take(_: Path) -> None:
            self._set((*self.jobs, BatchListJob(name, str(kept), where)))
            self.workspace.say(f"{name} is on the batch list; it goes to {where}.", "good")

        self.folder.mkdir(parents=True, exist_ok=True)
        self.workspace.run(task, take)

    def remove(self, name: str) -> None:
        """Take a job off the list."""
        for job in self.jobs:
            if job.name == name and not self.running:
                Path(job.project).unlink(missing_ok=True)
                self._set(tuple(one for one in self.jobs if one is not job))

    # -- doing it -------------------------------------------------------------------------------------------------

    def start(self) -> None:
        """Do the list."""
        if self.running or not self.jobs:
            return
        self._heard = b""
        self._states(lambda _: "waits")
        batch = QProcess(self)
        batch.readyReadStandardOutput.connect(self._hear)
        batch.finished.connect(self._end)
        farm = ["--farm", self.farm] if self.farm else []
        batch.start(sys.executable, ["-m", "fasciculum", "batch", str(self.list), *farm])
        self._batch = batch
        self.changed.emit()

    def stop(self) -> None:
        """Stop; what is done stays, and nothing is left half-written."""
        if self._batch is not None:
            self._batch.terminate()

    def close(self) -> None:
        """Stop, and wait until that is so."""
        if self._batch is not None:
            self._batch.terminate()
            if not self._batch.waitForFinished(PATIENCE):
                self._batch.kill()
                self._batch.waitForFinished(PATIENCE)

    def _hear(self) -> None:
        if self._batch is None:
            return
        self._heard += bytes(self._batch.readAllStandardOutput().data())
        *lines, self._heard = self._heard.split(b"\n")
        for line in lines:
            entry = json.loads(line)
            if "jobs" not in entry:
                error = entry["error"]
                state = f"failed: {error['message']}" if error is not None else f"done in {entry['seconds']:.0f} s"
                self._told(str(entry["name"]), state)

    def _end(self, code: int, *_: Any) -> None:
        self._hear()
        assert self._batch is not None
        wrong = bytes(self._batch.readAllStandardError().data()).decode(errors="replace").strip().splitlines()
        self._batch.deleteLater()
        self._batch = None
        done = sum(job.state.startswith("done") for job in self.jobs)
        if code in (0, 1):
            self.workspace.say(f"Batch list: {done} of {len(self.jobs)} done.", "good" if code == 0 else "broken")
        elif done or not wrong:
            self.workspace.say(f"Batch list was stopped: {done} of {len(self.jobs)} done.")
        else:
            self.workspace.say(wrong[-1], "broken")
        self.changed.emit()

    def _told(self, name: str, state: str) -> None:
        self._states(lambda job: state if job.name == name else job.state)

    def _states(self, state: Callable[[BatchListJob], str]) -> None:
        self.jobs = tuple(BatchListJob(job.name, job.project, job.out, state(job)) for job in self.jobs)
        self.changed.emit()


def _quoted(text: str) -> str:
    # what JSON writes is a basic string of TOML
    return json.dumps(text, ensure_ascii=False)
