"""The open project as one immutable value."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property

from fasciculum.model.budget import Budget
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import Treatment, UvEditKind
from fasciculum.model.delivery import DeliverySettings
from fasciculum.model.detail import Pairing
from fasciculum.model.finding import Finding
from fasciculum.model.lookup import HERE, Lookup
from fasciculum.model.named_bakes import NamedBake
from fasciculum.model.scene import Scene
from fasciculum.model.stored import FilePath
from fasciculum.model.terms import Terms


@dataclass(frozen=True)
class UvEdit:
    """A change to the UV sets of objects; done again whenever the sources are read.

    Attributes
    ----------
    kind : UvEditKind
        ``read`` lets the objects' materials read the set ``target``.
    objects : tuple of str
    source, target : int
        UV sets; ``source`` is for ``copy`` and ``swap``.
    name : str
        For ``rename`` and ``add``.
    """

    kind: UvEditKind
    objects: tuple[str, ...]
    source: int = 0
    target: int = 0
    name: str = ""


@dataclass(frozen=True, eq=False)
class Document:
    """A project: what was gathered, how it is bundled, and what was made of it."""

    name: str = "Untitled"
    scene: Scene = field(default_factory=Scene)
    bundles: tuple[Bundle, ...] = ()
    gathered: tuple[Finding, ...] = ()
    #: the delivery that is written next, and the others that the project keeps
    delivery: DeliverySettings = DeliverySettings()
    deliveries: tuple[DeliverySettings, ...] = ()
    #: where files may be found beside the models' own folders
    lookup: Lookup = HERE
    #: names of images whose absence the artist has accepted: the factor colour stands for them
    accepted: tuple[str, ...] = ()
    #: digest of what was last delivered, and where
    delivered: str = ""
    delivered_to: FilePath = ""
    #: what was changed of the sources' UV sets
    uv_edits: tuple[UvEdit, ...] = ()
    #: maps and how they are baked, kept under titles
    bakes: tuple[NamedBake, ...] = ()
    #: what plans are to keep
    terms: Terms = field(default_factory=Terms)
    #: limits that the result keeps
    budget: Budget = field(default_factory=Budget)
    #: what is said of which high-poly objects are read into which
    pairing: Pairing = field(default_factory=Pairing)
    #: treatments that were chosen by hand, by the names of materials: a plan that is taken keeps them
    treatments: tuple[tuple[str, Treatment], ...] = ()
    #: objects of the sources, and of the high-poly models, that were removed from the project
    removed: tuple[str, ...] = ()
    removed_high: tuple[str, ...] = ()

    def bundle(self, name: str) -> Bundle:
        """Return the bundle of that name; `KeyError` when there is none."""
        for candidate in self.bundles:
            if candidate.name == name:
                return candidate
        raise KeyError(name)

    def known(self, identity: str) -> Bundle | None:
        """Return the bundle of that identity, whatever it is called now, or None."""
        return next((candidate for candidate in self.bundles if candidate.identity == identity), None)

    def bundle_of(self, key: str) -> Bundle | None:
        """Return the bundle that holds the object, or None when it is loose."""
        return self._homes.get(key)

    @cached_property
    def _homes(self) -> dict[str, Bundle]:
        return {key: bundle for bundle in reversed(self.bundles) for key in bundle.objects}

    def loose(self) -> tuple[str, ...]:
        """Return the keys of the objects in no bundle."""
        taken = {key for bundle in self.bundles for key in bundle.objects}
        return tuple(item.key for item in self.scene.objects if item.key not in taken)
