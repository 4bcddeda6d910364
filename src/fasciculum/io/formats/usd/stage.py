"""Opening a stage with the optional library, and refusing what lies where it may not be read."""

from __future__ import annotations

import contextlib
import resource
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from fasciculum.errors import MalformedFile, MissingLibrary
from fasciculum.io.places import Places
from fasciculum.model.digests import digest_of

#: what to type where the library is missing
INSTALL = "pip install usd-core"
#: bytes that reading may take more at least, and how many times a file's size
LEAST_BOUND, TIMES_BOUND = 4 << 30, 32


def library(file: str) -> Any:
    """Return the library's package.

    Raises
    ------
    MissingLibrary
        When it is not installed, with the line to type.
    """
    try:
        import pxr
        from pxr import Ar, Gf, Kind, Sdf, Tf, Usd, UsdGeom, UsdLux, UsdShade, UsdSkel, UsdUtils, Vt  # noqa: F401
    except ImportError as error:
        raise MissingLibrary(
            "USD is read and written by the library usd-core, which is not installed.",
            file=file,
            hint=f"Install it: {INSTALL}",
        ) from error
    return pxr


@contextlib.contextmanager
def quiet(pxr: Any) -> Iterator[None]:
    """Keep what the library warns of from the terminal: what matters is a finding or an error."""
    delegate = pxr.UsdUtils.CoalescingDiagnosticDelegate()
    try:
        yield
    finally:
        delegate.TakeUncoalescedDiagnostics()


@contextlib.contextmanager
def bounded(size: int) -> Iterator[None]:
    """Bound the memory that this process may take more of, for a file of a size in bytes.

    The library believes what damaged files say of their sizes, up to all memory that there is.
    """
    soft, hard = resource.getrlimit(resource.RLIMIT_AS)
    try:
        pages = int(Path("/proc/self/statm").read_text().split()[0])
        most = pages * resource.getpagesize() + max(LEAST_BOUND, TIMES_BOUND * size)
        if soft == resource.RLIM_INFINITY or most < soft:
            resource.setrlimit(resource.RLIMIT_AS, (most, hard))
    except (OSError, ValueError):
        # a system that does not say so has no bound
        pass
    try:
        yield
    finally:
        with contextlib.suppress(OSError, ValueError):
            resource.setrlimit(resource.RLIMIT_AS, (soft, hard))


def open_stage(path: Path, places: Places) -> Any:
    """Open a stage and make sure that every layer of it may be read.

    Raises
    ------
    MalformedFile
        When it cannot be opened, or a layer that it needs is missing.
    OutsideFolder
        When a layer lies outside the model's folder and those that are allowed.
    """
    pxr = library(path.name)
    try:
        stage = pxr.Usd.Stage.Open(str(path))
    except Exception as error:  # its own kind, and those of text that is none
        raise MalformedFile(
            f"the stage cannot be opened ({first_line(error)}).", file=path.name, hint="Export it again."
        ) from error
    if not stage:
        raise MalformedFile("the stage cannot be opened.", file=path.name, hint="Export it again.")
    for layer in stage.GetUsedLayers():
        if layer.realPath and not layer.anonymous:
            demand_within(places, _outer(layer.realPath), f"layer {Path(layer.identifier).name[:80]}")
    return stage


def demand_within(places: Places, path: str, item: str) -> Path:
    """Return a file that a stage names by its whole path, if it may be read.

    Raises
    ------
    OutsideFolder, MissingFile
    """
    try:
        return places.find(str(Path(path).resolve().relative_to(places.folder)), item)
    except ValueError:
        return places.find(path, item)


def stage_digest(stage: Any) -> str:
    """Return a digest of all files that a stage is composed of."""
    files = sorted({_outer(layer.realPath) for layer in stage.GetUsedLayers() if layer.realPath})
    return digest_of(*(Path(file).read_bytes() for file in files))


def layers_beside(stage: Any, path: Path) -> tuple[str, ...]:
    """Return the other files that a stage is composed of."""
    files = {_outer(layer.realPath) for layer in stage.GetUsedLayers() if layer.realPath}
    return tuple(sorted(files - {str(path.resolve())}))


def _outer(path: str) -> str:
    """Return the file that a path within a package lies in."""
    return path.partition("[")[0]


def first_line(error: Exception) -> str:
    """Return what the library says of an error, without where in its code that was."""
    lines = [line.strip() for line in str(error).splitlines() if line.strip()]
    lines = [line.rpartition(" : ")[2].strip("'") for line in lines]
    return lines[-1][:200] if lines else "it is damaged"
