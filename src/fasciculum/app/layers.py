"""What is done with layers in the window: adding, changing, ordering, files of stacks. Not a widget."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, QTimer, Signal

from fasciculum.app.rows import SETTLE
from fasciculum.app.workspace import Workspace
from fasciculum.io.layer_files import layers_file, read_layers
from fasciculum.model.counting import counted
from fasciculum.model.layers import Layer, LayerImage, Mask
from fasciculum.operations.bake.layers import layer_image, store_pictures
from fasciculum.session import commands
from fasciculum.session.tasks import Kind, Task

#: linear, of a new layer that has no picture yet: lichen
FRESH = (0.16, 0.21, 0.08)


class Layers(QObject):
    """Changes to layers, each one step of the history; those under way are shown before they are kept."""

    #: another layer was chosen, or the layers are others
    changed = Signal()
    #: a layer is being changed: nothing but the model has to follow yet
    moved = Signal()

    def __init__(self, workspace: Workspace) -> None:
        super().__init__(workspace)
        self.workspace = workspace
        self.chosen = -1
        #: whether the artist is at work on layers, not on something else that has handles in the model
        self.working = False
        self._live: tuple[Layer, ...] | None = None
        #: keys of pictures in the pixel store
        self.pictures: dict[LayerImage, str] = {}
        self._asked: frozenset[LayerImage] = frozenset()
        self._label = ""
        self._settle = QTimer(self, singleShot=True, interval=SETTLE)
        self._settle.timeout.connect(self.keep)
        workspace.document_changed.connect(lambda *_: self._follow())

    @property
    def stack(self) -> tuple[Layer, ...]:
        """The layers as they are shown, the lowest first."""
        return self.workspace.document.scene.layers if self._live is None else self._live

    @property
    def layer(self) -> Layer | None:
        """The chosen layer."""
        return self.stack[self.chosen] if 0 <= self.chosen < len(self.stack) else None

    def choose(self, number: int) -> None:
        """Choose a layer by its number from the ground up."""
        self.working = True
        if number != self.chosen:
            self.keep()
            self.chosen = number
            self.changed.emit()

    def rest(self) -> None:
        """Leave the model's handles to others."""
        if self.working:
            self.working = False
            self.moved.emit()

    # -- steps ------------------------------------------------------------------------------------------------

    def _apply(self, label: str, layers: tuple[Layer, ...]) -> None:
        self.workspace.apply(label, lambda document: commands.set_layers(document, layers))

    def add(self, color: LayerImage | tuple[float, float, float] = FRESH) -> None:
        """Lay one more layer over the chosen objects, or over all where none is chosen."""
        names = {layer.name for layer in self.stack}
        base = Path(color.file).stem if isinstance(color, LayerImage) else "Layer"
        name, number = base, 2
        while name in names:
            name, number = f"{base} {number}", number + 1
        self.working = True
        objects = tuple(sorted(self.workspace.selection)) or ("*",)
        self.chosen = len(self.stack)
        self._apply(f"Add {name}", (*self.stack, Layer(name, objects, color)))

    def add_picture(self, file: str) -> None:
        """Lay a picture over the chosen objects, once it has been read."""
        self._read(file, self.add)

    def set_picture(self, field: str, file: str) -> None:
        """Give the chosen layer a picture: for its colour, normals, surface or mask."""

        def take(image: LayerImage) -> None:
            layer = self.layer
            if layer is None:
                return
            if field == "mask":
                self.change(f"Mask of {layer.name}", mask=replace(layer.mask, image=image))
            else:
                self.change(f"Picture of {layer.name}", **{field: image})

        self._read(file, take)

    def _read(self, file: str, take: Any) -> None:
        name = Path(file).name
        self.workspace.run(Task(Kind.MEASURE, f"Read {name}", layer_image, (file,), part="layer picture"), take)

    def change(self, label: str, **values: Any) -> None:
        """Change the chosen layer."""
        layer = self.layer
        if layer is not None and replace(layer, **values) != layer:
            self.working = True
            stack = list(self.stack)
            stack[self.chosen] = replace(layer, **values)
            self._settle.stop()
            self._label = ""
            self._apply(label, tuple(stack))

    def change_mask(self, label: str, **values: Any) -> None:
        """Change the mask of the chosen layer."""
        layer = self.layer
        if layer is not None:
            self.change(label, mask=replace(layer.mask, **values))

    def show(self, label: str, *, held: bool = False, **values: Any) -> None:
        """Show a change of the chosen layer while a slider or a handle moves; it is kept once that rests.

        With ``held`` it is kept by whoever lets go, however long that rests in between.
        """
        layer = self.layer
        if layer is None:
            return
        mask = {name: values.pop(name) for name in list(values) if name in Mask.__dataclass_fields__}
        if mask:
            values["mask"] = replace(layer.mask, **mask)
        stack = list(self.stack)
        stack[self.chosen] = replace(layer, **values)
        self._label = label
        self._live = tuple(stack)
        if held:
            self._settle.stop()
        else:
            self._settle.start()
        self.moved.emit()

    def keep(self) -> None:
        """Make what is shown a step of the history."""
        self._settle.stop()
        label, self._label = self._label, ""
        live, self._live = self._live, None
        if label and live is not None and live != self.workspace.document.scene.layers:
            self._apply(label, live)

    def remove(self) -> None:
        """Remove the chosen layer."""
        layer = self.layer
        if layer is not None:
            self._apply(f"Remove {layer.name}", tuple(one for one in self.stack if one is not layer))

    def lift(self, steps: int) -> None:
        """Move the chosen layer up or down."""
        layer, to = self.layer, self.chosen + steps
        if layer is None or not 0 <= to < len(self.stack):
            return
        stack = [one for one in self.stack if one is not layer]
        stack.insert(to, layer)
        self.chosen = to
        self._apply(f"{'Lift' if steps > 0 else 'Lower'} {layer.name}", tuple(stack))

    def switch(self, number: int, on: bool) -> None:
        """Switch a layer on or off."""
        stack = list(self.stack)
        if stack[number].on != on:
            stack[number] = replace(stack[number], on=on)
            self._apply(f"{'Show' if on else 'Hide'} {stack[number].name}", tuple(stack))

    # -- files ------------------------------------------------------------------------------------------------

    def open(self, file: str) -> None:
        """Lay the layers of a file over the chosen objects; without any, over those that the file names.

        Layers that lie there already are not laid over them once more.
        """
        chosen = tuple(sorted(self.workspace.selection))
        count = 0

        def put(document: Any) -> Any:
            nonlocal count
            read = read_layers(Path(file))
            placed = tuple(replace(layer, objects=chosen) if chosen else layer for layer in read)
            present = {replace(layer, name="") for layer in document.scene.layers}
            new = [layer for layer in placed if replace(layer, name="") not in present]
            count = len(new)
            return commands.set_layers(document, (*document.scene.layers, *new)) if new else document

        self.workspace.apply(f"Open {Path(file).name}", put)
        where = f"over {counted(len(chosen), 'selected object')}" if chosen else "over the objects that it names"
        if count:
            self.workspace.say(f"Laid {counted(count, 'layer')} of {Path(file).name} {where}.", "good")

    def save(self, file: str) -> None:
        """Keep all layers as a file."""
        place = Path(file)
        # the dialog that opens layers offers these alone
        place = place if place.suffix.lower() == ".json" else place.with_name(f"{place.name}.json")
        if not self.workspace.write(place, layers_file(self.workspace.document.scene.layers, place.parent)):
            return
        self.workspace.say(f"Saved {counted(len(self.stack), 'layer')} in {place.name}.", "good")

    # -- pictures ---------------------------------------------------------------------------------------------

    def _follow(self) -> None:
        self._label, self._live = "", None
        if self.chosen >= len(self.stack) or (self.chosen < 0 and self.stack):
            self.chosen = len(self.stack) - 1
        wanted = frozenset(image for layer in self.stack for image in layer.images)
        if not wanted <= self._asked:
            self._asked = wanted

            def take(pictures: dict[LayerImage, str]) -> None:
                self.pictures = self.pictures | pictures
                self.changed.emit()

            arguments = (sorted(wanted, key=lambda image: image.file), self.workspace.session.store)
            self.workspace.run(
                Task(Kind.MEASURE, "Read layers", store_pictures, arguments, part="layers"), take, anew=True
            )
        self.changed.emit()
