"""Layers over the materials of objects: the stack from the ground up, and all that is said of the chosen one."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

from PySide6.QtCore import QSize, Qt
from PySide6.QtGui import QColor, QIcon, QPixmap
from PySide6.QtWidgets import (
    QComboBox,
    QDoubleSpinBox,
    QFileDialog,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QWidget,
)

from fasciculum.app.fields import ComboBox, DoubleSpinBox, Slider
from fasciculum.app.layers import Layers
from fasciculum.app.parts import IMAGES, ColorButton, Column, Form, Switch, button_line, note, shown_color, small_button
from fasciculum.model.counting import counted
from fasciculum.model.layers import (
    Axis,
    Blend,
    Channel,
    Layer,
    LayerImage,
    LayerProjection,
    MaskKind,
)

PICTURES = f"Pictures ({IMAGES})"
STACKS = "Layers (*.json)"
PROJECTION_WORDS = {
    LayerProjection.BOX: "from all sides of a box",
    LayerProjection.PLANE: "along one axis",
    LayerProjection.CYLINDER: "around a cylinder",
    LayerProjection.SPHERE: "around a sphere",
    LayerProjection.UV0: "through the first UV set",
}
MASK_WORDS = {
    MaskKind.ALL: "everywhere",
    MaskKind.FACING: "where it faces an axis",
    MaskKind.GRADIENT: "along the object's box",
    MaskKind.HEIGHT: "by height, m",
    MaskKind.IMAGE: "by a picture",
    MaskKind.VERTEX_COLOR: "by vertex colour",
    MaskKind.AO: "by openness",
    MaskKind.CURVATURE: "by curvature",
}
BLEND_WORDS = {Blend.OVER: "over", Blend.MULTIPLY: "multiplied", Blend.ADD: "added", Blend.SCREEN: "screened"}
ROUND = (LayerProjection.PLANE, LayerProjection.CYLINDER, LayerProjection.SPHERE)
#: what masks measure along: an axis, or one of the channels
ALONG = (MaskKind.FACING, MaskKind.GRADIENT, MaskKind.HEIGHT)
OF_CHANNEL = (MaskKind.IMAGE, MaskKind.VERTEX_COLOR)
#: steps of the amount's slider
STEPS = 100
STRIP = 18


class LayersPanel(Column):
    """The stack, and the chosen layer."""

    def __init__(self, layers: Layers) -> None:
        super().__init__()
        self.layers = layers
        self.short = ""
        self.said: Callable[[], None] = lambda: None
        self._filling = False
        self.box.setContentsMargins(0, 0, 0, 0)
        self.add_color = small_button("Colour", "Add a colour layer over the chosen objects, or over all", layers.add)
        self.add_picture = small_button(
            "Picture", "Add a picture layer over the chosen objects, or over all", lambda: self._ask(layers.add_picture)
        )
        self.up = small_button("Move up", "Move the chosen layer up", lambda: layers.lift(1))
        self.down_one = small_button("Move down", "Move the chosen layer down", lambda: layers.lift(-1))
        self.remove = small_button("Remove", "Remove the chosen layer", layers.remove)
        self.open = small_button(
            "Open", "Load layers from a file, over the selected objects or those that the file names", self._open
        )
        self.save = small_button("Save", "Save all layers to a file", self._save)
        button_line(self.box, self.add_color, self.add_picture, self.open, self.save)
        self.list = QListWidget()
        self.list.setAccessibleName("Layers")
        self.list.setToolTip("Layers over the materials, the topmost first. Untick a layer to hide it")
        self.list.setStyleSheet("QListWidget { font-size: 12px; padding: 0px } QListWidget::item { padding: 2px }")
        self.list.setIconSize(QSize(STRIP, STRIP))
        self.list.currentRowChanged.connect(self._picked)
        self.list.itemChanged.connect(self._ticked)
        self.box.addWidget(self.list)
        self.order = button_line(self.box, self.up, self.down_one, self.remove)
        self.about = note()
        self.box.addWidget(self.about)
        self.form = Form()
        self._rows()
        self.box.addWidget(self.form)
        layers.changed.connect(self.refresh)
        layers.moved.connect(self._follow)
        layers.workspace.selection_changed.connect(self.refresh)
        self.refresh()

    # -- rows -------------------------------------------------------------------------------------------------

    def _rows(self) -> None:
        self.objects = QLineEdit()
        self.objects.editingFinished.connect(self._set_objects)
        self.form.row("Objects", self.objects, "Object names, separated by commas. * matches any text, as in rock*")
        self.color = ColorButton("Colour", lambda color: self._set("Colour", base_color=color))
        self.form.row("Colour", self.color, "Colour of a layer without a picture")
        self.picture = self._file("Picture", "base_color", "Picture with the layer's colour and opacity")
        self.normal = self._file("Normals", "normal", "Normal map of the layer, green up")
        self.orm = self._file("Surface", "orm", "Occlusion, roughness and metallic as red, green and blue")
        self.amount = Slider(Qt.Orientation.Horizontal)
        self.amount.setRange(0, STEPS)
        self.amount.valueChanged.connect(lambda at: self._show("Amount", amount=at / STEPS))
        self.form.row("Amount", self.amount, "Opacity of the layer, in %")
        self.blend = self._choice(
            "Blend", BLEND_WORDS, "How the layer's colour is combined with those beneath it", "blend"
        )
        self.projection = self._choice(
            "Projection", PROJECTION_WORDS, "How the layer's pictures are projected onto the surface", "projection"
        )
        axes = {axis: f"{axis.value.upper()} of the object" for axis in Axis}
        self.axis = self._choice(
            "Axis", axes, "The axis along which a plane projects, and around which cylinder and sphere wrap", "axis"
        )
        self.metres = self._number(
            "Repeat", "Size of one repeat of the picture, in metres", 0.001, 1e5, 3, "metres", " m"
        )
        self.turn = self._number(
            "Turn", "Rotation in degrees, anticlockwise seen from outside", -360, 360, 1, "turn", "°"
        )
        self.across = self._number("Move", "To the left, in repeats; drag the square in the model", -1e4, 1e4, 3, "")
        self.down = self._number("Move up", "Upwards, in repeats; drag the square in the model", -1e4, 1e4, 3, "")
        for box in (self.across, self.down):
            box.valueChanged.connect(
                lambda _: self._show("Move the layer", offset=(self.across.value(), self.down.value()))
            )
        self.seed = Switch("each object separately")
        self.seed.toggled.connect(lambda on: self._set("Scatter", seed=1 if on else None))
        self.form.row(
            "Scatter", self.seed, "Give each object a random offset and rotation, so that copies look different"
        )
        self.mask_kind = self._choice("Mask", MASK_WORDS, "Where the layer shows", "")
        self.mask_kind.activated.connect(lambda _: self._set_mask(kind=self.mask_kind.currentData()))
        masks = {axis: axis.value.upper() for axis in Axis}
        self.mask_axis = self._choice("Mask axis", masks, "World axis for facing, object axis for the other masks", "")
        self.mask_axis.activated.connect(lambda _: self._set_mask(axis=self.mask_axis.currentData()))
        channels = dict(zip(Channel, ("red", "green", "blue", "opacity"), strict=True))
        self.mask_channel = self._choice(
            "Channel", channels, "Channel of the mask picture or of the vertex colours", ""
        )
        self.mask_channel.activated.connect(lambda _: self._set_mask(channel=self.mask_channel.currentData()))
        self.mask_image = self._file("Mask", "mask", "Mask picture, projected like the layer")
        self.start = self._number("From", "Mask value at which the layer is invisible", -1e5, 1e5, 3, "start")
        self.end = self._number("To", "Mask value at which the layer is fully visible", -1e5, 1e5, 3, "end")
        self.invert = Switch("inverted")
        self.invert.toggled.connect(lambda on: self._set_mask(invert=on))
        self.form.row("Invert", self.invert, "Show the layer where the mask hides it")

    def _choice(self, name: str, words: Mapping[Any, str], tip: str, field: str) -> QComboBox:
        box = ComboBox()
        for value, text in words.items():
            box.addItem(text, value)
        if field:
            box.activated.connect(lambda _: self._set(name, **{field: box.currentData()}))
        self.form.row(name, box, tip)
        return box

    def _number(
        self, name: str, tip: str, low: float, high: float, decimals: int, field: str, unit: str = ""
    ) -> QDoubleSpinBox:
        box = DoubleSpinBox(minimum=low, maximum=high, decimals=decimals, singleStep=5.0 if unit == "°" else 0.05)
        box.setSuffix(unit)
        if field:
            box.valueChanged.connect(lambda value: self._show(name, **{field: value}))
        self.form.row(name, box, tip)
        return box

    def _file(self, name: str, field: str, tip: str) -> QPushButton:
        button = QPushButton("none")
        button.clicked.connect(lambda: self._ask(lambda file: self.layers.set_picture(field, file)))
        self.form.row(name, button, f"{tip}; click to choose a file")
        return button

    # -- hands ------------------------------------------------------------------------------------------------

    def _ask(self, take: Callable[[str], None]) -> None:
        name, _ = QFileDialog.getOpenFileName(self.window(), "Choose a picture", "", PICTURES)
        if name:
            take(name)

    def _open(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self.window(), "Open layers", "", STACKS)
        if name:
            self.layers.open(name)

    def _save(self) -> None:
        name, _ = QFileDialog.getSaveFileName(self.window(), "Save layers", "layers.json", STACKS)
        if name:
            self.layers.save(name)

    def _picked(self, row: int) -> None:
        if not self._filling and row >= 0:
            self.layers.choose(self.list.count() - 1 - row)

    def _ticked(self, item: QListWidgetItem) -> None:
        if not self._filling:
            number = self.list.count() - 1 - self.list.row(item)
            self.layers.switch(number, item.checkState() == Qt.CheckState.Checked)

    def _set_objects(self) -> None:
        names = tuple(part.strip() for part in self.objects.text().split(",") if part.strip())
        if names:
            self._set("Objects", objects=names)

    def _set(self, label: str, **values: Any) -> None:
        if not self._filling:
            self.layers.change(label, **values)

    def _set_mask(self, **values: Any) -> None:
        if self._filling:
            return
        layer = self.layers.layer
        if layer is not None and values.get("kind") is MaskKind.IMAGE and layer.mask.image is None:
            # the picture is asked for first, so that the mask is never without one
            self._ask(lambda file: self._mask_picture(file))
            self.refresh()
            return
        self.layers.change_mask("Mask", **values)

    def _mask_picture(self, file: str) -> None:
        layer = self.layers.layer
        if layer is not None:
            self.layers.set_picture("mask", file)
            self.layers.workspace.say(f"{layer.name} is masked by {Path(file).name}.")

    def _show(self, label: str, **values: Any) -> None:
        if not self._filling:
            self.layers.show(label, **values)

    # -- showing ----------------------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Show the stack and the chosen layer."""
        self._filling = True
        stack = self.layers.stack
        self._fill(stack)
        layer = self.layers.layer
        for widget in (self.form, self.order):
            widget.setVisible(layer is not None)
        self.up.setEnabled(layer is not None and self.layers.chosen + 1 < len(stack))
        self.down_one.setEnabled(layer is not None and self.layers.chosen > 0)
        self.save.setEnabled(bool(stack))
        if layer is not None:
            self._fill_form(layer)
        self._filling = False
        keys = [item.key for item in self.layers.workspace.document.scene.objects]
        on = {key for key in keys if any(one.lies_on(key) for one in stack)}
        self.short = f"{len(stack)} on {counted(len(on), 'object')}" if stack else "none"
        self.said()
        if layer is None:
            self.about.setText("Choose objects, then lay a colour or a picture over them.")
        else:
            count = sum(layer.lies_on(key) for key in keys)
            self.about.setText(f"{layer.name} lies on {count} object{'' if count == 1 else 's'}.")

    def _follow(self) -> None:
        """Show the figures of a layer that is being changed."""
        self._filling = True
        layer = self.layers.layer
        if layer is not None:
            self._fill_figures(layer)
            item = self.list.item(self.list.count() - 1 - self.layers.chosen)
            item.setText(_words(layer))
        self._filling = False

    def _fill(self, stack: tuple[Layer, ...]) -> None:
        while self.list.count() > len(stack):
            self.list.takeItem(self.list.count() - 1)
        while self.list.count() < len(stack):
            self.list.addItem(QListWidgetItem())
        for number, layer in enumerate(stack):
            item = self.list.item(len(stack) - 1 - number)
            item.setText(_words(layer))
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Checked if layer.on else Qt.CheckState.Unchecked)
            item.setIcon(self._strip(layer))
        self.list.setCurrentRow(len(stack) - 1 - self.layers.chosen if self.layers.layer is not None else -1)
        self.list.setFixedHeight(min(max(len(stack), 1), 6) * 26 + 6)
        self.list.setVisible(bool(stack))

    def _strip(self, layer: Layer) -> QIcon:
        """Return a small picture of what a layer shows."""
        picture = QPixmap(STRIP, STRIP)
        picture.fill(QColor("transparent"))
        if isinstance(layer.base_color, LayerImage):
            result = QPixmap(layer.base_color.file)
            picture = picture if result.isNull() else result.scaled(STRIP, STRIP)
        elif layer.base_color is not None:
            picture.fill(shown_color(layer.base_color))
        return QIcon(picture)

    def _fill_form(self, layer: Layer) -> None:
        form, mask = self.form, layer.mask
        self.objects.setText(", ".join(layer.objects))
        self.objects.setCursorPosition(0)
        has_picture = isinstance(layer.base_color, LayerImage)
        if not isinstance(layer.base_color, LayerImage) and layer.base_color is not None:
            self.color.show_color(layer.base_color)
        form.show_row(self.color, not has_picture)
        for button, image in (
            (self.picture, layer.base_color),
            (self.normal, layer.normal),
            (self.orm, layer.orm),
            (self.mask_image, mask.image),
        ):
            button.setText(Path(image.file).name if isinstance(image, LayerImage) else "none")
        self._fill_figures(layer)
        for box, value in (
            (self.blend, layer.blend),
            (self.projection, layer.projection),
            (self.axis, layer.axis),
            (self.mask_kind, mask.kind),
            (self.mask_axis, mask.axis),
            (self.mask_channel, mask.channel),
        ):
            box.setCurrentIndex(box.findData(value))
        self.seed.setChecked(layer.seed is not None)
        self.invert.setChecked(mask.invert)
        textured = bool(layer.images)
        rows: tuple[tuple[QWidget, bool], ...] = (
            (self.projection, textured),
            (self.axis, textured and layer.projection in ROUND),
            (self.metres, textured and layer.projection is not LayerProjection.UV0),
            (self.turn, textured),
            (self.across, textured),
            (self.down, textured),
            (self.seed, textured),
            (self.mask_axis, mask.kind in ALONG),
            (self.mask_channel, mask.kind in OF_CHANNEL),
            (self.mask_image, mask.kind is MaskKind.IMAGE),
            (self.start, mask.kind is not MaskKind.ALL),
            (self.end, mask.kind is not MaskKind.ALL),
        )
        for control, on in rows:
            form.show_row(control, on)

    def _fill_figures(self, layer: Layer) -> None:
        self.amount.setValue(round(layer.amount * STEPS))
        for number, figure in (
            (self.metres, layer.metres or 1.0),
            (self.turn, layer.turn),
            (self.across, layer.offset[0]),
            (self.down, layer.offset[1]),
            (self.start, layer.mask.start),
            (self.end, layer.mask.end),
        ):
            if abs(number.value() - figure) > 0.5 * 10.0 ** -number.decimals():
                number.setValue(figure)


def _words(layer: Layer) -> str:
    """Return what the list says of a layer."""
    return f"{layer.name}   {layer.amount:.0%} {BLEND_WORDS[layer.blend]}"
