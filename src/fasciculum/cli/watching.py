"""Making again whenever a source changes, once it has rested."""

from __future__ import annotations

import argparse
import json
import shutil
import sys
import time
from collections.abc import Iterable
from pathlib import Path
from typing import Any

from fasciculum.cli.verbs import order_of
from fasciculum.cli.words import report_words
from fasciculum.errors import FasciculumError, OutputError
from fasciculum.io.pixels import PixelStore
from fasciculum.model.counting import counted
from fasciculum.model.scene import Scene
from fasciculum.progress import Progress
from fasciculum.session.pipeline import make
from fasciculum.session.reloading import files_of

#: seconds between two looks, and for which everything has to rest: twice the half second between two strokes of one
#: who paints and saves
LOOK, REST = 0.1, 1.0
#: the size of a file whose content was read while it changed
UNKNOWN = -2
Stamp = tuple[tuple[str, int, int], ...]


def sources_of(scene: Scene) -> set[str]:
    """Return the files that a scene was gathered from, with pictures of its layers and its sky."""
    results = {image.file for layer in scene.layers for image in layer.images}
    return results | set(files_of(scene)) | ({scene.lighting.sky.picture} - {""})


def stamp_of(files: Iterable[str]) -> Stamp:
    """Return what tells whether files have changed: their times and sizes, nothing for those that are not there."""
    results = []
    for file in sorted(files):
        try:
            state = Path(file).stat()
        except OSError:
            results.append((file, 0, -1))
            continue
        results.append((file, state.st_mtime_ns, state.st_size))
    return tuple(results)


def _as_before(stamp: tuple[str, int, int], since: int) -> tuple[str, int, int]:
    """Return a file's stamp, or one that no file has where it has changed after a time, nanoseconds."""
    try:
        changed = Path(stamp[0]).stat().st_ctime_ns
    except OSError:
        return stamp
    return stamp if changed < since else (stamp[0], stamp[1], UNKNOWN)


class Watched:
    """Files that are looked at until they change and rest."""

    def __init__(self, files: Iterable[str]) -> None:
        self.files = set(files)
        self.seen = stamp_of(self.files)

    def take_on(self, files: set[str], *, since: int) -> None:
        """Look at other files from now on, as they were when work began at ``since``, nanoseconds.

        What changed after that, or appeared, counts as changed: it may have been read before or after.
        """
        known = {stamp[0]: stamp for stamp in self.seen}
        self.files = set(files)
        self.seen = tuple(known.get(stamp[0]) or _as_before(stamp, since) for stamp in stamp_of(self.files))

    def wait(self, progress: Progress) -> None:
        """Come back once something has changed since it was last looked at, and has rested.

        Raises
        ------
        Cancelled
        """
        now, rested = self.seen, 0.0
        while True:
            progress.check()
            time.sleep(LOOK)
            later = stamp_of(self.files)
            rested = rested + LOOK if later == now else 0.0
            now = later
            if now != self.seen and rested >= REST:
                self.seen = now
                return


def make_and_watch(parsed: argparse.Namespace, folder: Path, progress: Progress) -> int:
    """Make, and make again whenever sources change; ends by being cancelled.

    Raises
    ------
    Cancelled
    OutputError
        When nothing can be written there at all.
    """
    named = {str(Path(one)) for one in (*parsed.models, *parsed.high, parsed.layers, parsed.onto, parsed.cage) if one}
    named |= {parsed.palette} - {"", "auto"}
    watched = Watched(named)
    round_ = 0
    while True:
        round_ += 1
        store = PixelStore(folder.parent / f"round-{round_}")
        try:
            files: set[str] = set()

            began = time.time_ns()

            def hear(scene: Scene, files: set[str] = files, began: int = began) -> None:
                files.update(sources_of(scene))
                watched.take_on(named | files, since=began)

            report, _ = make(
                parsed.models,
                Path(parsed.out),
                store,
                order_of(parsed),
                progress=progress.quiet(),
                heard=hear,
            )
            _tell(report, as_json=parsed.json)
        except OutputError:
            raise
        except FasciculumError as error:
            sys.stderr.write(f"fasciculum: {error}\n")
        finally:
            shutil.rmtree(store.folder, ignore_errors=True)
        sys.stderr.write(f"watching {counted(len(watched.files), 'file')}; Ctrl+C ends it\n")
        sys.stderr.flush()
        watched.wait(progress)


def _tell(report: dict[str, Any], *, as_json: bool) -> None:
    print(json.dumps(report, ensure_ascii=False) if as_json else report_words(report), flush=True)
