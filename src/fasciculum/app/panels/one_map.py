"""What is otherwise for one map: its size, depth, file, samples, bleed, compression and name."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QComboBox, QLineEdit, QWidget

from fasciculum.app.fields import ComboBox
from fasciculum.app.parts import Column, Form, note
from fasciculum.errors import FasciculumError
from fasciculum.model.bake_settings import BakeSettings
from fasciculum.model.map_overrides import (
    ALL_THE_WAY,
    BLOCKS,
    ROUGH,
    MapOverride,
    judge_depth,
    judge_pattern,
    read_wish,
)
from fasciculum.model.maps import KINDS

AS_BUNDLE = "as the bundle"
SIZES = (("as the sheet", ""), *((f"{part} of the sheet", part) for part in ("1/2", "1/4", "1/8")))
CHOICES: dict[str, tuple[str, str, tuple[tuple[str, Any], ...]]] = {
    "size": ("Size", "Size of this map: a fraction of the sheet's size, or px.", SIZES),
    "bits": (
        "Depth",
        "Bits for each channel of this map.",
        ((AS_BUNDLE, 0), ("8 bits", 8), ("16 bits", 16), ("32 bits, floats", 32)),
    ),
    "format": (
        "File",
        "File format of this map. EXR stores linear floats.",
        ((AS_BUNDLE, ""), ("PNG", "png"), ("WebP, lossless", "webp"), ("TGA", "tga"), ("EXR", "exr")),
    ),
    "samples": (
        "Samples",
        "Minimum samples per texel for this map.",
        ((AS_BUNDLE, 0), ("1, filtered", 1), ("4", 4), ("16", 16)),
    ),
    "bleed": (
        "Bleed",
        "How far this map continues beyond the islands, in its own px.",
        (
            (AS_BUNDLE, None),
            ("everywhere", ALL_THE_WAY),
            ("nowhere", 0),
            ("2 px", 2),
            ("4 px", 4),
            ("8 px", 8),
            ("16 px", 16),
        ),
    ),
    "block": (
        "Block format",
        "How this map is compressed, where the delivery compresses textures.",
        (
            ("by quality", ""),
            ("uncompressed", "none"),
            *((name.upper(), name) for name in BLOCKS if name != "none"),
        ),
    ),
    "toksvig": (
        "Rougher mip levels",
        "Make smaller mip levels of roughness as much rougher as the normals of each texel differ, so that highlights "
        "do not sparkle from afar.",
        (("off", ""), ("on", "yes")),
    ),
}


class OneMap(Column):
    """The wishes of the map that is chosen in the list; ``changed`` tells them as settings hold them."""

    changed = Signal(tuple)

    def __init__(self) -> None:
        super().__init__()
        self.box.setContentsMargins(0, 0, 0, 0)
        self.name = "base_color"
        self._bake = BakeSettings()
        self._filling = False
        form = Form()
        self.controls: dict[str, QComboBox] = {}
        for key, (label, tip, choices) in CHOICES.items():
            box = ComboBox()
            for words, value in choices:
                box.addItem(words, value)
            box.activated.connect(self._change)
            form.row(label, box, tip)
            self.controls[key] = box
        self.controls["size"].setEditable(True)
        line = self.controls["size"].lineEdit()
        assert line is not None
        line.editingFinished.connect(self._change)
        self.pattern = QLineEdit()
        self.pattern.setPlaceholderText("as the delivery")
        self.pattern.editingFinished.connect(self._change)
        form.row("Names", self.pattern, "How this map's file is named, of {name}, {bundle} and {map}.")
        self.words = note()
        self.box.addWidget(form)
        self.box.addWidget(self.words)

    def show_map(self, name: str, bake: BakeSettings) -> None:
        """Show what is wished of a map."""
        self.name, self._bake = name, bake
        wish = self.wish
        self._filling = True
        for key, box in self.controls.items():
            value = getattr(wish, key)
            at = box.findData(value)
            if at >= 0:
                box.setCurrentIndex(at)
            elif key == "size":
                box.setCurrentText(value)
            else:
                box.addItem(f"{value} px", value)
                box.setCurrentIndex(box.count() - 1)
        self.controls["toksvig"].setEnabled(name in ROUGH)
        if not self.pattern.hasFocus():
            self.pattern.setText(wish.pattern)
        self.words.setText(f"for {KINDS[name].title.lower()}")
        self._filling = False

    @property
    def wish(self) -> MapOverride:
        """What is wished of the map, nothing filled in."""
        for text in self._bake.wishes:
            if text.partition(":")[0] == self.name:
                return read_wish(text)
        return MapOverride(self.name)

    def _change(self, *_: object) -> None:
        if self._filling:
            return
        values: dict[str, Any] = {key: box.currentData() for key, box in self.controls.items() if key != "size"}
        size = self.controls["size"]
        shown = size.currentText().strip()
        values["size"] = dict(SIZES).get(shown, shown)
        values["pattern"] = self.pattern.text().strip()
        wish = replace(MapOverride(self.name), **values)
        try:
            if wish.pattern:
                judge_pattern(wish.pattern)
            if wish.text:
                wish = read_wish(wish.text)
            judge_depth(wish.bits, wish.format or self._bake.format, f"map {wish.name}")
        except FasciculumError as error:
            self.words.setText(str(error))
            return
        if wish == self.wish:
            return
        others = tuple(text for text in self._bake.wishes if text.partition(":")[0] != self.name)
        self.changed.emit((*others, wish.text) if wish.text else others)

    def parts(self) -> list[QWidget]:
        """Return the controls, for whoever goes to one."""
        return [*self.controls.values(), self.pattern]
