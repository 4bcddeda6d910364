"""The hand in the sheet: what can be done to the chosen islands, each as one step. Not a widget."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable
from dataclasses import replace
from functools import partial
from typing import Any

import numpy as np
from PySide6.QtCore import QObject, QRectF, Signal

from fasciculum.app.commands import Command
from fasciculum.app.workspace import Workspace
from fasciculum.model.bundle import Bundle
from fasciculum.model.layout import Layout
from fasciculum.operations.bake.light import light_sheet_bundle
from fasciculum.operations.lay_out import arrange
from fasciculum.operations.lay_out.onto import snapped_onto
from fasciculum.session import commands
from fasciculum.session.tasks import place_task, verify_task
from fasciculum.treatments.resolving import resolve_bundle

#: degrees of a turn by hand
STEPS = {"none": 90.0, "half": 180.0, "quarter": 90.0, "eighth": 45.0, "any": 15.0}
#: how much larger or smaller one step makes islands
LARGER = 1.1


class IslandEditor(QObject):
    """Which places of the sheet are chosen, and the acts on them."""

    changed = Signal()

    def __init__(self, workspace: Workspace) -> None:
        super().__init__(workspace)
        self.workspace = workspace
        self.places: frozenset[int] = frozenset()
        self._layout: Layout | None = None
        #: hears of a box that is drawn on the sheet, texels, while trims are marked
        self.marking: Callable[[QRectF], None] | None = None
        self._choosing = False
        workspace.selection_changed.connect(self._follow_objects)
        workspace.document_changed.connect(lambda *_: self._follow_document())

    # -- what is chosen ---------------------------------------------------------------------------------------

    @property
    def bundle(self) -> Bundle | None:
        """The bundle whose sheet is shown, when it has a layout; with the lightmap's sheet and layout where that is."""
        bundle = self.workspace.bundle
        light = self.workspace.light_layout
        if bundle is not None and light is not None:
            return replace(light_sheet_bundle(bundle), layout=light)
        return bundle if bundle is not None and bundle.layout is not None and bundle.layout.scale > 0 else None

    @property
    def on_lightmap(self) -> bool:
        """Whether the islands that are shown are those of a lightmap."""
        return self.workspace.light_layout is not None

    @property
    def layout(self) -> Layout | None:
        """The layout that is shown."""
        return self.bundle.layout if self.bundle is not None else None

    def choose(self, places: Iterable[int]) -> None:
        """Choose places of the sheet, and with them the objects that lie there."""
        layout = self.layout
        self.places = frozenset(places) if layout is not None else frozenset()
        self._layout = layout
        if layout is not None:
            self._choosing = True
            self.workspace.select(self._objects(layout, self.places), self.workspace.bundle_names)
            self._choosing = False
        self.changed.emit()

    @staticmethod
    def _objects(layout: Layout, places: frozenset[int]) -> set[str]:
        on = np.isin(layout.places, list(places))
        starts = layout.starts
        keys: set[str] = set()
        for index, surface in enumerate(layout.surfaces):
            if on[starts[index] : starts[index + 1]].any():
                keys |= set(surface.objects)
        return keys

    @staticmethod
    def _places(layout: Layout, keys: Iterable[str]) -> set[int]:
        starts, wanted = layout.starts, set(keys)
        results: set[int] = set()
        for index, surface in enumerate(layout.surfaces):
            if wanted & set(surface.objects):
                results |= set(layout.places[starts[index] : starts[index + 1]].tolist())
        return results

    def _follow_objects(self) -> None:
        if self._choosing:
            return
        layout = self.layout
        self._layout = layout
        chosen = self.workspace.selection
        self.places = frozenset(self._places(layout, chosen)) if layout is not None and chosen else frozenset()
        self.changed.emit()

    def _follow_document(self) -> None:
        layout = self.layout
        if layout is self._layout:
            return
        same = layout is not None and self._layout is not None and np.array_equal(layout.places, self._layout.places)
        self._layout = layout
        if not same:
            self._follow_objects()

    def grow_to_objects(self) -> None:
        """Choose every island of the objects that have one chosen."""
        layout = self.layout
        if layout is not None:
            self.choose(self._places(layout, self._objects(layout, self.places)))

    def choose_same_material(self) -> None:
        """Choose every island that has a material in common with the chosen ones."""
        bundle, layout = self.bundle, self.layout
        if bundle is None or layout is None:
            return
        scene = self.workspace.document.scene
        scene = scene if self.on_lightmap else resolve_bundle(scene, bundle).scene
        starts = layout.starts
        materials: list[set[int]] = [set() for _ in layout.placements]
        for index, surface in enumerate(layout.surfaces):
            kinds = np.concatenate(
                [np.full(len(p.triangles), p.material) for p in scene.primitives_of(scene.object(surface.objects[0]))]
            )
            for island, kind in np.unique(np.column_stack([surface.island, kinds]), axis=0).tolist():
                materials[starts[index] + island].add(kind)
        wanted = set().union(*(materials[i] for i in np.flatnonzero(np.isin(layout.places, list(self.places)))))
        self.choose(int(layout.places[i]) for i, own in enumerate(materials) if own & wanted)

    def choose_twins(self) -> None:
        """Choose every place on which twins lie, of the chosen objects or of all."""
        layout = self.layout
        if layout is None:
            return
        counts = np.zeros(int(layout.places.max(initial=-1)) + 1, np.int64)
        starts = layout.starts
        for index, surface in enumerate(layout.surfaces):
            np.add.at(counts, layout.places[starts[index] : starts[index + 1]], len(surface.objects))
        shared = set(np.flatnonzero(counts > 1).tolist())
        mine = self._places(layout, self._objects(layout, self.places)) if self.places else shared
        self.choose(shared & mine)

    # -- what is done -----------------------------------------------------------------------------------------

    def do(self, label: str, change: Callable[[Layout], Layout]) -> None:
        """Change the layout that is shown, as one step."""
        bundle, layout = self.bundle, self.layout
        if bundle is None or layout is None:
            return
        name, result = bundle.name, change(layout)
        if bundle.given is not None and result is not layout:
            if bundle.given.is_palette:
                self.workspace.say(
                    "Faces on a palette lie in the middle of their cell. Click another cell to move them."
                )
                return
            result = snapped_onto(result, bundle.given, layout)
        if result is layout:
            return
        put = commands.put_light_layout if self.on_lightmap else commands.put_layout
        self.workspace.apply(label, lambda document: put(document, name, result))

    def _each(self, label: str, change: Callable[..., Layout], *values: Any, **named: Any) -> None:
        """Change the chosen places that are not pinned."""
        layout = self.layout
        if layout is None or not self.places:
            return
        held = layout.held_places()
        free = sorted(self.places - held)
        if not free:
            self.workspace.say("The chosen islands are pinned; unpin them first (P).")
            return
        count = f"{len(free)} island{'s' if len(free) != 1 else ''}"
        self.do(f"{label} {count}", lambda layout: change(layout, free, *values, **named))

    def move(self, dx: float, dy: float, label: str = "Move") -> None:
        """Move the chosen islands by so many texels."""
        self._each(label, arrange.moved, dx, dy)

    def turn(self, way: int) -> None:
        """Turn the chosen islands by one step of what the sheet allows."""
        bundle = self.bundle
        if bundle is not None:
            self._each("Turn", arrange.turned, way * math.radians(STEPS[bundle.sheet.turns]))

    def pin(self) -> None:
        """Pin the chosen islands, or let them go when all are pinned."""
        layout = self.layout
        if layout is None or not self.places:
            return
        held = layout.held_places()
        on = not self.places <= held
        places = sorted(self.places)
        self.do("Pin" if on else "Unpin", lambda layout: arrange.pinned(layout, places, on))

    def swap_tiles(self) -> None:
        """Change the tile of the chosen islands for the next one."""
        layout = self.layout
        if layout is None or not self.places or layout.tiles < 2:
            return
        x, _ = arrange.middle_of(layout, self.places)
        one = min(max(int(x // layout.width), 0), layout.tiles - 1)
        two = (one + 1) % layout.tiles
        self.do(f"Swap tiles {one + 1} and {two + 1}", lambda layout: arrange.tiles_swapped(layout, one, two))

    def pack_these(self, *, rest: bool = False) -> None:
        """Put the chosen islands into free space; with ``rest``, all others around the chosen and the pinned ones."""
        bundle, layout = self.bundle, self.layout
        if bundle is None or layout is None or not self.places:
            return
        held = layout.held_places()
        chosen = set(range(int(layout.places.max()) + 1)) - set(self.places) if rest else set(self.places)
        moving = sorted(chosen - held)
        if not moving:
            self.workspace.say("There is nothing to move: all other islands are pinned.")
            return
        title = "Pack the rest around" if rest else "Pack into free space"

        def take(found: Layout | None) -> None:
            if found is None:
                self.workspace.say("There is no room for the islands, not even at half their size.", "broken")
                return
            smaller = float(found.density_scale.min())
            if smaller < 0.999 and found.density_scale.min() < layout.density_scale.min():
                self.workspace.say(f"The islands fit at {smaller:.0%} of their density.")

        task = place_task(self.workspace.document, bundle, moving, title, on_lightmap=self.on_lightmap)
        self.workspace.run(task, take)

    # -- acts -------------------------------------------------------------------------------------------------

    def acts(self) -> list[Command]:
        """Return all that the hand can do."""

        def some() -> bool:
            return bool(self.places) and self.layout is not None

        def laid() -> bool:
            return self.layout is not None

        def tiled() -> bool:
            return some() and self.layout is not None and self.layout.tiles > 1

        def act(name: str, title: str, tip: str, call: Callable[[], None], key: str = "", when: Any = some) -> Command:
            return Command(name, title, tip, call, key, when, "sheet")

        results = [
            act("turn_back", "Turn left", "Turn the chosen islands by the allowed step", partial(self.turn, -1), "["),
            act("turn_on", "Turn right", "Turn the chosen islands by the allowed step", partial(self.turn, 1), "]"),
            act(
                "mirror_across",
                "Mirror left to right",
                "Mirror the chosen islands; text on them is stored mirrored",
                lambda: self._each("Mirror", arrange.mirrored),
                "M",
            ),
            act(
                "mirror_down",
                "Mirror top to bottom",
                "Mirror the chosen islands; text on them is stored mirrored",
                lambda: self._each("Mirror", arrange.mirrored, across=False),
                "Shift+M",
            ),
            act(
                "larger",
                "Make larger",
                f"Give the chosen islands {LARGER:.1f} times the texels along an edge",
                lambda: self._each("Enlarge", arrange.scaled, LARGER),
                "Ctrl+]",
            ),
            act(
                "smaller",
                "Make smaller",
                "Give the chosen islands fewer texels, the opposite of Make larger",
                lambda: self._each("Shrink", arrange.scaled, 1 / LARGER),
                "Ctrl+[",
            ),
            act("pin", "Pin", "Pin the chosen islands to their place, or unpin them", self.pin, "H"),
            act(
                "pack_rest",
                "Pack the rest around",
                "Pack all islands except the chosen and pinned ones",
                lambda: self.pack_these(rest=True),
                "Alt+Return",
            ),
            act(
                "pack_these",
                "Pack into free space",
                "Pack only the chosen islands, into the free space between the others",
                self.pack_these,
                "Shift+Return",
            ),
            act("swap_tiles", "Swap tiles", "Swap the shown tile with the next one", self.swap_tiles, "", tiled),
            act(
                "grow_objects",
                "Choose whole objects",
                "Choose all islands of the objects that have one chosen",
                self.grow_to_objects,
                "O",
            ),
            act(
                "same_material",
                "Choose same material",
                "Choose all islands that share a material with the chosen ones",
                self.choose_same_material,
                "Shift+O",
            ),
            act(
                "choose_twins",
                "Choose twins",
                "Choose the places that twins share, of the chosen objects or of all",
                self.choose_twins,
                "T",
                laid,
            ),
        ]
        for words, along in (
            ("Align at the left", "left"),
            ("Align at the right", "right"),
            ("Align at the top", "top"),
            ("Align at the bottom", "bottom"),
            ("Centre across", "across"),
            ("Centre down", "down"),
        ):
            results.append(
                act(
                    f"align_{along}",
                    words,
                    "Align the chosen islands' bounding boxes",
                    partial(self._each, words, arrange.aligned, along),
                )
            )
        for words, axis in (("Distribute across", 0), ("Distribute down", 1)):
            results.append(
                act(
                    f"distribute_{axis}",
                    words,
                    "Space the chosen islands evenly; the outermost two stay",
                    partial(self._each, words, arrange.distributed, axis),
                )
            )
        return results

    # -- measuring --------------------------------------------------------------------------------------------

    def measure(self) -> None:
        """Have the exact check done of a layout that the hand has changed; the step stays the same one."""
        for bundle in self.workspace.document.bundles:
            light = bundle.texturing.light_layout if bundle.texturing is not None else None
            for layout, on_lightmap in ((bundle.layout, False), (light, True)):
                if layout is not None and layout.scale > 0 and layout.border_gap < 0 and len(layout.placements):
                    task = verify_task(self.workspace.document, bundle, on_lightmap=on_lightmap)
                    # once it is over the layout may have changed again, so it is looked at again
                    self.workspace.run(task, ended=self.measure)
