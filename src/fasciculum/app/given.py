"""What is done with given sheets in the window: trims marked and named, palettes and their cells. Not a widget."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, QRectF, Signal

from fasciculum.app.sheet.island_editor import IslandEditor
from fasciculum.app.workspace import Workspace
from fasciculum.errors import UsageError
from fasciculum.io.given_files import sheet_file
from fasciculum.model.bundle import Bundle
from fasciculum.model.counting import counted
from fasciculum.model.given import Given, Trim, TrimRepeats
from fasciculum.operations.gather.palettes import made_palette, read_palette
from fasciculum.operations.gather.sheets import take_sheet
from fasciculum.operations.lay_out.onto import shifted_along
from fasciculum.session import commands
from fasciculum.session.tasks import Kind, Task

#: px within which a marked box goes to the sheet's sides
NEAR = 6.0


class GivenSheets(QObject):
    """Changes to the sheets that bundles are laid onto, each one step of the history."""

    changed = Signal()

    def __init__(self, workspace: Workspace, hand: IslandEditor) -> None:
        super().__init__(workspace)
        self.workspace, self.hand = workspace, hand
        #: the trim that fields show, and all that are chosen
        self.chosen = -1
        self.also: frozenset[int] = frozenset()
        #: returns the picked faces of an object; empty when whole objects are meant
        self.faces: Callable[[], tuple[str, Sequence[int]]] = lambda: ("", ())
        workspace.document_changed.connect(lambda *_: self.changed.emit())
        workspace.selection_changed.connect(self.changed.emit)

    @property
    def bundle(self) -> Bundle | None:
        """The bundle whose sheet is shown."""
        return self.workspace.bundle

    @property
    def given(self) -> Given | None:
        """The sheet that it is laid onto."""
        return self.bundle.given if self.bundle is not None else None

    def _names(self) -> list[str]:
        return [bundle.name for bundle in self.workspace.bundles]

    def _put(self, label: str, given: Given | None) -> None:
        names = self._names()
        self.workspace.apply(label, lambda document: commands.set_given(document, names, given))
        if given is not None:
            # nothing has to be rendered: the textures are there as soon as islands lie on them
            self.workspace.pack(names)
            self.workspace.bake(names)

    def _read(self, file: str, function: Callable[..., Given], *arguments: Any) -> None:
        name = Path(file).name
        task = Task(Kind.MEASURE, f"Read {name}", function, (Path(file), *arguments), part="given sheet")

        def take(given: Given) -> None:
            self.choose([], -1)
            self._put(f"Lay onto {name}", given)
            # in the place of whatever was said about the sheet before
            what = counted(len(given.cells), "cell") if given.is_palette else counted(len(given.trims), "trim")
            self.workspace.say(f"{name}: {what}.", "good")

        self.workspace.run(task, take)

    # -- sheets -----------------------------------------------------------------------------------------------

    def take_sheet(self, file: str) -> None:
        """Lay the chosen bundles onto a trim sheet: its description, or a picture whose trims are proposed."""
        self._read(file, take_sheet)

    def take_palette(self, file: str, cells: str = "") -> None:
        """Lay the chosen bundles onto a palette."""
        self._read(file, read_palette, cells)

    def make_palette(self) -> None:
        """Lay the chosen bundles onto a palette that is made of the flat colours of their objects."""
        keys = [key for bundle in self.workspace.bundles for key in bundle.objects]
        try:
            given = made_palette(self.workspace.document.scene, keys)
        except UsageError as error:
            self.workspace.say(str(error), "broken")
            return
        self._put("Make a palette", given)

    def make_sheet(self) -> None:
        """Have the sheets of the chosen bundles made again."""
        if self.given is not None:
            self._put("Make the sheet", None)

    def save(self, file: str) -> None:
        """Keep the trims as a description beside their textures."""
        if self.given is not None:
            place = Path(file)
            place = place if place.suffix.lower() == ".json" else place.with_name(f"{place.name}.json")
            self.workspace.write(place, sheet_file(self.given, place.parent))
            self.workspace.say(f"Saved {counted(len(self.given.trims), 'trim')} in {place.name}.", "good")

    # -- trims ------------------------------------------------------------------------------------------------

    def set_metres(self, metres: float) -> None:
        """Say what the sheet's width stands for."""
        if self.given is not None and metres != self.given.metres:
            self._put("Width of the sheet", replace(self.given, metres=metres))

    def set_split(self, on: bool) -> None:
        """Say whether islands that are longer than their trims are parted."""
        if self.given is not None and on != self.given.split:
            self._put("Split to fit", replace(self.given, split=on))

    def change_trim(self, number: int, label: str, **values: Any) -> None:
        """Change a trim."""
        given = self.given
        if given is None or not 0 <= number < len(given.trims):
            return
        trims = list(given.trims)
        trims[number] = replace(trims[number], **values)
        if "repeats" in values:
            trims[number] = _spanning(trims[number], given)
        if trims[number] != given.trims[number]:
            self._set_trims(label, tuple(trims))

    def choose(self, numbers: Sequence[int], leading: int) -> None:
        """Choose trims; the leading one is what the fields show."""
        self.chosen, self.also = leading, frozenset(numbers)

    def remove_trims(self) -> None:
        """Remove the chosen trims; what lay on them is laid onto others. The next one is chosen then."""
        given = self.given
        if given is None:
            return
        gone = {number for number in self.also | {self.chosen} if 0 <= number < len(given.trims)}
        kept = tuple(trim for number, trim in enumerate(given.trims) if number not in gone)
        if not gone:
            return
        if not kept:
            self.workspace.say("A trim sheet needs at least one trim. Keep one of them.", "broken")
            return
        what = given.trims[min(gone)].name if len(gone) == 1 else counted(len(gone), "trim")
        first = min(min(gone), len(kept) - 1)
        self.choose([first], first)
        self._set_trims(f"Remove {what}", kept)

    def _set_trims(self, label: str, trims: tuple[Trim, ...]) -> None:
        given = self.given
        assert given is not None
        for number, trim in enumerate(trims):
            for other in trims[:number]:
                if _overlap(trim, other):
                    self.workspace.say(f"{trim.name} would overlap {other.name}. Trims must not overlap.", "broken")
                    return
                if trim.name == other.name:
                    self.workspace.say(f"A trim has this name already: {trim.name} already.", "broken")
                    return
        self._put(label, replace(given, trims=trims))

    def mark(self, on: bool) -> None:
        """Have the next boxes that are drawn on the sheet become trims, or choose islands again."""
        self.hand.marking = self._marked if on else None
        self.changed.emit()

    @property
    def marking(self) -> bool:
        """Whether boxes become trims."""
        return self.hand.marking is not None

    def _marked(self, area: QRectF) -> None:
        given = self.given
        if given is None or given.is_palette:
            return
        size = given.width, given.height
        box = [area.left(), area.top(), area.right(), area.bottom()]
        box = [round(min(max(value, 0.0), size[at % 2])) for at, value in enumerate(box)]
        for at in range(4):
            side = 0 if at < 2 else size[at % 2]
            if abs(box[at] - side) <= NEAR:
                box[at] = side
        if box[2] - box[0] < 2 or box[3] - box[1] < 2:
            return
        whole = box[0] == 0 and box[2] == size[0], box[1] == 0 and box[3] == size[1]
        repeats = TrimRepeats.U if whole[0] else TrimRepeats.V if whole[1] else TrimRepeats.NONE
        names = {trim.name for trim in given.trims}
        number = len(given.trims) + 1
        while f"trim {number}" in names:
            number += 1
        left, top, right, low = box
        trim = Trim(f"trim {number}", (float(left), float(top), float(right), float(low)), repeats)
        # what is marked takes the place of what it lies on
        kept = tuple(other for other in given.trims if not _overlap(trim, other))
        gone = len(given.trims) - len(kept)
        self.choose([len(kept)], len(kept))
        self._set_trims(f"Mark {trim.name}" + (f" in place of {counted(gone, 'trim')}" if gone else ""), (*kept, trim))

    def shift(self) -> None:
        """Let the chosen islands look less alike: moved along, turned by half or mirrored on their trims."""
        given, places = self.given, self.hand.places
        if given is not None and places:
            self.hand.do("Vary on the trims", lambda layout: shifted_along(layout, given, sorted(places)))

    # -- cells ------------------------------------------------------------------------------------------------

    def choose_cell(self, cell: int) -> None:
        """Give the picked faces, or all of the chosen objects, a cell of the palette."""
        given, bundle = self.given, self.bundle
        if given is None or bundle is None:
            return
        key, faces = self.faces()
        scene = self.workspace.document.scene
        if key and faces:
            wanted = [(key, tuple(sorted(faces)))]
        else:
            chosen = [one for one in bundle.objects if one in self.workspace.selection]
            wanted = [
                (one, tuple(range(sum(len(part.triangles) for part in scene.primitives_of(scene.object(one))))))
                for one in chosen
            ]
        if not wanted:
            self.workspace.say("Choose objects first, or pick faces in the model (G), then click a cell.")
            return
        kept = (
            [entry for entry in given.chosen if entry[0] not in {one for one, _ in wanted}]
            if not faces
            else list(given.chosen)
        )
        added = tuple((one, numbers, cell) for one, numbers in wanted)
        self._put("Choose a cell", replace(given, chosen=(*kept, *added)))

    def recolour(self, cell: int, color: tuple[float, float, float]) -> None:
        """Give a cell of a palette that was made here another colour; everything on it follows."""
        given = self.given
        if given is None or not given.looks:
            return
        looks = list(given.looks)
        looks[cell] = (*color, *looks[cell][3:])
        # what lies on a cell stays there, whatever its colour
        colors = given.colors
        self._put("Colour of a cell", replace(given, looks=tuple(looks), colors=colors))


def _overlap(one: Trim, two: Trim) -> bool:
    """Whether two trims have some of the sheet in common."""
    a, b = one.box, two.box
    return min(a[2], b[2]) - max(a[0], b[0]) > 1e-6 and min(a[3], b[3]) - max(a[1], b[1]) > 1e-6


def _spanning(trim: Trim, given: Given) -> Trim:
    """Return a trim that goes on, from one side of its sheet to the other."""
    x0, y0, x1, y1 = trim.box
    if trim.repeats is TrimRepeats.U:
        return replace(trim, box=(0.0, y0, float(given.width), y1))
    if trim.repeats is TrimRepeats.V:
        return replace(trim, box=(x0, 0.0, x1, float(given.height)))
    return trim
