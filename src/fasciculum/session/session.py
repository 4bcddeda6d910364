"""A session: the open document with its history, its folders, and the one signal that it changed."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from dataclasses import replace
from functools import lru_cache
from pathlib import Path

from fasciculum.io.pixels import PixelStore
from fasciculum.model.document import Document
from fasciculum.model.finding import INFO, LOCATE, SEVERITIES, Finding
from fasciculum.operations.check.budgets import budget_findings, judged_document
from fasciculum.operations.check.layers import layer_findings
from fasciculum.operations.check.light import light_findings
from fasciculum.operations.check.measures import findings_of
from fasciculum.operations.gather.pairing import pairing_findings
from fasciculum.operations.gather.unread import CODE as UNREAD
from fasciculum.session.history import History
from fasciculum.session.reloading import pictures_read
from fasciculum.session.scratch import new_folder, sweep

Listener = Callable[[Document, Document], None]


class Session:
    """The open document.

    Parameters
    ----------
    document : Document, optional

    Notes
    -----
    ``changed(before, after)`` is called after every edit, undo and redo; a listener compares parts with ``is``.
    """

    def __init__(self, document: Document | None = None) -> None:
        sweep()
        self.scratch = new_folder()
        self.exchange = new_folder(memory=True)
        self.store = PixelStore(self.scratch / "pixels")
        self.listeners: list[Listener] = []
        self.path: Path | None = None
        self._history = History(document or Document())
        self._saved = self._history.document

    def close(self) -> None:
        """Delete the session's folders."""
        shutil.rmtree(self.scratch, ignore_errors=True)
        shutil.rmtree(self.exchange, ignore_errors=True)

    @property
    def document(self) -> Document:
        """The document as it is now."""
        return self._history.document

    @property
    def unsaved(self) -> bool:
        """Whether there is something that saving would keep."""
        return self._history.document is not self._saved

    @property
    def undo_label(self) -> str:
        """The words for what undo would take back."""
        return self._history.undo_label

    @property
    def redo_label(self) -> str:
        """The words for what redo would do again."""
        return self._history.redo_label

    def apply(self, label: str, document: Document) -> None:
        """Make a document the present one, as one step; nothing happens when it is the same."""
        before = self.document
        if document is not before:
            self._history.push(label, document)
            self._tell(before)

    def open(self, document: Document, path: Path | None) -> None:
        """Start over with a document that was opened."""
        before = self.document
        self._history = History(document)
        self._saved = document
        self.path = path
        self._tell(before)

    def recover(self, document: Document, path: Path | None) -> None:
        """Start over with work that was kept but not saved; it belongs to the project of that path."""
        self.open(document, path)
        self._saved = Document()
        self._tell(document)

    def saved(self, document: Document, path: Path) -> None:
        """Note that a document was written."""
        self._saved, self.path = document, path
        self._tell(self.document)

    def delivered(self, digest: str, folder: str) -> None:
        """Note a delivery; this is no step of its own."""
        before = self.document
        self._history.replace(replace(before, delivered=digest, delivered_to=folder))
        if self._saved is before:
            self._saved = self._history.document
        self._tell(before)

    def amend(self, change: Callable[[Document], Document]) -> None:
        """Fill in what was measured of the present document; this is no step of its own."""
        before = self.document
        after = change(before)
        if after is not before:
            self._history.replace(after)
            if self._saved is before:
                self._saved = after
            self._tell(before)

    def undo(self) -> str:
        """Go back one step; return the words for it."""
        before = self.document
        label = self._history.undo()
        if label:
            self._tell(before)
        return label

    def redo(self) -> str:
        """Go forward one step; return the words for it."""
        before = self.document
        label = self._history.redo()
        if label:
            self._tell(before)
        return label

    def _tell(self, before: Document) -> None:
        for listener in list(self.listeners):
            listener(before, self.document)


def all_findings(document: Document) -> list[Finding]:
    """Return every finding of a document, worst first."""
    return list(_findings(document))


@lru_cache(maxsize=2)
def _findings(document: Document) -> tuple[Finding, ...]:
    """Work the findings of a document out; several views ask for them after each change."""
    read = pictures_read(document)
    results = [accepted(document, one) for one in document.gathered if one.code != UNREAD or one.image not in read]
    results += pairing_findings(document.scene)
    results += light_findings(document)
    results += layer_findings(document)
    results += budget_findings(judged_document(document), told_unknown=False)
    for bundle in document.bundles:
        results += findings_of(document.scene, bundle)
    return tuple(sorted(results, key=lambda finding: SEVERITIES.index(finding.severity)))


def accepted(document: Document, finding: Finding) -> Finding:
    """Return a finding as a note when the artist has accepted what it tells: that an image is missing."""
    if finding.image and finding.image in document.accepted and finding.act:
        return replace(finding, severity=INFO, remedy="The factor colour stands for it, as you said.", act=LOCATE)
    return finding
