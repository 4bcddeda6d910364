"""Fasciculum from Python: the steps of a pass, each taking a project and returning another; see docs/api.md.

``import fasciculum as fa`` offers what is here. Nothing is printed, no window is needed, and any thread may call: the
heavy work of one process is done one call at a time.
"""

from __future__ import annotations

import shutil
import tempfile
import threading
import weakref
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from os import PathLike
from pathlib import Path
from typing import Any

from fasciculum.cli.orders import judge_names, parsed_make
from fasciculum.cli.verbs import order_of
from fasciculum.errors import FasciculumError, UsageError
from fasciculum.io.pixels import PixelStore
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import Severity
from fasciculum.model.document import Document
from fasciculum.model.finding import Finding
from fasciculum.model.scene import Scene
from fasciculum.operations.projects import open_project, save_project
from fasciculum.operations.report import finding_entry
from fasciculum.session.pipeline import Order, Pipeline, bundled, finish, gathered

__all__ = [
    "FasciculumError",
    "Project",
    "bake",
    "bundle",
    "check",
    "deliver",
    "gather",
    "lay_out",
    "load",
    "make",
    "save",
]

Place = str | PathLike[str]
#: which objects go together: from (name, alpha mode) of each object to names of bundles with the objects in each
Grouping = Callable[[Sequence[tuple[str, str]]], Mapping[str, Sequence[str]]]
#: looks at a report and returns what it noticed: each a message, or a dict with ``message`` and what findings have
Check = Callable[[dict[str, Any]], Iterable[str | Mapping[str, str]]]
#: names a file: from the project's, the bundle's and the map's name
Convention = Callable[[str, str, str], str]
#: the heavy work of a process is done one call at a time
_LOCK = threading.RLock()
#: options that are functions here
FUNCTIONS = ("bundle", "delivery")


class _Room:
    """A folder for pixels, deleted with the last project that has some there."""

    def __init__(self) -> None:
        folder = Path(tempfile.mkdtemp(prefix="fasciculum-"))
        self.store = PixelStore(folder)
        weakref.finalize(self, shutil.rmtree, folder, True)


@dataclass(frozen=True, eq=False)
class Project:
    """What was gathered and what has been made of it so far; never changed, each step returns another.

    Attributes
    ----------
    name : str
    bundles : tuple of str
        Names of the bundles, in order.
    report : dict
        What the command line's ``--json`` tells of it; see docs/design/cli.md.
    """

    document: Document
    options: Mapping[str, Any] = field(default_factory=dict)
    seconds: Mapping[str, float] = field(default_factory=dict)
    checks: tuple[Check, ...] = ()
    _room: _Room = field(default_factory=_Room, repr=False)
    _delivered: Any = field(default=None, repr=False)
    _missed: tuple[Finding, ...] = field(default=(), repr=False)
    _plan: str = field(default="", repr=False)

    @property
    def name(self) -> str:
        """What its files are called."""
        return self.document.delivery.name or self.document.name

    @property
    def bundles(self) -> tuple[str, ...]:
        """Names of the bundles, in order."""
        return tuple(one.name for one in self.document.bundles)

    @property
    def report(self) -> dict[str, Any]:
        """What there is to tell of it, as the command line's JSON."""
        with _LOCK:
            line = self._line()
            result, _ = line.report(self._delivered)
        for check_ in self.checks:
            result["findings"] += [_noticed(one, check_) for one in check_(result)]
        return result

    def _line(self) -> Pipeline:
        line = Pipeline(self.document, self._room.store)
        line.seconds, line.missed, line.plan = dict(self.seconds), self._missed, self._plan
        return line

    def _after(self, line: Pipeline, **more: Any) -> Project:
        return replace(self, document=line.document, seconds=line.seconds, _missed=line.missed, _plan=line.plan, **more)

    def _with(self, options: Mapping[str, Any]) -> Project:
        judge_names([name for name in options if name != "checks"])
        results = {**self.options, **{name: value for name, value in options.items() if name != "checks"}}
        return replace(self, options=results, checks=(*self.checks, *options.get("checks", ())))

    def _order(self) -> Order:
        plain = {name: value for name, value in self.options.items() if not callable(value)}
        order = order_of(parsed_make(["model"], ".", plain))
        naming = self.options.get("delivery")
        if callable(naming):
            order = replace(order, delivery=replace(order.delivery, pattern=_pattern(naming)))
        grouping = self.options.get("bundle")
        return replace(order, groups=_groups(grouping)) if callable(grouping) else order


def _noticed(one: str | Mapping[str, str], check_: Check) -> dict[str, str]:
    """Return what a function noticed as a finding of the report."""
    result = {"message": one} if isinstance(one, str) else dict(one)
    if "message" not in result:
        raise UsageError("a check returned a finding without a message.", item=getattr(check_, "__name__", "check"))
    plain = Finding(result.pop("code", getattr(check_, "__name__", "check")), Severity.WARNING, result.pop("message"))
    return finding_entry(plain) | {key: str(value) for key, value in result.items()}


def _groups(grouping: Grouping) -> Callable[[Scene], list[tuple[str, tuple[str, ...]]]]:
    def groups(scene: Scene) -> list[tuple[str, tuple[str, ...]]]:
        result = grouping([(item.key, str(item.alpha_mode)) for item in scene.objects])
        return [(str(name), tuple(keys)) for name, keys in result.items()]

    return groups


def _pattern(naming: Convention) -> str:
    """Return a convention as the pattern that it makes of names that stand for others."""
    result = naming("{name}", "{bundle}", "{map}")
    if not isinstance(result, str) or "{map}" not in result:
        raise UsageError(
            "a convention has to use the map's name.", hint="Return a name that uses both, such as f'{bundle}_{map}'."
        )
    return result


# -- steps ------------------------------------------------------------------------------------------------------------


def gather(models: Place | Sequence[Place], name: str = "", **options: Any) -> Project:
    """Return a project of models.

    Parameters
    ----------
    models : path or sequence of paths
        ``.glb``, ``.gltf`` or ``.obj``.
    name : str
        What its files are called; the first model's name without it.
    **options
        Of ``make``, with underscores: those of gathering are ``high``, ``allow``, ``pair_by``, ``sky``, ``layers`` and
        the like.

    Raises
    ------
    FasciculumError
        An `InputError` when a file cannot be read, a `UsageError` for an option that is not known.
    """
    files = [str(models)] if isinstance(models, str | PathLike) else [str(one) for one in models]
    if not files:
        raise UsageError("there are no models to gather.", hint="Name at least one.")
    told = {**options, **({"name": name} if name else {})}
    start = Project(Document())._with(told)
    with _LOCK:
        line = start._line()
        gathered(line, files, start._order())
        return start._after(line)


def bundle(project: Project, bundle: str | Grouping = "auto", **options: Any) -> Project:
    """Return the project with its objects in bundles.

    Parameters
    ----------
    project : Project
    bundle : str or callable
        ``one``, ``object``, ``alpha`` or ``auto``; or a function from (name, alpha mode) of each object to a mapping
        of bundles' names to the objects in each. What it leaves out stays loose.
    **options
        Such as ``plan``, ``repeats``, ``onto``, ``palette``.

    Raises
    ------
    FasciculumError
    """
    return _bundled_as_told(project._with({**options, "bundle": bundle}))


def _bundled_as_told(project: Project) -> Project:
    with _LOCK:
        line = project._line()
        bundled(line, project._order())
        return project._after(line)


def lay_out(project: Project, **options: Any) -> Project:
    """Return the project with every bundle laid out on its sheet; ``size``, ``padding`` and the like, px.

    Raises
    ------
    FasciculumError
    """
    told = _bundled_anew(project, options)
    with _LOCK:
        line = told._line()
        order = told._order()
        if order.size_follows and not order.plan:
            line.timed("lay_out", lambda: line.size(order.terms))
        line.lay_out(told.bundles)
        return told._after(line)


def bake(project: Project, maps: str | Sequence[str] = (), **options: Any) -> Project:
    """Return the project with its maps baked.

    Parameters
    ----------
    project : Project
        Laid out; what is stale is laid out again.
    maps : str or sequence of str
        Names of maps; those that the materials need without any.
    **options
        Such as ``samples``, ``rays``, ``light_uv``.

    Raises
    ------
    FasciculumError
    """
    told = project._with({**options, **({"maps": maps} if maps else {})})
    with _LOCK:
        order = told._order()
        bundles = tuple(replace(one, bake=order.bake) for one in told.document.bundles)
        told = replace(told, document=replace(told.document, bundles=bundles))
        line = told._line()
        line.lay_out(told.bundles)
        line.bake(told.bundles)
        return told._after(line)


def check(project: Project, checks: Sequence[Check] = ()) -> Project:
    """Return the project with its result compared with its source, and with checks of your own in its report.

    Raises
    ------
    FasciculumError
    """
    told = replace(project, checks=(*project.checks, *checks))
    with _LOCK:
        line = told._line()
        line.check(told.bundles)
        return told._after(line)


def deliver(project: Project, out: Place, **options: Any) -> Project:
    """Return the project with its models and textures written into a folder, whole or not at all.

    Parameters
    ----------
    project : Project
    out : path
        Made when it is missing; nothing else in it is touched.
    **options
        Such as ``delivery`` (a name, or a function from the names of project, bundle and map to a file's), ``combine``,
        ``external_textures``.

    Raises
    ------
    FasciculumError
        An `OutputError` when it cannot be written.
    """
    told = project._with(options)
    with _LOCK:
        order = told._order()
        line = told._line()
        line.document = replace(line.document, delivery=order.delivery)
        delivered = finish(line, Path(out), order)
        return told._after(line, _delivered=delivered)


def save(project: Project, path: Place) -> Project:
    """Write a project into a ``.fasc`` file, and return it.

    Raises
    ------
    FasciculumError
    """
    with _LOCK:
        save_project(project.document, Path(path), project._room.store)
    return project


def load(path: Place) -> Project:
    """Return the project of a ``.fasc`` file; its sources are gathered again.

    Raises
    ------
    FasciculumError
    """
    room = _Room()
    with _LOCK:
        return Project(open_project(Path(path), room.store), _room=room)


def make(models: Place | Sequence[Place], out: Place, **options: Any) -> dict[str, Any]:
    """Gather, bundle, lay out, bake, check and deliver, and return the report.

    Parameters
    ----------
    models : path or sequence of paths
    out : path
        The folder that everything is written into.
    **options
        Those of the command line's ``make`` with underscores for dashes (``yield_`` for ``--yield``); ``bundle`` and
        ``delivery`` may be functions, and ``checks`` a sequence of them.

    Returns
    -------
    dict
        The report, as ``--json`` prints it; it is written into the folder too.

    Raises
    ------
    FasciculumError
    """
    # what is bundled by the balanced plan unless an option says otherwise, as on the command line
    project = _bundled_as_told(gather(models, **options))
    return deliver(check(bake(lay_out(project))), out).report


def _bundled_anew(project: Project, options: Mapping[str, Any]) -> Project:
    """Return a project with further options; bundles that a rule made are made by them."""
    told = project._with(options)
    fresh = all(one.layout is None for one in told.document.bundles)
    if not options or not fresh or not told.document.bundles or "bundle" not in told.options:
        order = told._order()
        bundles = tuple(_resized(one, order) for one in told.document.bundles) if options else told.document.bundles
        return replace(told, document=replace(told.document, bundles=bundles))
    with _LOCK:
        line = told._line()
        bundled(line, told._order())
        return told._after(line)


def _resized(one: Bundle, order: Order) -> Bundle:
    return replace(one, sheet=order.sheet)
