"""The open project as one immutable value."""

from __future__ import annotations

from dataclasses import dataclass, field

from fasciculum.model.bundle import Bundle
from fasciculum.model.finding import Finding
from fasciculum.model.lookup import HERE, Lookup
from fasciculum.model.scene import Scene

PACKINGS = ("orm", "apart", "metal_smoothness")
MODEL_KINDS = ("glb", "gltf", "obj")
PATTERN = "{name}_{bundle}_{map}"


@dataclass(frozen=True)
class DeliverySettings:
    """How results are written.

    Attributes
    ----------
    title : str
        What these settings are called in the project.
    name : str
        What every file's name begins with; empty takes the project's.
    models : tuple of str
        Kinds of model files, of `MODEL_KINDS`.
    pattern : str
        How texture files are named, of ``{name}``, ``{bundle}`` and ``{map}``.
    packing : str
        Which channels share a file, of `PACKINGS`: occlusion, roughness and metallic in one; each apart; or metallic
        with smoothness in its alpha, and occlusion apart.
    green : str
        Where green points in normal maps: ``up`` as in glTF, or ``down``.
    power_of_two : bool
        Scale textures up to powers of two.
    bits : int
        8 or 16 for each channel; 0 as they were baked.
    maps : tuple of str
        Which textures to write, by their map names; empty means all.
    combine : bool
        Join each bundle into one mesh.
    region : float
        Edge of the cells of space that a joined bundle is split by, metres; 0 does not split.
    """

    title: str = "Packed, green up"
    name: str = ""
    external_textures: bool = False
    keep_source_uvs: bool = False
    models: tuple[str, ...] = ("glb",)
    pattern: str = PATTERN
    packing: str = "orm"
    green: str = "up"
    power_of_two: bool = False
    bits: int = 0
    maps: tuple[str, ...] = ()
    combine: bool = False
    region: float = 0.0


UV_EDITS = ("add", "copy", "swap", "rename", "delete", "read")


@dataclass(frozen=True)
class UvEdit:
    """A change to the UV sets of objects; done again whenever the sources are read.

    Attributes
    ----------
    kind : str
        Of `UV_EDITS`. ``read`` lets the objects' materials read the set ``target``.
    objects : tuple of str
    source, target : int
        UV sets; ``source`` is for ``copy`` and ``swap``.
    name : str
        For ``rename`` and ``add``.
    """

    kind: str
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
    delivered_to: str = ""
    #: what was changed of the sources' UV sets
    uv_edits: tuple[UvEdit, ...] = ()

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
