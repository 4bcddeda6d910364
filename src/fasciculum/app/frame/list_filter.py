"""What is typed to filter the list of objects: names, materials, textures, treatments, states and densities."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import lru_cache

from fasciculum.app.colors import WAY_SHORT
from fasciculum.model.bundle import Bundle
from fasciculum.model.document import Document
from fasciculum.model.scene import Object
from fasciculum.session.stale import DONE, STALE, bake_state, layout_state
from fasciculum.treatments.resolved import ResolvedBundle
from fasciculum.treatments.resolving import resolve_bundle

#: a density that is more or less than a number, such as ``> 512 px/m``
DENSITY = re.compile(r"([<>])\s*(\d+(?:\.\d+)?)(?:\s*px/m)?", re.IGNORECASE)


@dataclass(frozen=True)
class Facts:
    """What is known of one object: itself, its bundle, and its density on the sheet, px/m, if it is packed."""

    document: Document
    item: Object
    bundle: Bundle | None
    density: float | None


def _has_no_uvs(facts: Facts) -> bool:
    return not all(primitive.has_uv(0) for primitive in facts.document.scene.primitives_of(facts.item))


def _is_stale(facts: Facts) -> bool:
    bundle = facts.bundle
    return bundle is not None and STALE in (layout_state(facts.document, bundle), bake_state(facts.document, bundle))


#: states by the words that are typed for them
STATES: dict[str, Callable[[Facts], bool]] = {
    "stale": _is_stale,
    "no uv": _has_no_uvs,
    "no uvs": _has_no_uvs,
    "loose": lambda facts: facts.bundle is None,
    "packed": lambda facts: facts.bundle is not None and layout_state(facts.document, facts.bundle) == DONE,
    "baked": lambda facts: facts.bundle is not None and bake_state(facts.document, facts.bundle) == DONE,
}


@lru_cache(maxsize=1)
def words_of(document: Document) -> dict[str, str]:
    """Return for each object all words under which it is found, in lower case."""
    scene = document.scene
    works = {bundle.name: resolve_bundle(scene, bundle) for bundle in document.bundles}
    return {item.key: _words_about(document, item, works) for item in scene.objects}


def _words_about(document: Document, item: Object, works: Mapping[str, ResolvedBundle]) -> str:
    scene = document.scene
    words = [item.key]
    for index in scene.materials_of(item):
        words.append(scene.material_name(index) if index >= 0 else "default")
        if index >= 0:
            words += [scene.images[slot.image].name for slot in scene.materials[index].slots().values()]
    bundle = document.bundle_of(item.key)
    if bundle is not None:
        words.append(bundle.name)
        words += [WAY_SHORT[way] for way in works[bundle.name].ways_of(scene, item.key)]
    return "\n".join(words).lower()


def matching(document: Document, densities: Mapping[str, float], text: str) -> set[str] | None:
    """Return the keys of the objects that a text asks for, None where it asks for nothing.

    Everything in it has to hold: densities (``> 512 px/m``), states (`STATES`), and words that are part of the name of
    the object, its bundle, a material, a texture or a treatment. Where some have the words side by side, as in
    ``plate 1``, only those are returned.
    """
    limits = [(sign, float(number)) for sign, number in DENSITY.findall(text)]
    rest = DENSITY.sub(" ", text).lower().strip()
    states = [test for words, test in STATES.items() if re.search(rf"(?<!\w){words}(?!\w)", rest)]
    for words in sorted(STATES, key=len, reverse=True):
        rest = re.sub(rf"(?<!\w){words}(?!\w)", " ", rest)
    parts = rest.split()
    if not limits and not states and not parts:
        return None
    phrase = " ".join(parts)
    results, exact = set(), set()
    known = words_of(document) if parts else {}
    for item in document.scene.objects:
        facts = Facts(document, item, document.bundle_of(item.key), densities.get(item.key))
        if not all(_within(facts.density, *limit) for limit in limits) or not all(test(facts) for test in states):
            continue
        about = known.get(item.key, "")
        if all(part in about for part in parts):
            results.add(item.key)
        if phrase in about:
            exact.add(item.key)
    return exact or results


def _within(density: float | None, sign: str, limit: float) -> bool:
    if density is None:
        return False
    return density > limit if sign == ">" else density < limit
