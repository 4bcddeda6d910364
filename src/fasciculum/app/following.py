"""Watching sources: once they have changed and rested they are gathered again, and what is stale is redone."""

from __future__ import annotations

from PySide6.QtCore import QObject, QTimer

from fasciculum.app.workspace import Workspace
from fasciculum.session.stale import DONE, bake_state, check_state, layout_state
from fasciculum.session.tasks import Kind

#: milliseconds after which the queue is looked at once it has changed
SOON = 60


class Following(QObject):
    """The switch, and what follows from it: gather again, pack, bake, check, and deliver where it was delivered to.

    One change that comes while another is worked on waits until that is done.
    """

    def __init__(self, workspace: Workspace) -> None:
        super().__init__(workspace)
        self.workspace = workspace
        self.on = False
        self._reading = self._again = self._redoing = False
        # results are taken in a moment after their work has ended
        self._soon = QTimer(self, singleShot=True, interval=SOON)
        self._soon.timeout.connect(self._look)
        workspace.queue_changed.connect(self._soon.start)

    def set_on(self, on: bool) -> None:
        """Follow the sources, or leave changes to the artist."""
        self.on = on
        self._reading = self._again = self._redoing = False
        where = self.workspace.document.delivered_to
        to = f"delivered to {where}" if where else "not delivered, until you deliver once by hand"
        self.workspace.say(
            f"Sources are watched: what changes is read, redone and {to}." if on else "Sources are no longer watched."
        )

    def changed(self) -> None:
        """Take in sources that have changed and rested."""
        if self._reading or self._redoing:
            self._again = True
            return
        self._reading = True
        self.workspace.reload(done="A source changed and was read again")

    def _look(self) -> None:
        if not self.on:
            return
        if self.workspace.scheduler.busy(Kind.RELOAD, ""):
            self._soon.start()
            return
        if self._reading:
            self._reading = False
            self._redo()
        elif self._redoing and not self.workspace.worker.runner.unfinished:
            self._redoing = False
            if self._again:
                self._again = False
                self.changed()

    def _redo(self) -> None:
        """Have all redone that is stale, and delivered."""
        document, workspace = self.workspace.document, self.workspace
        filled = [bundle for bundle in document.bundles if bundle.objects]
        unpacked = [one.name for one in filled if layout_state(document, one) != DONE]
        unbaked = [one.name for one in filled if bake_state(document, one) != DONE]
        unchecked = [one.name for one in filled if check_state(document, one) != DONE]
        if not unpacked and not unbaked:
            return
        self._redoing = True
        if unpacked:
            workspace.pack(unpacked)
        if unbaked:
            workspace.bake(unbaked)
        if unchecked:
            workspace.check(unchecked)
        if document.delivered_to:
            workspace.deliver(document.delivered_to)
