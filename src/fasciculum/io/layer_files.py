"""Layers as files: ``{"version": 1, "layers": [...]}``, first the lowest."""

from __future__ import annotations

import math
import os
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import msgspec

from fasciculum.io.descriptions import beside, read_description, write_description, wrong
from fasciculum.model.layers import Axis, Blend, Channel, Layer, LayerImage, LayerProjection, Mask, MaskKind

#: keys of the file for fields of `Mask` that are called otherwise
RENAMED = {"start": "from", "end": "to"}


class _Mask(msgspec.Struct, forbid_unknown_fields=True, rename=RENAMED, omit_defaults=True):
    kind: MaskKind = MaskKind.ALL
    axis: Axis = Axis.Y
    start: float = 0.0
    end: float = 1.0
    file: str = ""
    channel: Channel = Channel.R
    invert: bool = False


class _Layer(msgspec.Struct, forbid_unknown_fields=True, omit_defaults=True):
    objects: list[str]
    name: str = ""
    base_color: str | tuple[float, float, float] | None = None
    normal: str = ""
    orm: str = ""
    projection: LayerProjection = LayerProjection.BOX
    axis: Axis = Axis.Y
    metres: float | None = None
    repeats: tuple[float, float] | None = None
    turn: float = 0.0
    offset: tuple[float, float] = (0.0, 0.0)
    mask: _Mask = msgspec.field(default_factory=_Mask)
    blend: Blend = Blend.OVER
    amount: float = 1.0
    seed: int | None = None
    on: bool = True


class _File(msgspec.Struct, forbid_unknown_fields=True):
    layers: list[_Layer]
    version: int = 1


def read_layers(path: Path) -> tuple[Layer, ...]:
    """Return the layers of a file.

    Raises
    ------
    MalformedFile, MissingFile, UnsupportedInput
        Naming the file and the place in it.
    """
    entries = read_description(path, _File, "layers").layers
    return tuple(_layer(path, f"layers[{number}]", entry, number) for number, entry in enumerate(entries))


def _layer(path: Path, place: str, entry: _Layer, number: int) -> Layer:
    def image(name: str, key: str) -> LayerImage | None:
        return LayerImage(*beside(path, name, f"{place}.{key}")) if name else None

    def demand(right: bool, key: str, words: str) -> None:
        if not right:
            raise wrong(path, words, f"{place}.{key}")

    demand(bool(entry.objects) and all(entry.objects), "objects", "at least one pattern of objects' names is needed.")
    demand(0.0 <= entry.amount <= 1.0, "amount", "an amount is from 0 to 1.")
    demand(entry.metres is None or entry.repeats is None, "metres", "give metres or repeats, not both.")
    demand(entry.metres is None or 0 < entry.metres < math.inf, "metres", "metres are above 0.")
    repeats = entry.repeats
    demand(repeats is None or min(map(abs, repeats)) > 0, "repeats", "repeats are not 0.")
    numbers = (*entry.offset, *(repeats or ()), entry.turn, entry.mask.start, entry.mask.end)
    demand(all(map(math.isfinite, numbers)), "offset", "every number has to be finite.")
    masked = entry.mask.kind is MaskKind.IMAGE
    demand(bool(entry.mask.file) == masked, "mask.file", "an image mask, and no other, names a file.")
    color: LayerImage | tuple[float, float, float] | None = None
    if isinstance(entry.base_color, str):
        color = image(entry.base_color, "base_color")
    elif entry.base_color is not None:
        color = entry.base_color
        demand(all(0 <= part < math.inf for part in color), "base_color", "a colour's parts are 0 or more.")
    normal, orm = image(entry.normal, "normal"), image(entry.orm, "orm")
    demand(not (color is None and normal is None and orm is None), "base_color", "a layer needs something to show.")
    mask = entry.mask
    # texture coordinates know no metres
    flat = entry.projection is LayerProjection.UV0 and entry.metres is None
    metres = None if repeats is not None or flat else (entry.metres or 1.0)
    return Layer(
        name=entry.name or f"Layer {number + 1}",
        objects=tuple(entry.objects),
        base_color=color,
        normal=normal,
        orm=orm,
        projection=entry.projection,
        axis=entry.axis,
        metres=metres,
        repeats=repeats or (1.0, 1.0),
        turn=entry.turn,
        offset=entry.offset,
        mask=Mask(
            mask.kind,
            mask.axis,
            mask.start,
            mask.end,
            image(mask.file, "mask.file"),
            mask.channel,
            mask.invert,
        ),
        blend=entry.blend,
        amount=entry.amount,
        seed=entry.seed,
        on=entry.on,
    )


def layers_file(layers: Sequence[Layer], folder: Path) -> bytes:
    """Return layers as a file in a folder holds them, with paths from there."""

    def path(image: LayerImage | None) -> str:
        return "" if image is None else os.path.relpath(image.file, folder.resolve())

    def entry(layer: Layer) -> _Layer:
        color: Any = path(layer.base_color) if isinstance(layer.base_color, LayerImage) else layer.base_color
        mask = layer.mask
        values = mask.kind, mask.axis, mask.start, mask.end, path(mask.image), mask.channel, mask.invert
        return _Layer(
            list(layer.objects),
            layer.name,
            color,
            path(layer.normal),
            path(layer.orm),
            layer.projection,
            layer.axis,
            layer.metres,
            None if layer.metres is not None else layer.repeats,
            layer.turn,
            layer.offset,
            _Mask(*values),
            layer.blend,
            layer.amount,
            layer.seed,
            layer.on,
        )

    return write_description(_File([entry(layer) for layer in layers]))
