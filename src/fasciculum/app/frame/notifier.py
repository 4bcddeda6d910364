"""A word on the desktop when long work has ended and the window is not looked at.

The desktop's own service is asked over D-Bus (Desktop Notifications Specification 1.2); where there is none, nothing
happens.
"""

from __future__ import annotations

import logging
import threading
import time
from collections.abc import Callable

from jeepney import DBusAddress, new_method_call
from jeepney.io.blocking import open_dbus_connection
from PySide6.QtCore import QObject, Qt
from PySide6.QtGui import QGuiApplication

from fasciculum.app.workspace import Workspace
from fasciculum.jobs.runner import CANCELLED, FAILED, QueueEntry
from fasciculum.session.tasks import QUIET

LOG = logging.getLogger(__name__)
#: seconds of work from which its end is worth a word
LONG = 10.0
#: seconds that the desktop has to answer
PATIENCE = 1.0
SERVICE, PLACE = "org.freedesktop.Notifications", "/org/freedesktop/Notifications"


def notify(title: str, words: str) -> bool:
    """Ask the desktop to show a word; return whether there is a desktop that took it."""
    address = DBusAddress(PLACE, bus_name=SERVICE, interface=SERVICE)
    what: tuple[object, ...] = ("Fasciculum", 0, "", title, words, [], {}, -1)
    try:
        with open_dbus_connection(bus="SESSION") as bus:
            bus.send_and_get_reply(new_method_call(address, "Notify", "susssasa{sv}i", what), timeout=PATIENCE)
    except Exception as error:  # no bus, none that answers, or one that speaks otherwise: a word is not worth more
        LOG.info("the desktop was not told: %r", error)
        return False
    return True


class Notifier(QObject):
    """Watches the queue; ``send`` gets a title and words, ``away`` tells whether nobody looks at the window."""

    def __init__(
        self,
        workspace: Workspace,
        send: Callable[[str, str], object] = notify,
        away: Callable[[], bool] | None = None,
    ) -> None:
        super().__init__(workspace)
        self.workspace, self.send = workspace, send
        self.away = away or (lambda: QGuiApplication.applicationState() is not Qt.ApplicationState.ApplicationActive)
        self._began = 0.0
        self._seen: list[QueueEntry] = []
        workspace.queue_changed.connect(self._look)

    def _look(self) -> None:
        runner = self.workspace.worker.runner
        # what nobody asked for by name is not worth a word
        working = [job for job in runner.jobs if not job.over and (not job.about or job.about[0] not in QUIET)]
        if working:
            self._began = self._began or time.monotonic()
            self._seen += [job for job in working if job not in self._seen]
            return
        if not self._began:
            return
        took, jobs = time.monotonic() - self._began, self._seen
        self._began, self._seen = 0.0, []
        if took >= LONG and jobs and self.away():
            words = f"{self.workspace.document.name}: done", summary(jobs)
            # the desktop may take its time to answer
            threading.Thread(target=self.send, args=words, daemon=True).start()


def summary(jobs: list[QueueEntry]) -> str:
    """Return what came of some work, in words."""
    failed = [job for job in jobs if job.state == FAILED]
    cancelled = [job for job in jobs if job.state == CANCELLED]
    done = [job for job in jobs if job.over and job not in failed and job not in cancelled]
    words = [f"{len(done)} of {len(jobs)} done"]
    if failed:
        words.append(f"failed: {', '.join(job.title for job in failed[:3])}" + (" …" if len(failed) > 3 else ""))
    if cancelled:
        words.append(f"{len(cancelled)} cancelled")
    return "; ".join(words)
