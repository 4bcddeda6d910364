"""What is done with high-poly models in the window: gathering, pairing, reaches, previews. Not a widget."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path

from PySide6.QtCore import QObject, QTimer, Signal

from fasciculum.app.workspace import Workspace
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import PairBy
from fasciculum.model.counting import counted
from fasciculum.model.detail import Handle, Pair, Pairing, Span
from fasciculum.model.document import Document
from fasciculum.operations.bake.preview import STEPS, preview
from fasciculum.session.loading import add_high, pair_again, without_high
from fasciculum.session.tasks import Kind, Task

#: milliseconds that the pointer rests on an object before it is previewed
REST = 250


class Pairs(QObject):
    """Changes to pairs, each one step of the history; and previews of the object under the pointer."""

    #: an object's preview came in, or there is none any more
    previewed = Signal(object)

    def __init__(self, workspace: Workspace) -> None:
        super().__init__(workspace)
        self.workspace = workspace
        self.on = False
        self._key = ""
        self._rest = QTimer(self, singleShot=True, interval=REST)
        self._rest.timeout.connect(lambda: self._preview(0))
        workspace.hover_changed.connect(self._hovered)
        workspace.document_changed.connect(lambda *_: self._forget())

    # -- models and pairs -------------------------------------------------------------------------------------

    def pair(self, key: str) -> Pair | None:
        """Return the pair of an object, None without one."""
        detail = self.workspace.document.scene.detail
        return None if detail is None else detail.pair(key)

    def gather(self, paths: Sequence[str], cages: Sequence[str] = ()) -> None:
        """Gather high-poly models, or cages, beside the project's objects."""
        document = self.workspace.document
        if not document.scene.objects:
            self.workspace.say("Add the low-poly models before the high-poly ones.", "broken")
            return
        if cages and document.scene.detail is None:
            self.workspace.say("Add high-poly models first: a cage directs rays towards them.", "broken")
            return
        names = [*paths, *cages]
        what = "Add high-poly" if paths else "Load the cage mesh"
        folder = str(self.workspace.session.store.folder)
        arguments = (document, list(paths), list(cages), document.pairing, "", folder)
        self._run(f"{what} {Path(names[0]).name}", add_high, arguments, f"{what} models" if paths else what)

    def read_file(self, path: str) -> None:
        """Pair as a file says."""
        document = self.workspace.document
        folder = str(self.workspace.session.store.folder)
        self._run("Pair by file", add_high, (document, [], [], document.pairing, path, folder), "Pair by file")

    def change(self, label: str, **values: object) -> None:
        """Change what is said of pairing, and pair again."""
        document = self.workspace.document
        if document.scene.detail is None:
            return
        pairing: Pairing = replace(document.pairing, **values)  # type: ignore[arg-type]
        if pairing != document.pairing:
            self._run(label, pair_again, (document, pairing), label)

    def forget_high(self) -> None:
        """Let go of all high-poly models."""
        if self.workspace.document.scene.detail is not None:
            self.workspace.apply("Remove high-poly models", without_high)

    def _run(self, title: str, function: Callable[..., Document], arguments: tuple, label: str) -> None:
        document = self.workspace.document

        def take(changed: Document) -> None:
            if self.workspace.document.scene is not document.scene:
                self.workspace.say("The project changed meanwhile. Please do it again.", "broken")
                return
            now = self.workspace.document
            gathered = changed.gathered if changed.gathered is not document.gathered else now.gathered
            self.workspace.session.apply(
                label, replace(now, scene=changed.scene, pairing=changed.pairing, gathered=gathered)
            )
            detail = changed.scene.detail
            if detail is not None:
                free = len(list(detail.loose))
                more = f"; {counted(free, 'high-poly object')} found no partner" if free else ""
                self.workspace.say(f"{counted(len(detail.pairs), 'pair')}{more}.", "good")

        self.workspace.run(Task(Kind.PAIR, title, function, arguments), take, anew=True)

    def join(self, low: str, highs: Sequence[str]) -> None:
        """Read high-poly objects into one, by hand, beside those that are read into it already."""
        pair = self.pair(low)
        whole = tuple(dict.fromkeys([*(pair.high if pair is not None else ()), *highs]))
        hand = dict(self.workspace.document.pairing.hand)
        for other, keys in list(hand.items()):
            hand[other] = tuple(key for key in keys if key not in highs)
        hand[low] = whole
        self.change(f"Pair {highs[0]} with {low}", hand=tuple(sorted(hand.items())))

    def part(self, low: str) -> None:
        """Read nothing into an object."""
        hand = dict(self.workspace.document.pairing.hand) | {low: ()}
        self.change(f"Unpair {low}", hand=tuple(sorted(hand.items())))

    def follow_rule(self, by: PairBy) -> None:
        """Pair by a rule, and forget what was said by hand."""
        self.change("Pair by rule", by=by, hand=())

    # -- reaches ----------------------------------------------------------------------------------------------

    def reach_of(self, key: str) -> Span:
        """Return the reach in force of an object, out and in, metres."""
        pair = self.pair(key)
        bundle = self.workspace.document.bundle_of(key)
        told = (bundle.bake.reach_out, bundle.bake.reach_in) if bundle is not None else (0.0, 0.0)
        return (0.0, 0.0) if pair is None else pair.reach(told)

    def set_span(self, key: str, span: Span | None) -> None:
        """Set the reach of one object, or let it follow its bundle."""
        spans = dict(self.workspace.document.pairing.spans)
        spans.pop(key, None)
        if span is not None:
            spans[key] = span
        self.change(f"Reach of {key}", spans=tuple(sorted(spans.items())))

    def set_handles(self, key: str, handles: Sequence[Handle], label: str = "") -> None:
        """Set the handles on an object's reach."""
        results = dict(self.workspace.document.pairing.handles)
        results.pop(key, None)
        if handles:
            results[key] = tuple(handles)
        self.change(label or f"Ray distance handle of {key}", handles=tuple(sorted(results.items())))

    # -- previews ---------------------------------------------------------------------------------------------

    def set_on(self, on: bool) -> None:
        """Turn previews of the object under the pointer on or off."""
        self.on = on
        if not on:
            self._forget()
        else:
            self._hovered()

    def _forget(self) -> None:
        self._key = ""
        self._rest.stop()
        self.previewed.emit(None)

    def _hovered(self) -> None:
        key = self.workspace.hovered
        if self.on and key and key != self._key and self.workspace.document.bundle_of(key) is not None:
            self._rest.start()

    def _preview(self, step: int) -> None:
        """Have the object under the pointer previewed, then better."""
        key = self.workspace.hovered if step == 0 else self._key
        document = self.workspace.document
        bundle = document.bundle_of(key) if key else None
        if bundle is None or not self.on:
            return
        self._key = key

        def take(made: Bundle) -> None:
            if self.on and self._key == key and self.workspace.document.scene is document.scene:
                self.previewed.emit(made)
                if step + 1 < len(STEPS):
                    self._preview(step + 1)

        arguments = (document.scene, bundle, key, step, self.workspace.session.store)
        self.workspace.run(Task(Kind.MEASURE, f"Preview {key}", preview, arguments, part="preview"), take, anew=True)
