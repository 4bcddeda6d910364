"""The tree that meshes hang on, and all that refers to its nodes: as a file had it, or as it is to be written."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from fasciculum.model.attributes import Attribute
from fasciculum.model.frozen import freeze_arrays


@dataclass(frozen=True)
class Further:
    """What goes along without being understood: extras, and extensions that mean the same anywhere."""

    extras: Any = None
    extensions: dict[str, Any] = field(default_factory=dict)


NOTHING = Further()


@dataclass(frozen=True, eq=False)
class Place:
    """Where a node stands in its parent, in whichever of two ways it was said; None where it was not.

    ``matrix`` has 16 numbers, column by column; ``rotation`` is a quaternion, x, y, z, w.
    """

    translation: tuple[float, ...] | None = None
    rotation: tuple[float, ...] | None = None
    scale: tuple[float, ...] | None = None
    matrix: tuple[float, ...] | None = None


@dataclass(frozen=True, eq=False)
class TreeNode:
    """A node. Numbers count within the tree, -1 being none; ``copies`` are the places at which its mesh is drawn.

    ``copies`` holds TRANSLATION, ROTATION and SCALE, each with a row for each copy.
    """

    name: str | None = None
    place: Place = Place()
    children: tuple[int, ...] = ()
    mesh: int = -1
    skin: int = -1
    camera: int = -1
    light: int = -1
    weights: tuple[float, ...] = ()
    copies: dict[str, Attribute] = field(default_factory=dict)
    further: Further = NOTHING


@dataclass(frozen=True, eq=False)
class Skin:
    """The nodes that bend a mesh; ``bound`` are their inverse matrices when it was bound."""

    joints: tuple[int, ...]
    skeleton: int = -1
    bound: Attribute | None = None
    name: str | None = None
    further: Further = NOTHING


@dataclass(frozen=True)
class Camera:
    """A camera: ``perspective`` or ``orthographic``, with its figures as glTF names them."""

    kind: str
    figures: dict[str, float]
    name: str | None = None
    further: Further = NOTHING


@dataclass(frozen=True)
class Light:
    """A light: ``directional`` (lux), ``point`` or ``spot`` (candela).

    ``color`` is linear; ``reach`` is in metres, None for unlimited; ``inner`` and ``outer`` are a spot's cone, radians.
    None is what was not said.
    """

    kind: str
    color: tuple[float, float, float] | None = None
    intensity: float | None = None
    reach: float | None = None
    inner: float | None = None
    outer: float | None = None
    name: str | None = None
    further: Further = NOTHING


@dataclass(frozen=True, eq=False)
class Track:
    """Values over time, in seconds, and how they are blended (LINEAR when it is not said)."""

    times: Attribute
    values: Attribute
    blending: str | None = None
    further: Further = NOTHING


@dataclass(frozen=True)
class Channel:
    """What a track moves: translation, rotation, scale or weights of a node."""

    track: int
    path: str
    node: int = -1
    further: Further = NOTHING
    target: Further = NOTHING


@dataclass(frozen=True, eq=False)
class Animation:
    """Tracks and what they move."""

    tracks: tuple[Track, ...]
    channels: tuple[Channel, ...]
    name: str | None = None
    further: Further = NOTHING


@dataclass(frozen=True)
class TreeScene:
    """Nodes that are seen together, by their roots."""

    roots: tuple[int, ...]
    name: str | None = None
    further: Further = NOTHING


@dataclass(frozen=True, eq=False)
class Tree:
    """All nodes and what refers to them; ``shown`` is the scene that is seen first. Without scenes all roots are."""

    nodes: tuple[TreeNode, ...] = ()
    scenes: tuple[TreeScene, ...] = ()
    shown: int = 0
    skins: tuple[Skin, ...] = ()
    cameras: tuple[Camera, ...] = ()
    lights: tuple[Light, ...] = ()
    animations: tuple[Animation, ...] = ()
    #: extras and extensions of the whole file
    further: Further = NOTHING
    copyright: str = ""
    #: what the file says of itself beside its rights
    asset_extras: Any = None

    def __post_init__(self) -> None:
        freeze_arrays(self)

    def parents(self) -> dict[int, int]:
        """Return each node's parent, for those that have one."""
        return {child: index for index, node in enumerate(self.nodes) for child in node.children}

    def moved(self) -> set[int]:
        """Return the nodes that an animation moves."""
        return {channel.node for animation in self.animations for channel in animation.channels if channel.node >= 0}
