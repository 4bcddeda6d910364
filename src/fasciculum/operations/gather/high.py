"""Gathering high-poly models beside a scene, and pairing them with its objects."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import replace

from fasciculum.io.pixels import PixelStore
from fasciculum.model.choices import PairBy
from fasciculum.model.detail import Detail, Pairing
from fasciculum.model.finding import Finding
from fasciculum.model.lookup import HERE, Lookup
from fasciculum.model.scene import Scene
from fasciculum.operations.gather.gather import gather, with_names
from fasciculum.operations.gather.pairing import pair_up, read_pairs
from fasciculum.progress import SILENT, Progress

#: findings of gathered models that also matter of those that are only read
ABOUT_HIGH = frozenset({"missing_texture", "unreadable", "unreadable_texture"})


def gather_high(
    scene: Scene,
    high: Sequence[str],
    cages: Sequence[str],
    pairing: Pairing,
    pairs_file: str,
    store: PixelStore,
    *,
    without: Collection[str] = (),
    lookup: Lookup = HERE,
    progress: Progress = SILENT,
) -> tuple[Scene, Pairing, tuple[Finding, ...]]:
    """Return a scene with high-poly models, and cages, gathered beside it, and paired.

    Parameters
    ----------
    pairs_file : str
        The file that says the pairs, empty for none.
    without : collection of str
        Keys of high-poly objects that are left out.

    Raises
    ------
    InputError, UsageError
    """
    before = scene.detail
    detailed = before.scene if before is not None else Scene()
    noticed: tuple[Finding, ...] = ()
    if high:
        onto = detailed if before is not None else None
        detailed, noticed = gather(high, store, onto=onto, lookup=lookup, progress=progress.part(0.0, 0.5))
    detailed = detailed.without(without)
    blown = before.cages if before is not None else None
    if cages:
        blown, _ = gather(cages, store, onto=blown, lookup=lookup, progress=progress.part(0.5, 0.6))
    pairs = before.pairs if before is not None else ()
    scene = replace(scene, detail=Detail(detailed, pairs, blown))
    if pairs_file:
        pairing = replace(pairing, by=PairBy.FILE, told=read_pairs(pairs_file, scene, detailed))
    scene = pair_up(scene, pairing, progress=progress.part(0.6, 1.0))
    about = tuple(finding for finding in noticed if finding.code in ABOUT_HIGH)
    return scene, pairing, about


def with_high_names(scene: Scene, names: Mapping[str, str]) -> Scene:
    """Return a scene whose high-poly models and cages, by their paths, go by the names that they were first given."""
    detail = scene.detail
    if detail is None:
        return scene
    cages = with_names(detail.cages, names) if detail.cages is not None else None
    return replace(scene, detail=replace(detail, scene=with_names(detail.scene, names), cages=cages))
