"""The memory of textures in blocks, before and after, both by one rule: the format that each gets by its role."""

from __future__ import annotations

from fasciculum.compression.blocks import BY_NAME, BlockFormat, candidates
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import Compression
from fasciculum.model.document import Document
from fasciculum.model.maps import KINDS, Origin, Role
from fasciculum.model.scene import OPAQUE, Material
from fasciculum.operations.ledger import written_textures
from fasciculum.treatments.apart import apart_materials
from fasciculum.treatments.resolving import resolve_bundle


def compressed_memory(document: Document) -> tuple[int, int]:
    """Return the bytes of all textures with their levels in blocks, before and after; zeros without compression.

    Sheets count with the formats that they were compressed into, or with the smallest ones as long as they were not.
    Source textures count with the formats that the sheets' maps of the same role have.
    """
    if document.delivery.compress is Compression.NONE:
        return 0, 0
    scene = document.scene
    filled = [bundle for bundle in document.bundles if bundle.objects]
    known = _formats_by_role(document)
    used = {index for item in scene.objects for index in scene.materials_of(item)}
    apart = apart_materials(scene, {one for bundle in filled for one in resolve_bundle(scene, bundle).apart})
    kept = {leader for leader, _ in apart.values()}
    kept |= {index for key in document.loose() for index in scene.materials_of(scene.object(key))}
    after = _source_bytes(document, kept, known) + sum(_sheet_bytes(document, bundle) for bundle in filled)
    return _source_bytes(document, used, known), after


def _formats_by_role(document: Document) -> dict[Role, BlockFormat]:
    """Return the largest format that maps of each role were compressed into."""
    results: dict[Role, BlockFormat] = {}
    for bundle in document.bundles:
        for one in bundle.check.compressed if bundle.check is not None else ():
            form = BY_NAME.get(one.block)
            for role in KINDS[one.name].reads if one.name in KINDS else ():
                if form is not None and (role not in results or form.density > results[role].density):
                    results[role] = form
    return results


def _source_bytes(document: Document, materials: set[int], known: dict[Role, BlockFormat]) -> int:
    """Return what the distinct images of materials take."""
    scene = document.scene
    sizes: dict[str, int] = {}
    for index in sorted(one for one in materials if one >= 0):
        material = scene.materials[index]
        for role, slot in material.slots().items():
            image = scene.images[slot.image]
            form = _format_for(document, Role(role), material, known)
            size = form.chain_bytes(image.width, image.height)
            key = image.pixels or f"missing {slot.image}"
            sizes[key] = max(size, sizes.get(key, 0))
    return sum(sizes.values())


def _format_for(document: Document, role: Role, material: Material, known: dict[Role, BlockFormat]) -> BlockFormat:
    family = document.delivery.compress
    channels = 4 if role is Role.BASE_COLOR and material.alpha_mode != OPAQUE else 3
    smallest = candidates(family, channels, vectors=role is Role.NORMAL, floats=False)[0]
    found = known.get(role)
    return found if found is not None and found.density >= smallest.density else smallest


def _sheet_bytes(document: Document, bundle: Bundle) -> int:
    """Return what the textures of a bundle's sheet take in blocks."""
    if bundle.check is not None and bundle.check.compressed:
        return sum(one.bytes for one in bundle.check.compressed)
    total, family = 0, document.delivery.compress
    opaque = bundle.alpha_mode == OPAQUE
    for name, (width, height) in written_textures(document.scene, bundle):
        kind = KINDS.get(name)
        channels = 3 if kind is None or (opaque and kind.channels == 4) else kind.channels
        floats = kind is not None and kind.origin is Origin.LIGHT
        form = candidates(family, channels, vectors=kind is not None and kind.vectors, floats=floats)[0]
        total += form.chain_bytes(width, height)
    return total * max(resolve_bundle(document.scene, bundle).tiles, 1)
