"""Bundles: objects that share one texture set, with their settings, their layout and their maps."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass, field, replace
from functools import cached_property

from fasciculum.model.bake_settings import BakeSettings
from fasciculum.model.choices import AlphaMode, ObjectPolicy, Treatment, TwinRule, UvPolicy
from fasciculum.model.given import Given
from fasciculum.model.layout import Layout, Version
from fasciculum.model.sheet import BLOCK_PADDING, SheetSettings
from fasciculum.model.texturing import CheckResult, Texturing
from fasciculum.model.unwrapping import PLAIN, Shaping


def unique_identity(name: str, taken: Collection[str]) -> str:
    """Return an identity for a new bundle: its name, with a number behind it where that is taken."""
    result, number = name, 2
    while result in taken:
        result, number = f"{name} #{number}", number + 1
    return result


@dataclass(frozen=True, eq=False)
class Bundle:
    """A group of objects that will share one texture set and, in the end, one material.

    ``identity`` stays when it is renamed; a bundle that was given none goes by its name.
    ``shares`` and ``twin_rules`` hold what is said of single objects: the factor on their density, and whether their
    islands may lie on others' places: ``apart``, or ``unmirrored`` for not on mirrored ones.
    """

    name: str
    objects: tuple[str, ...]
    alpha_mode: AlphaMode = AlphaMode.OPAQUE
    sheet: SheetSettings = field(default_factory=SheetSettings)
    bake: BakeSettings = field(default_factory=BakeSettings)
    shares: tuple[tuple[str, float], ...] = ()
    layout: Layout | None = None
    texturing: Texturing | None = None
    check: CheckResult | None = None
    twin_rules: tuple[tuple[str, TwinRule], ...] = ()
    versions: tuple[Version, ...] = ()
    #: how single objects are laid flat
    shapings: tuple[tuple[str, Shaping], ...] = ()
    identity: str = ""
    #: how materials are treated, by their names; those that are not named are baked
    ways: tuple[tuple[str, Treatment], ...] = ()
    #: the sheet that exists and is used as it is, None when one is made
    given: Given | None = None

    def __post_init__(self) -> None:
        if not self.identity:
            object.__setattr__(self, "identity", self.name)
        # in one order, whoever made it, so that what is read from a project is what was saved
        object.__setattr__(self, "ways", tuple(sorted(self.ways)))

    @cached_property
    def sheet_in_force(self) -> SheetSettings:
        """The sheet's settings as they are followed.

        Without twins when a map needs texels for every copy, and with the padding that compression blocks need.
        """
        sheet = self.sheet
        if sheet.twins and self.bake.needs_unique_texels:
            sheet = replace(sheet, twins=False)
        if sheet.blocks and sheet.padding < BLOCK_PADDING:
            sheet = replace(sheet, padding=BLOCK_PADDING, margin=sheet.border)
        return sheet

    def way(self, material: str) -> Treatment:
        """Return how a material is treated."""
        return self._ways.get(material, Treatment.BAKE)

    def treating(self, materials: Collection[str], way: Treatment) -> Bundle:
        """Return the bundle with some materials treated in a way."""
        ways = {one: other for one, other in self.ways if one not in materials}
        if way is not Treatment.BAKE:
            ways |= dict.fromkeys(materials, way)
        return replace(self, ways=tuple(sorted(ways.items())))

    @cached_property
    def _ways(self) -> dict[str, Treatment]:
        return dict(self.ways)

    def shaping(self, key: str) -> Shaping:
        """Return what was said about how an object is laid flat."""
        return self._shapings.get(key, PLAIN)

    @cached_property
    def _shapings(self) -> dict[str, Shaping]:
        return dict(self.shapings)

    def policy(self, key: str) -> UvPolicy:
        """Return what is done with an object's source UVs."""
        said = self.shaping(key).policy
        return self.sheet.uv if said == ObjectPolicy.BUNDLE else UvPolicy(said)

    def twin_rule(self, key: str) -> TwinRule:
        """Return how an object's twins are treated."""
        return dict(self.twin_rules).get(key, TwinRule.TOGETHER)

    def share(self, key: str) -> float:
        """Return the share of an object: the factor on its density."""
        return self._shares.get(key, 1.0)

    @cached_property
    def _shares(self) -> dict[str, float]:
        return dict(self.shares)
