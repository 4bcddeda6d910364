"""Layers: textures and colours laid over the materials of objects, how they are projected, and where they show."""

from __future__ import annotations

import zlib
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from fnmatch import fnmatchcase

import numpy as np

from fasciculum.model.choices import Choice
from fasciculum.model.lighting import Triple
from fasciculum.model.stored import FilePath


class LayerProjection(Choice):
    """How a layer's textures come onto a surface."""

    BOX = "box"
    PLANE = "plane"
    CYLINDER = "cylinder"
    SPHERE = "sphere"
    UV0 = "uv0"


class Axis(Choice):
    """An axis, of the object or of the world."""

    X = "x"
    Y = "y"
    Z = "z"

    @property
    def number(self) -> int:
        """Its number, from 0."""
        return "xyz".index(self)


class MaskKind(Choice):
    """What a layer's mask is made from."""

    ALL = "all"
    FACING = "facing"
    GRADIENT = "gradient"
    HEIGHT = "height"
    IMAGE = "image"
    VERTEX_COLOR = "vertex_color"
    AO = "ao"
    CURVATURE = "curvature"


class Blend(Choice):
    """How a layer's colour comes over what is beneath, in linear light."""

    OVER = "over"
    MULTIPLY = "multiply"
    ADD = "add"
    SCREEN = "screen"


class Channel(Choice):
    """A channel of a picture or of vertex colours."""

    R = "r"
    G = "g"
    B = "b"
    A = "a"

    @property
    def number(self) -> int:
        """Its number, from 0."""
        return "rgba".index(self)


@dataclass(frozen=True)
class LayerImage:
    """A picture that a layer reads: its file and a digest of the file's bytes."""

    file: FilePath
    digest: str = ""


@dataclass(frozen=True)
class Mask:
    """Where a layer shows.

    Attributes
    ----------
    kind : MaskKind
    axis : Axis
        Of ``facing`` in the world, of ``gradient`` and ``height`` of the object's own.
    start, end : float
        The values at which a straight ramp is 0 and 1: a cosine, a part of the box, metres, a value of 0 to 1.
    image : LayerImage, optional
        Read through the layer's own projection.
    channel : Channel
        Of a picture or of vertex colours.
    invert : bool
    """

    kind: MaskKind = MaskKind.ALL
    axis: Axis = Axis.Y
    start: float = 0.0
    end: float = 1.0
    image: LayerImage | None = None
    channel: Channel = Channel.R
    invert: bool = False


@dataclass(frozen=True)
class Layer:
    """One layer.

    Attributes
    ----------
    name : str
        What the artist reads.
    objects : tuple of str
        Patterns of objects' names, as of files: ``rock*``.
    base_color : LayerImage, triple of float, or None
        A picture, or a linear colour.
    normal, orm : LayerImage, optional
    projection : LayerProjection
    axis : Axis
        Along which a plane looks, and about which cylinders and spheres turn; of the object's own.
    metres : float, optional
        What one repeat stands for in the world; None where ``repeats`` says it.
    repeats : (float, float)
        Over the box, around and along, or of the first UV set.
    turn : float
        Degrees, anticlockwise as seen from outside.
    offset : (float, float)
        Added to coordinates, in repeats.
    mask : Mask
    blend : Blend
    amount : float
        0 to 1.
    seed : int, optional
        Where given, each object has an offset and a turn of its own.
    on : bool
    """

    name: str = "Layer"
    objects: tuple[str, ...] = ("*",)
    base_color: LayerImage | Triple | None = None
    normal: LayerImage | None = None
    orm: LayerImage | None = None
    projection: LayerProjection = LayerProjection.BOX
    axis: Axis = Axis.Y
    metres: float | None = 1.0
    repeats: tuple[float, float] = (1.0, 1.0)
    turn: float = 0.0
    offset: tuple[float, float] = (0.0, 0.0)
    mask: Mask = field(default_factory=Mask)
    blend: Blend = Blend.OVER
    amount: float = 1.0
    seed: int | None = None
    on: bool = True

    def lies_on(self, key: str) -> bool:
        """Tell whether the layer lies on an object."""
        return self.on and any(key == pattern or fnmatchcase(key, pattern) for pattern in self.objects)

    @property
    def images(self) -> tuple[LayerImage, ...]:
        """The pictures that it reads."""
        of_mask = self.mask.image if self.mask.kind is MaskKind.IMAGE else None
        return tuple(one for one in (self.base_color, self.normal, self.orm, of_mask) if isinstance(one, LayerImage))

    @property
    def content(self) -> Layer:
        """The same layer with its pictures known by what they hold, wherever their files lie."""
        return self.with_images(lambda image: replace(image, file="") if image.digest else image)

    def with_files(self, change: Callable[[str], str]) -> Layer:
        """Return the same layer with the paths of its pictures changed."""
        return self.with_images(lambda image: replace(image, file=change(image.file)))

    def with_images(self, change: Callable[[LayerImage], LayerImage]) -> Layer:
        """Return the same layer with its pictures changed."""

        def moved(image: LayerImage | None) -> LayerImage | None:
            return None if image is None else change(image)

        color = self.base_color
        return replace(
            self,
            base_color=moved(color) if isinstance(color, LayerImage) else color,
            normal=moved(self.normal),
            orm=moved(self.orm),
            mask=replace(self.mask, image=moved(self.mask.image)),
        )


def layers_on(layers: tuple[Layer, ...], key: str) -> tuple[Layer, ...]:
    """Return what lies on an object, from the ground up."""
    return tuple(layer for layer in layers if layer.lies_on(key))


def placing_of(layer: Layer, key: str) -> tuple[tuple[float, float], float]:
    """Return the offset, in repeats, and the turn, degrees, that a layer has on an object."""
    if layer.seed is None:
        return layer.offset, layer.turn
    one, two, three = np.random.default_rng([layer.seed, zlib.crc32(key.encode())]).random(3)
    # what goes round meets itself again only when it is turned by a half
    round_ = layer.projection in (LayerProjection.CYLINDER, LayerProjection.SPHERE)
    turn = 180.0 * round(float(three)) if round_ else 360.0 * float(three)
    return (layer.offset[0] + float(one), layer.offset[1] + float(two)), layer.turn + turn
