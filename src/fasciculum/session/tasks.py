"""Tasks: every piece of heavy work as data.

What kind it is, on which bundle, from which inputs, and how its result is put into the document. Window, command line
and whoever runs work unattended make the same ones.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from fasciculum.io.pixels import PixelStore
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import Choice
from fasciculum.model.digests import digest_of, digest_text
from fasciculum.model.document import Document
from fasciculum.model.layout import Layout
from fasciculum.model.maps import KINDS
from fasciculum.model.named_bakes import NamedBake
from fasciculum.model.terms import Terms
from fasciculum.operations.bake.bake import bake, map_digest, wanted_maps
from fasciculum.operations.bake.files import bake_files
from fasciculum.operations.check.check import check_bundle, check_digest
from fasciculum.operations.deliver.deliver import deliver
from fasciculum.operations.lay_out import arrange
from fasciculum.operations.lay_out.forecast import look_ahead
from fasciculum.operations.lay_out.lay_out import lay_out, layout_digest, measured
from fasciculum.operations.plan.plan import Point
from fasciculum.operations.plan.take import plans_for, take_plan
from fasciculum.session import commands


class Kind(Choice):
    """What tasks do."""

    GATHER = "gather"
    OPEN = "open"
    SAVE = "save"
    KEEP = "keep"
    RELOAD = "reload"
    PAIR = "pair"
    LOOK_AHEAD = "look ahead"
    PACK = "pack"
    PLACE = "place"
    VERIFY = "verify"
    PLAN = "plan"
    TAKE = "take a plan"
    BAKE = "bake"
    BAKE_FILES = "bake files"
    CHECK = "check"
    DELIVER = "deliver"
    MEASURE = "measure"
    LIGHT = "light"


#: kinds whose best result so far can be kept when they are ended early
IMPROVING = (Kind.PACK, Kind.PLACE, Kind.BAKE)
#: kinds that nobody asked for by name: that they end early is not worth a word
QUIET = (Kind.LOOK_AHEAD, Kind.MEASURE, Kind.VERIFY, Kind.PLAN, Kind.LIGHT)
#: what has to be in order before a kind of task can begin
NEEDS: Mapping[Kind, tuple[Kind, ...]] = {
    Kind.VERIFY: (Kind.PACK, Kind.PLACE),
    Kind.BAKE: (Kind.PACK, Kind.PLACE, Kind.VERIFY),
    Kind.BAKE_FILES: (Kind.PACK, Kind.PLACE, Kind.VERIFY),
    Kind.CHECK: (Kind.PACK, Kind.PLACE, Kind.VERIFY, Kind.BAKE),
    Kind.DELIVER: (Kind.PACK, Kind.PLACE, Kind.VERIFY, Kind.BAKE, Kind.CHECK),
}


@dataclass(frozen=True, eq=False)
class Task:
    """One piece of work.

    Attributes
    ----------
    kind : Kind
    title : str
        What it is called in the queue; nothing is told by it.
    function, arguments, keywords
        What is run, with ``progress`` beside them; a function of a module, by its name.
    bundle : str
        The identity of the bundle that it is about, empty when it is about none.
    part : str
        What tells it from others of its kind on the same bundle, such as a map.
    inputs : str
        A digest of all that the result depends on.
    now : callable, optional
        The same digest by a document; a result is set aside when it is another by then.
    put : callable, optional
        Puts the result into a document.
    label : str
        The step of the history that this is, empty when it only fills in what the present step left open.
    """

    kind: Kind
    title: str
    function: Callable[..., Any]
    arguments: tuple[Any, ...] = ()
    keywords: Mapping[str, Any] = field(default_factory=dict)
    bundle: str = ""
    part: str = ""
    inputs: str = ""
    now: Callable[[Document], str] | None = None
    put: Callable[[Document, Any], Document] | None = None
    label: str = ""
    #: hears of what there is before it is done
    shown: Callable[[Any], None] | None = None

    @property
    def identity(self) -> tuple[Kind, str, str]:
        """What no two tasks under way have in common."""
        return self.kind, self.bundle, self.part

    def holds(self, document: Document) -> bool:
        """Tell whether the result still belongs to a document."""
        return self.now is None or self.now(document) == self.inputs


def _of(identity: str, digest: Callable[[Document, Bundle], str]) -> Callable[[Document], str]:
    """Return a digest of a bundle by a document, empty when the bundle is gone."""

    def now(document: Document) -> str:
        bundle = document.known(identity)
        return "" if bundle is None else digest(document, bundle)

    return now


def _into(identity: str, put: Callable[[Document, str, Any], Document]) -> Callable[[Document, Any], Document]:
    """Return what puts a result into the bundle of an identity, whatever it is called by then."""

    def change(document: Document, result: Any) -> Document:
        bundle = document.known(identity)
        return document if bundle is None else put(document, bundle.name, result)

    return change


def _layout_inputs(document: Document, bundle: Bundle) -> str:
    return layout_digest(document.scene, bundle)


def pack_task(document: Document, bundle: Bundle, *, fresh: bool = False) -> Task:
    """Lay a bundle out; with ``fresh`` nothing stays where it is but what is pinned."""
    return Task(
        Kind.PACK,
        f"Pack {bundle.name}",
        lay_out,
        (document.scene, bundle),
        {"fresh": fresh},
        bundle=bundle.identity,
        inputs=_layout_inputs(document, bundle),
        now=_of(bundle.identity, _layout_inputs),
        put=_into(bundle.identity, commands.put_layout),
        label=f"Pack {bundle.name}",
    )


def look_ahead_task(document: Document, bundle: Bundle) -> Task:
    """Find out what a bundle will put on its sheet."""
    return Task(
        Kind.LOOK_AHEAD,
        f"Look for twins in {bundle.name}",
        look_ahead,
        (document.scene, bundle),
        bundle=bundle.identity,
        inputs=_layout_inputs(document, bundle),
    )


def _layout_itself(document: Document, bundle: Bundle) -> str:
    """Return what tells a layout from one that the hand has changed since."""
    layout = bundle.layout
    return "" if layout is None else digest_of(layout.made_from, layout.placements)


def _light_layout_itself(document: Document, bundle: Bundle) -> str:
    """Return what tells a lightmap's layout from one that the hand has changed since."""
    layout = bundle.texturing.light_layout if bundle.texturing is not None else None
    return "" if layout is None else digest_of(layout.made_from, layout.placements)


def place_task(
    document: Document, bundle: Bundle, places: Sequence[int], label: str, *, on_lightmap: bool = False
) -> Task:
    """Pack some places of a bundle's layout, or of its lightmap's, into the room that the others leave.

    With ``on_lightmap``, ``bundle`` is the one that `fasciculum.operations.bake.light.light_sheet_bundle` returns, with
    the lightmap's layout.
    """
    layout = bundle.layout
    assert layout is not None
    itself = _light_layout_itself if on_lightmap else _layout_itself
    put_found = commands.put_light_layout if on_lightmap else commands.put_layout

    def put(document: Document, name: str, result: Layout | None) -> Document:
        return document if result is None else put_found(document, name, result)

    return Task(
        Kind.PLACE,
        f"{label} in {bundle.name}",
        arrange.repacked,
        (layout, bundle.sheet, list(places)),
        bundle=bundle.identity,
        inputs=itself(document, document.bundle(bundle.name)),
        now=_of(bundle.identity, itself),
        put=_into(bundle.identity, put),
        label=label,
    )


def verify_task(document: Document, bundle: Bundle, *, on_lightmap: bool = False) -> Task:
    """Have the exact check done of a layout, or of a lightmap's layout, that was changed by hand."""
    made = bundle.texturing
    layout = (made.light_layout if made is not None else None) if on_lightmap else bundle.layout
    assert layout is not None
    itself = _light_layout_itself if on_lightmap else _layout_itself
    return Task(
        Kind.VERIFY,
        f"Verify the lightmap of {bundle.name}" if on_lightmap else f"Verify {bundle.name}",
        measured,
        (layout,),
        bundle=bundle.identity,
        inputs=itself(document, bundle),
        now=_of(bundle.identity, itself),
        put=_into(bundle.identity, commands.put_light_layout if on_lightmap else commands.put_layout),
        part="lightmap" if on_lightmap else "",
    )


def bake_task(
    document: Document,
    bundle: Bundle,
    store: PixelStore,
    *,
    only: Sequence[str] = (),
    shown: Callable[[Any], None] | None = None,
) -> Task:
    """Bake a bundle's maps, or some of them alone; ``shown`` hears of its light as it is refined."""

    def inputs(document: Document, bundle: Bundle) -> str:
        names = only or wanted_maps(document.scene, bundle).maps
        return digest_of(*(name + map_digest(document.scene, bundle, KINDS[name]) for name in names))

    what = f"{KINDS[only[0]].title.lower()} of {bundle.name}" if only else bundle.name
    return Task(
        Kind.BAKE,
        f"Bake {what}",
        bake,
        (document.scene, bundle, store),
        {"only": tuple(only)},
        bundle=bundle.identity,
        part=",".join(only),
        inputs=inputs(document, bundle),
        now=_of(bundle.identity, inputs),
        put=_into(bundle.identity, commands.put_texturing),
        label=f"Bake {what}",
        shown=shown,
    )


def plan_task(document: Document, terms: Terms) -> Task:
    """Find the plans for a scene."""
    return Task(Kind.PLAN, "Weigh plans", plans_for, (document.scene, document.delivery, terms))


def take_plan_task(document: Document, terms: Terms, name: str, point: Point) -> Task:
    """Bundle everything as a plan says."""

    def now(document: Document) -> str:
        return digest_of(*(source.digest for source in document.scene.sources), digest_text(document.scene.shapes))

    return Task(
        Kind.TAKE,
        "Take a plan",
        take_plan,
        (document.scene, document.delivery, terms, name, point),
        inputs=now(document),
        now=now,
        put=commands.put_plan,
        label=f"Take the plan {name}" if name else "Take a plan",
    )


def bake_files_task(document: Document, bundle: Bundle, named: NamedBake, folder: Path, store: PixelStore) -> Task:
    """Bake a bundle by a named bake, on the document as it is now, into files; the document keeps nothing of it."""
    return Task(
        Kind.BAKE_FILES,
        f"Bake {named.title} of {bundle.name}",
        bake_files,
        (document, bundle, named, folder, store),
        bundle=bundle.identity,
        part=f"{named.title} {named.bundle} {folder}",
    )


def check_task(document: Document, bundle: Bundle, store: PixelStore) -> Task:
    """Compare a baked bundle with its source."""

    def inputs(document: Document, bundle: Bundle) -> str:
        return check_digest(bundle, document.delivery)

    return Task(
        Kind.CHECK,
        f"Check {bundle.name}",
        check_bundle,
        (document.scene, bundle, store, document.delivery),
        bundle=bundle.identity,
        inputs=inputs(document, bundle),
        now=_of(bundle.identity, inputs),
        put=_into(bundle.identity, commands.put_check),
        label=f"Check {bundle.name}",
    )


def deliver_task(document: Document, folder: Path, store: PixelStore, *, only: Sequence[str] = ()) -> Task:
    """Write the models and textures of a document, or only the textures of some maps and the models."""
    return Task(Kind.DELIVER, "Deliver", deliver, (document, folder, store), {"only": tuple(only)}, part=str(folder))
