"""Texels that surfaces read in common and that lie on the sheet more than once, with what keeps them apart."""

from __future__ import annotations

from collections.abc import Sequence

from fasciculum.checks.check import Check, Facts, Scope
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import Treatment
from fasciculum.model.finding import INFO, Finding
from fasciculum.model.maps import KINDS
from fasciculum.model.scene import Object, Primitive, Scene
from fasciculum.treatments.apart import alike_materials
from fasciculum.treatments.flats import flat_values
from fasciculum.treatments.reading import Read, held_meshes, read_of, texels_of, users
from fasciculum.treatments.sharing import PAYS, distinct_pieces, share_texels, why_apart

#: a primitive that is used: its object, its number in the mesh, and itself
Use = tuple[Object, int, Primitive]


def not_shared(scene: Scene, bundle: Bundle) -> list[Finding]:
    """Name materials of a bundle whose surfaces overlap on a texture and yet have texels of their own, and say why.

    Surfaces that could share and are baked as islands, since that was chosen, are not named.
    """
    if bundle.given is not None:
        return []
    used = users(scene, bundle.objects)
    results = []
    by_image: dict[tuple[str, int, int], list[int]] = {}
    for index, uses in used.items():
        material = scene.materials[index] if index >= 0 else None
        way = bundle.way(scene.material_name(index)) if material is not None else Treatment.APART
        if material is None or way not in (Treatment.BAKE, Treatment.BLOCK) or flat_values(scene, material) is not None:
            continue
        results += _within(scene, bundle, index, uses)
        if material.base_color is not None:
            image = scene.images[material.base_color.image]
            by_image.setdefault((image.pixels, image.width, image.height), []).append(index)
    for indices in by_image.values():
        results += _among(scene, bundle, indices, used)
    return results


def _reads(scene: Scene, uses: Sequence[Use]) -> dict[tuple[int, int], Read]:
    """Return how surfaces read their textures, by mesh and number; several textures by the first of them."""
    results: dict[tuple[int, int], Read] = {}
    for item, number, primitive in uses:
        place = scene.nodes[item.node].mesh, number
        if place not in results:
            read = read_of(scene, primitive) or read_of(scene, primitive, leading=True)
            if read is not None:
                results[place] = read
    return results


def _why(scene: Scene, bundle: Bundle, use: Use, held: frozenset[int]) -> str:
    """Return what keeps a surface from sharing texels, empty when nothing does."""
    item, _, primitive = use
    if bundle.bake.computed:
        maps = ", ".join(KINDS[name].title.lower() for name in bundle.bake.computed)
        return f"{maps} depends on where a surface is"
    if scene.nodes[item.node].mesh in held:
        return "layers or high-poly objects change what they show"
    return why_apart(scene, bundle, primitive)


def _within(scene: Scene, bundle: Bundle, index: int, uses: Sequence[Use]) -> list[Finding]:
    """Return a finding for what of one material must not share texels."""
    held = held_meshes(scene, bundle.objects)
    reasons: dict[str, list[Use]] = {}
    known: dict[tuple[int, int], str] = {}
    for use in uses:
        place = scene.nodes[use[0].node].mesh, use[1]
        if place not in known:
            known[place] = _why(scene, bundle, use, held)
        reasons.setdefault(known[place], []).append(use)
    free = reasons.pop("", [])
    parted = [use for some in reasons.values() for use in some]
    if not parted:
        return []
    texels = texels_of(scene, scene.materials[index])
    alone, every = _reads(scene, parted), _reads(scene, uses)
    if not alone or len(every) < 2:
        return []
    apart = float(distinct_pieces(list(alone.values()))[0].sum()) * texels[0] * texels[1]
    rest = list(_reads(scene, free).values())
    kept = share_texels(rest, texels).texels if rest else 0
    lost = apart + kept - share_texels(list(every.values()), texels).texels
    if lost <= (1 - PAYS) * (apart + kept):
        return []
    return [_finding(scene, bundle, index, parted, round(lost), " and ".join(reasons))]


def _among(scene: Scene, bundle: Bundle, indices: Sequence[int], used: dict[int, list[Use]]) -> list[Finding]:
    """Return a finding for materials that read one image and differ otherwise, so that each has texels of its own."""
    if len(indices) < 2:
        return []
    reads = [list(_reads(scene, used[index]).values()) for index in indices]
    if len(alike_materials(scene, indices)) < 2 or not all(reads):
        return []
    texels = texels_of(scene, scene.materials[indices[0]])
    apart = sum(share_texels(some, texels).texels for some in reads)
    lost = apart - share_texels([read for some in reads for read in some], texels).texels
    if lost <= (1 - PAYS) * apart:
        return []
    uses = [use for index in indices[1:] for use in used[index]]
    first = scene.material_name(indices[0])
    return [_finding(scene, bundle, indices[1], uses, round(lost), f"factors or textures differ from those of {first}")]


def _finding(scene: Scene, bundle: Bundle, index: int, uses: Sequence[Use], lost: int, reason: str) -> Finding:
    objects = tuple(dict.fromkeys(item.key for item, _, _ in uses))
    name = scene.material_name(index)
    return Finding(
        "not_shared",
        INFO,
        f"{bundle.name}: {len(objects)} of the objects with {name} read texels that others read too, and have their "
        f"own on the sheet because {reason}. That takes {lost:,} more square px.",
        material=name,
        bundle=bundle.name,
        objects=objects,
        texels=lost,
    )


def _run(facts: Facts) -> list[Finding]:
    return not_shared(facts.scene, facts.bundle)


CHECKS = (Check("sharing", Scope.BUNDLE, ("not_shared",), _run, rank=25),)
