"""The open project as one immutable value."""

from __future__ import annotations

from dataclasses import dataclass, field

from fasciculum.model.bundle import Bundle
from fasciculum.model.finding import Finding
from fasciculum.model.scene import Scene


@dataclass(frozen=True)
class DeliverySettings:
    """How results are written."""

    name: str = ""
    external_textures: bool = False
    keep_source_uvs: bool = False


@dataclass(frozen=True, eq=False)
class Document:
    """A project: what was gathered, how it is bundled, and what was made of it."""

    name: str = "Untitled"
    scene: Scene = field(default_factory=Scene)
    bundles: tuple[Bundle, ...] = ()
    gathered: tuple[Finding, ...] = ()
    delivery: DeliverySettings = DeliverySettings()
    #: digest of what was last delivered, and where
    delivered: str = ""
    delivered_to: str = ""

    def bundle(self, name: str) -> Bundle:
        """Return the bundle of that name; `KeyError` when there is none."""
        for candidate in self.bundles:
            if candidate.name == name:
                return candidate
        raise KeyError(name)

    def bundle_of(self, key: str) -> Bundle | None:
        """Return the bundle that holds the object, or None when it is loose."""
        return next((candidate for candidate in self.bundles if key in candidate.objects), None)

    def loose(self) -> tuple[str, ...]:
        """Return the keys of the objects in no bundle."""
        taken = {key for bundle in self.bundles for key in bundle.objects}
        return tuple(item.key for item in self.scene.objects if item.key not in taken)
