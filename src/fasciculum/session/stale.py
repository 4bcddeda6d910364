"""What is out of date: derived from the digests that layouts, maps and checks carry."""

from __future__ import annotations

from collections.abc import Callable

from fasciculum.model.bundle import Bundle
from fasciculum.model.digests import digest_of, digest_text
from fasciculum.model.document import Document
from fasciculum.operations.bake.bake import stale_maps, wanted_maps
from fasciculum.operations.check.check import check_digest
from fasciculum.operations.lay_out.lay_out import layout_digest
from fasciculum.treatments.resolving import resolve_bundle

NONE, STALE, DONE = "none", "stale", "done"


def layout_state(document: Document, bundle: Bundle) -> str:
    """Return whether a bundle's layout is missing, stale or done."""
    layout = bundle.layout
    return _state(
        document,
        bundle,
        there=layout is not None,
        fresh=lambda: layout is not None and layout.made_from == layout_digest(document.scene, bundle),
    )


def _state(document: Document, bundle: Bundle, *, there: bool, fresh: Callable[[], bool]) -> str:
    """Return how something that is made of a bundle stands; one that needs no sheet is done."""
    if not bundle.objects:
        return NONE
    if resolve_bundle(document.scene, bundle).bare:
        return DONE
    if not there:
        return NONE
    return DONE if fresh() else STALE


def bake_state(document: Document, bundle: Bundle) -> str:
    """Return whether a bundle's maps are missing, stale or done."""
    made = bundle.texturing

    def fresh() -> bool:
        whole = made is not None and set(made.made) == set(wanted_maps(document.scene, bundle).maps)
        return whole and layout_state(document, bundle) == DONE and not stale_maps(document.scene, bundle)

    return _state(document, bundle, there=made is not None, fresh=fresh)


def map_states(document: Document, bundle: Bundle) -> dict[str, str]:
    """Return, for each map that a bundle should have, whether it is missing, stale or done."""
    present = set(bundle.texturing.made) if bundle.texturing is not None else set()
    old = set(stale_maps(document.scene, bundle))
    fresh = layout_state(document, bundle) == DONE
    return {
        name: NONE if name not in present else DONE if fresh and name not in old else STALE
        for name in wanted_maps(document.scene, bundle).maps
    }


def check_state(document: Document, bundle: Bundle) -> str:
    """Return whether a bundle's check is missing, stale or done."""
    check = bundle.check

    def fresh() -> bool:
        return (
            check is not None
            and check.made_from == check_digest(bundle, document.delivery)
            and bake_state(document, bundle) == DONE
        )

    return _state(document, bundle, there=check is not None, fresh=fresh)


def bundle_digest(document: Document, bundle: Bundle) -> str:
    """Return a digest of all that a bundle's layout and maps would be made from now."""
    scene = document.scene
    surfaces = [scene.surfaces[key] for key in bundle.objects]
    return digest_of(layout_digest(scene, bundle), digest_text(bundle.bake), *surfaces)


def delivery_digest(document: Document) -> str:
    """Return a digest of what a delivery would write."""
    parts = [digest_text(document.delivery), document.name, *(source.digest for source in document.scene.sources)]
    if document.delivery.lights:
        lighting = document.scene.lighting
        parts += [digest_text((lighting.added, lighting.changed))] if lighting.added or lighting.changed else []
    for bundle in document.bundles:
        parts += [digest_text(bundle.ways)] if bundle.ways else []
        parts += [bundle.name, bundle.alpha_mode, bundle.texturing.content if bundle.texturing else ""]
        if document.delivery.is_engine_ready or document.delivery.has_levels:
            parts += (
                [bundle.bake.wish(one.name).compression for one in bundle.texturing.maps] if bundle.texturing else []
            )
        parts += [*bundle.objects, digest_text((bundle.bake.edges, bundle.bake.edge_angle, bundle.bake.channels))]
    return digest_of(*parts)


def delivery_state(document: Document) -> str:
    """Return whether the last delivery is missing, stale or done."""
    if not document.delivered:
        return NONE
    # what is not up to date itself was not delivered as the project has it
    behind = any(bake_state(document, bundle) == STALE for bundle in document.bundles)
    return DONE if not behind and document.delivered == delivery_digest(document) else STALE
