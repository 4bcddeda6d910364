"""Jobs of a list: read from TOML, judged, and done one by one, here or by whoever they are handed to."""

from __future__ import annotations

import glob
import shutil
import tempfile
import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import msgspec

from fasciculum.cli.exits import CRASHED, DONE, FINDINGS, STOPPED, exit_code
from fasciculum.cli.orders import judge_names, parsed_make
from fasciculum.cli.verbs import order_of
from fasciculum.errors import FasciculumError, MalformedFile, UsageError
from fasciculum.io.names import file_name
from fasciculum.io.pixels import PixelStore
from fasciculum.io.places import read_file
from fasciculum.later import Later
from fasciculum.model.finding import ERROR, Finding
from fasciculum.operations.ledger import ledger_of
from fasciculum.operations.projects import open_project
from fasciculum.progress import SILENT, Cancelled, Progress
from fasciculum.session.pipeline import begin, bring_up, make
from fasciculum.session.remote import WorkerPool

tomllib = Later("tomllib")

#: keys of a job that are no options of ``make``
OWN = ("models", "out", "name")
#: options whose values are files, which a list names from where it lies itself
FILES = ("layers", "onto", "palette", "cage", "allow", "high")
#: lists larger than this are none
MOST_BYTES = 8 << 20


class _List(msgspec.Struct, forbid_unknown_fields=True):
    """What a list of jobs holds."""

    job: list[dict[str, Any]]
    defaults: dict[str, Any] = {}


@dataclass(frozen=True)
class Job:
    """One job: models from globs, where it goes, and options of ``make`` by their names with underscores."""

    name: str
    models: tuple[str, ...]
    out: str
    options: tuple[tuple[str, Any], ...]


@dataclass(frozen=True)
class Ended:
    """How a job ended: its exit code, seconds, the report's path, and what went wrong."""

    name: str
    exit: int
    seconds: float
    report: str | None
    error: dict[str, str] | None

    @property
    def done(self) -> bool:
        """Whether it was done, with findings or without."""
        return self.exit in (DONE, FINDINGS)

    @property
    def entry(self) -> dict[str, Any]:
        """How it is told."""
        return {
            "name": self.name,
            "exit": self.exit,
            "seconds": round(self.seconds, 3),
            "report": self.report,
            "error": self.error,
        }


def read_jobs(path: Path) -> tuple[Job, ...]:
    """Return the jobs of a list; paths in it are seen from where it lies.

    Raises
    ------
    UsageError
        When a key is not known, or a job has no models or no place to go.
    MalformedFile, MissingFile
    """
    try:
        raw = tomllib.loads(read_file(path, most=MOST_BYTES).decode())
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise MalformedFile(f"the list cannot be read ({error}).", file=str(path), hint="Correct it.") from error
    try:
        result = msgspec.convert(raw, _List)
    except msgspec.ValidationError as error:
        raise UsageError(f"{error}.", file=str(path), hint="A list has [defaults] and [[job]] tables.") from error
    if not result.job:
        raise UsageError("there is no job in the list.", file=str(path), hint="Add a [[job]] table.")
    jobs = [_job(path, number, result.defaults | entry) for number, entry in enumerate(result.job)]
    names = [job.name for job in jobs]
    twice = next((name for name in names if names.count(name) > 1), None)
    places = [(job.out, file_name(job.name)) for job in jobs]
    if twice is not None and len(set(places)) < len(places):
        raise UsageError(f"two jobs are called {twice}.", file=str(path), hint="Give each a name of its own.")
    return tuple(jobs)


def _job(path: Path, number: int, entry: Mapping[str, Any]) -> Job:
    place = f"{path}, job {number + 1}"
    judge_names([name for name in entry if name not in OWN], place)
    folder = path.resolve().parent
    wanted = entry.get("models", [])
    patterns = [wanted] if isinstance(wanted, str) else wanted
    if not patterns or not isinstance(patterns, list) or not all(isinstance(one, str) for one in patterns):
        raise UsageError("it has no models.", file=place, hint='Write models = ["props/*.glb"].')
    models: list[str] = []
    for pattern in patterns:
        full = str(folder / pattern)
        models += sorted(glob.glob(full, recursive=True)) if glob.has_magic(pattern) else [full]
    out = entry.get("out")
    if not isinstance(out, str) or not out:
        raise UsageError("it names no output folder.", file=place, hint='Write out = "built".')
    options = {name: _placed(folder, name, value) for name, value in entry.items() if name not in OWN}
    name = entry.get("name")
    if name is not None:
        options["name"] = str(name)
    plain = str(name) if name is not None else Path(models[0]).stem if models else f"job {number + 1}"
    return Job(plain, tuple(models), str(folder / out), tuple(options.items()))


def _placed(folder: Path, name: str, value: Any) -> Any:
    """Return a value with its paths seen from a folder."""
    if name not in FILES or value == "auto":
        return value
    if isinstance(value, list):
        return [str(folder / one) for one in value]
    return str(folder / value) if isinstance(value, str) else value


def _told(error: FasciculumError) -> dict[str, str]:
    """Return how an error is told."""
    where = ", ".join(part for part in (error.file, error.item) if part)
    return {"code": error.code, "message": f"{error.message} {error.hint}".strip(), "file": where}


def do_job(
    job: Job,
    check: Callable[[], bool] = lambda: False,
    told: Callable[[str], None] = lambda _: None,
    pool: WorkerPool | None = None,
) -> Ended:
    """Do a job and return how it ended; ``check`` says whether it is to be stopped, ``told`` hears of its progress.

    Its bundles are worked on by ``pool`` where there is one.
    """
    began = time.monotonic()
    scratch = Path(tempfile.mkdtemp(prefix="fasciculum-job-"))
    report, error, code = None, None, DONE
    progress = Progress(lambda _, words: told(words), check)
    try:
        if not job.models:
            raise UsageError("there is no such file.", file=job.name, hint="Correct the models of the job.")
        if is_project(job):
            written, findings = finish_project(job, PixelStore(scratch), progress, pool)
        else:
            parsed = parsed_make(job.models, job.out, dict(job.options))
            told_to = parsed.models, Path(parsed.out), PixelStore(scratch), order_of(parsed)
            written, findings = make(*told_to, progress=progress, pool=pool)
        report = str(Path(job.out) / written["files"][-1])
        code = FINDINGS if any(finding.severity == ERROR for finding in findings) else DONE
    except Cancelled:
        code = STOPPED
        error = {"code": "cancelled", "message": "It was cancelled; no half-written files were left.", "file": ""}
    except FasciculumError as wrong:
        code, error = exit_code(wrong), _told(wrong)
    except Exception as crash:  # a fault of ours must not take the other jobs along
        code, error = CRASHED, {"code": "crash", "message": f"{type(crash).__name__}: {crash}", "file": job.name}
    finally:
        shutil.rmtree(scratch, ignore_errors=True)
    return Ended(job.name, code, time.monotonic() - began, report, error)


def is_project(job: Job) -> bool:
    """Whether a job brings a saved project in order, instead of making one of models."""
    return any(Path(model).suffix.lower() == ".fasc" for model in job.models)


def finish_project(
    job: Job, store: PixelStore, progress: Progress, pool: WorkerPool | None = None
) -> tuple[dict[str, Any], list[Finding]]:
    """Redo what is stale in a saved project and deliver it; return the report and its findings.

    Raises
    ------
    UsageError
        When the job names more than one project, or options of ``make``, which a project holds itself.
    InputError, OutputError
    """
    more = [name for name, _ in job.options if name != "name"]
    if len(job.models) > 1 or more:
        raise UsageError(
            "a job of a project takes its settings from the project.",
            file=job.models[0],
            hint=f"Take {', '.join(more) or 'the other models'} out of the job.",
        )
    name = str(dict(job.options).get("name", ""))
    return bring_up(Path(job.models[0]), Path(job.out), store, name=name, progress=progress, pool=pool)


def foretold(job: Job, progress: Progress = SILENT) -> dict[str, Any]:
    """Return what a job would do and what that would cost; nothing is written."""
    scratch = Path(tempfile.mkdtemp(prefix="fasciculum-job-"))
    try:
        if is_project(job):
            document = open_project(Path(job.models[0]), PixelStore(scratch), progress=progress)
        else:
            parsed = parsed_make(job.models, job.out, dict(job.options))
            document = begin(parsed.models, PixelStore(scratch), order_of(parsed), progress=progress)
        ledger = ledger_of(document)
        return {
            "name": job.name,
            "models": list(job.models),
            "out": job.out,
            "bundles": [{"name": one.name, "objects": len(one.objects)} for one in document.bundles],
            "before": vars(ledger.before),
            "after": vars(ledger.after),
            "error": None,
        }
    except FasciculumError as wrong:
        return {"name": job.name, "models": list(job.models), "out": job.out, "error": _told(wrong)}
    finally:
        shutil.rmtree(scratch, ignore_errors=True)
