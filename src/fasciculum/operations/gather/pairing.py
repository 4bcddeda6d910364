"""Pairing: which high-poly objects are read into which object, by name, by how surfaces lie, from a file or by hand."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import replace
from pathlib import Path

import msgspec
import numpy as np

from fasciculum.baking.world import diagonal_of, world_box
from fasciculum.errors import UsageError
from fasciculum.model.choices import PairBy
from fasciculum.model.detail import UNKNOWN, Pair, Pairing
from fasciculum.model.finding import INFO, WARNING, Finding
from fasciculum.model.scene import Object, Scene
from fasciculum.operations.gather.matching import triangle_count
from fasciculum.operations.gather.reach import Owners, measured_pairs
from fasciculum.progress import SILENT, Progress

LOW_WORDS = frozenset({"low", "lo", "lp", "lowpoly", "lowres"})
HIGH_WORDS = frozenset({"high", "hi", "hp", "highpoly", "highres", "hipoly", "hires"})
#: of a high-poly object's box diagonal, how far off the surface may be that it lies on
NEAR = 0.1
#: bytes that a file of pairs may have
MOST_BYTES = 16 << 20


def words_of(name: str) -> tuple[str, ...]:
    """Return the words of a name in lower case, parted at signs and where small letters are followed by capitals."""
    parts = re.split(r"[\s_.\-:]+", re.sub(r"(?<=[a-z0-9])(?=[A-Z])", " ", name))
    results: list[str] = []
    for part in (part.lower() for part in parts if part):
        if part in ("poly", "res") and results and results[-1] in ("low", "lo", "high", "hi"):
            continue
        results.append(part)
    return tuple(results)


def high_by_name(scene: Scene, keys: Sequence[str]) -> list[str]:
    """Return those of some objects that are called high-poly: by their own, a group's or their file's name."""
    results = []
    for key in keys:
        item = scene.object(key)
        source = Path(scene.sources[scene.nodes[item.node].source].path).stem
        names = [*_chain(scene, item), source]
        if any(set(words_of(name)) & HIGH_WORDS and len(words_of(name)) > 1 for name in names):
            results.append(key)
    return results


def _plain(name: str, suffix: str, words: frozenset[str]) -> tuple[str, ...]:
    """Return the words of a name without the last one that says which of two it is, or without a suffix."""
    if suffix and name.lower().endswith(suffix.lower()):
        return words_of(name[: -len(suffix)])
    results = list(words_of(name))
    for place in range(len(results) - 1, -1, -1):
        if results[place] in words and len(results) > 1:
            del results[place]
            break
    return tuple(results)


def _bases(name: str, suffix: str) -> Iterator[tuple[str, ...]]:
    """Return what a high-poly name may be called without what says so, the likeliest first.

    What stands behind the word belongs to the part, and so do words at the end: *door_high_rivets* and *door_rivets*
    are of the door.
    """
    whole = words_of(name)
    yield _plain(name, suffix, HIGH_WORDS)
    for place in range(len(whole) - 1, 0, -1):
        if whole[place] in HIGH_WORDS:
            yield whole[:place]
    plain = _plain(name, suffix, HIGH_WORDS)
    for length in range(len(plain) - 1, 0, -1):
        if not all(word.isdigit() for word in plain[length:]):
            yield plain[:length]


def _chain(scene: Scene, item: Object) -> list[str]:
    """Return the names of an object's node and of the groups that it hangs under, the nearest first."""
    result, node = [], item.node
    while node >= 0:
        result.append(scene.nodes[node].name or item.key)
        node = scene.nodes[node].parent
    return result


class _Names:
    """Objects by the words of their names."""

    def __init__(self, scene: Scene, pairing: Pairing) -> None:
        self.scene, self.pairing = scene, pairing
        self.own: dict[tuple[str, ...], list[Object]] = {}
        self.under: dict[tuple[str, ...], list[Object]] = {}
        for item in scene.objects:
            name, *groups = _chain(scene, item)
            self.own.setdefault(_plain(name, pairing.low_suffix, LOW_WORDS), []).append(item)
            for group in groups:
                if set(words_of(group)) & LOW_WORDS or (
                    pairing.low_suffix and group.lower().endswith(pairing.low_suffix.lower())
                ):
                    self.under.setdefault(_plain(group, pairing.low_suffix, LOW_WORDS), []).append(item)

    def find(self, high: Scene, item: Object) -> tuple[list[Object], PairBy]:
        """Return what a high-poly object is read into, and how that was found."""
        for place, name in enumerate(_chain(high, item)):
            by = PairBy.GROUP if place else PairBy.NAME
            for number, base in enumerate(_bases(name, self.pairing.high_suffix)):
                # a group has to be called what the object is
                if place and number and not set(words_of(name)) & HIGH_WORDS:
                    break
                present = self.own.get(base) or self.under.get(base)
                if present:
                    return self._closest(present, high, item), by
        return [], PairBy.NAME

    def _closest(self, there: list[Object], high: Scene, item: Object) -> list[Object]:
        """Return of several objects of one name those of the node that is nearest."""
        if len({one.node for one in there}) == 1:
            return there
        middle = np.mean(world_box(high, [item.key]), axis=0)

        def away(one: Object) -> float:
            return float(np.linalg.norm(np.mean(world_box(self.scene, [one.key]), axis=0) - middle))

        nearest = min(there, key=away)
        return [one for one in there if one.node == nearest.node]


def _by_name(scene: Scene, high: Scene, pairing: Pairing) -> dict[str, tuple[list[str], PairBy]]:
    names = _Names(scene, pairing)
    results: dict[str, tuple[list[str], PairBy]] = {}
    for item in high.objects:
        lows, by = names.find(high, item)
        # parts of one node that were split by alpha mode read their like
        alike = [low for low in lows if low.alpha_mode == item.alpha_mode]
        for low in alike or lows:
            keys, before = results.setdefault(low.key, ([], by))
            keys.append(item.key)
            results[low.key] = keys, PairBy.GROUP if PairBy.GROUP in (before, by) else by
    return results


def _by_nearness(scene: Scene, high: Scene) -> dict[str, tuple[list[str], PairBy]]:
    """Pair each high-poly object with the one that most of its surface lies on."""
    results: dict[str, tuple[list[str], PairBy]] = {}
    owners = Owners(scene)
    for item in high.objects:
        owner = owners.of(high, item.key, NEAR * diagonal_of(world_box(high, [item.key])))
        if owner is not None:
            results.setdefault(owner, ([], PairBy.NEAREST))[0].append(item.key)
    return results


def _named(high: Scene, name: str) -> list[str]:
    """Return the high-poly objects that a name means: one of that key, or all under a group of that name."""
    if high.has(name):
        return [name]
    return [item.key for item in high.objects if name in _chain(high, item)]


def _told(
    scene: Scene, high: Scene, told: Sequence[tuple[str, tuple[str, ...]]], by: PairBy
) -> dict[str, tuple[list[str], PairBy]]:
    """Return pairs that were said; what is not there is left out."""
    results: dict[str, tuple[list[str], PairBy]] = {}
    for low, names in told:
        for item in scene.objects:
            if low in (item.key, scene.nodes[item.node].name):
                keys = [key for name in names for key in _named(high, name)]
                results[item.key] = list(dict.fromkeys(keys)), by
    return results


def read_pairs(path: str, scene: Scene, high: Scene) -> tuple[tuple[str, tuple[str, ...]], ...]:
    """Read a file of pairs: ``{"low name": ["high name", ...]}``.

    Raises
    ------
    UsageError
        Names the file and what in it is wrong.
    """
    hint = 'Write {"low name": ["high name", ...]}.'
    try:
        if Path(path).stat().st_size > MOST_BYTES:
            raise UsageError("the file of pairs is too large.", file=path, hint=hint)
        told = msgspec.json.decode(Path(path).read_bytes(), type=dict[str, list[str]])
    except OSError as error:
        raise UsageError(
            f"the file of pairs cannot be read ({error.strerror}).", file=path, hint="Check its path."
        ) from error
    except (msgspec.MsgspecError, ValueError) as error:
        raise UsageError(f"the file of pairs is not right: {error}.", file=path, hint=hint) from error
    lows = {name for item in scene.objects for name in (item.key, scene.nodes[item.node].name)}
    for low, names in told.items():
        if low not in lows:
            raise UsageError(f"there is no object {low!r}.", file=path, hint="Name an object of the models.")
        for name in names:
            if not _named(high, name):
                raise UsageError(
                    f"there is no high-poly object {name!r}, named for {low!r}.",
                    file=path,
                    hint="Name an object, or a group node, of the high-poly models.",
                )
    return tuple((low, tuple(names)) for low, names in told.items())


def _rule(scene: Scene, high: Scene, pairing: Pairing) -> dict[str, tuple[list[str], PairBy]]:
    if pairing.by is PairBy.NONE:
        every = [item.key for item in high.objects]
        return {item.key: (list(every), PairBy.NONE) for item in scene.objects}
    if pairing.by is PairBy.NEAREST:
        return _by_nearness(scene, high)
    if pairing.by is PairBy.FILE:
        return _told(scene, high, pairing.told, PairBy.FILE)
    return _by_name(scene, high, pairing)


def pair_up(scene: Scene, pairing: Pairing, *, progress: Progress = SILENT) -> Scene:
    """Return a scene with its objects paired with the high-poly ones that it has beside it, reaches measured."""
    detail = scene.detail
    if detail is None:
        return scene
    high = detail.scene
    progress.update(0.0, "Pairing")
    result = _rule(scene, high, pairing)
    by_hand = _told(scene, high, pairing.hand, PairBy.HAND)
    # what is given to one by hand is taken from the others
    given = {key for keys, _ in by_hand.values() for key in keys}
    result = {low: ([key for key in keys if key not in given], by) for low, (keys, by) in result.items()} | by_hand
    spans, handles = dict(pairing.spans), dict(pairing.handles)
    known = {(pair.low, pair.high, pair.cage): pair for pair in detail.pairs}
    order = {item.key: number for number, item in enumerate(scene.objects)}
    pairs = []
    for low in sorted(result, key=lambda key: order[key]):
        keys, by = result[low]
        if keys:
            cage = cage_of(detail.cages, scene, low)
            before = known.get((low, tuple(keys), cage))
            own, held = spans.get(low), handles.get(low, ())
            pair = before or Pair(low, tuple(keys), by, cage=cage)
            same = before is not None and (before.own, before.handles) == (own, held)
            missed = pair.missed if same else UNKNOWN
            pairs.append(replace(pair, by=by, own=own, handles=held, missed=missed))
    paired = replace(scene, detail=replace(detail, pairs=tuple(pairs)))
    return measured_pairs(paired, progress=progress.part(0.1, 1.0))


def cage_of(cages: Scene | None, scene: Scene, low: str) -> str:
    """Return an object's cage: that of its name, or the only one; empty without any.

    Raises
    ------
    UsageError
        When the cage has other triangles than the object.
    """
    if cages is None or not cages.objects:
        return ""
    item = scene.object(low)
    name = scene.nodes[item.node].name
    own = words_of(re.sub("cage", "", name, flags=re.IGNORECASE))
    plain = _plain(name, "", LOW_WORDS)
    chosen = None
    for cage in cages.objects:
        called = cages.nodes[cage.node].name or cage.key
        bare = words_of(re.sub("cage", "", called, flags=re.IGNORECASE))
        if (
            cage.key == low
            or called == name
            or bare in (own, plain)
            or _plain(called, "", LOW_WORDS | {"cage"}) == plain
        ):
            chosen = cage
            break
    count = triangle_count(scene, low)
    if chosen is None and len(cages.objects) == 1:
        (only,) = cages.objects
        chosen = only if len(scene.objects) == 1 or triangle_count(cages, only.key) == count else None
    if chosen is None:
        return ""
    if triangle_count(cages, chosen.key) != count:
        raise UsageError(
            f"the cage of {low} has {triangle_count(cages, chosen.key)} triangles, and the object {count}.",
            file=cages.sources[cages.nodes[chosen.node].source].named,
            item=chosen.key,
            hint="Blow up a copy of the object and leave its triangles as they are.",
        )
    return chosen.key


def pairing_findings(scene: Scene) -> tuple[Finding, ...]:
    """Return a finding for each object, high-poly or not, that found no partner."""
    detail = scene.detail
    if detail is None:
        return ()
    hint = "Rename it to match, pair it by hand under Gather, or leave it."
    lows = [
        Finding(
            "no_partner",
            INFO,
            f"{item.key} found no high-poly partner and keeps its own materials.",
            object=item.key,
        )
        for item in scene.objects
        if detail.pair(item.key) is None
    ]
    highs = [
        Finding("no_partner", WARNING, f"The high-poly {key} found no partner and is not read.", hint, object=key)
        for key in detail.loose
    ]
    return (*highs, *lows)
