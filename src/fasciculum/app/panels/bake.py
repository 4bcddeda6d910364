"""Which maps are baked, and how."""

from __future__ import annotations

from functools import partial

import numpy as np
from numpy.typing import NDArray
from PySide6.QtWidgets import QGridLayout, QLabel, QPushButton, QSizePolicy, QWidget

from fasciculum.app.folds import FoldColumn
from fasciculum.app.look import Theme
from fasciculum.app.pairs import Pairs
from fasciculum.app.panels.channels import EDGE, ChannelEditor, MapSwitch
from fasciculum.app.panels.named_bakes import NamedBakes
from fasciculum.app.panels.one_map import OneMap
from fasciculum.app.parts import Form, Switch, note
from fasciculum.app.rows import BAKE, Rows
from fasciculum.app.workspace import Workspace
from fasciculum.baking.required_maps import needs_of
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import ColorSpace, FileFormat
from fasciculum.model.counting import counted
from fasciculum.model.map_overrides import Cell
from fasciculum.model.maps import AUTO, KINDS, LIGHT, LIT, Origin
from fasciculum.model.settings import words_of
from fasciculum.operations.bake.light import bakes_light
from fasciculum.operations.deliver.lights import stored_light
from fasciculum.session.stale import DONE, NONE, STALE, bake_state, map_states
from fasciculum.treatments.resolving import resolve_bundle
from fasciculum.units import MIB, texture_bytes

ORIGINS = {Origin.CARRIED: "From materials", Origin.GEOMETRY: "From geometry", Origin.LIGHT: "From light"}
DENOISERS = {"oidn": "removed by Open Image Denoise", "own": "removed by the simple filter"}
STATE_WORDS = {NONE: "not yet", STALE: "stale", DONE: "baked"}


class BakePanel(FoldColumn):
    """Maps, each with its state; and how they are baked."""

    def __init__(self, workspace: Workspace, theme: Theme, pairs: Pairs) -> None:
        super().__init__("bake", workspace.settings, ("Maps", "Packed"))
        self.workspace = workspace
        self._filling = False
        self.rows = Rows(workspace, BAKE, self)
        self.automatic = Switch("Automatic")
        self.automatic.setToolTip(
            "Leave out maps that have the same value everywhere; the material stores the value instead."
        )
        self.automatic.toggled.connect(self._automatic)
        self.maps_note = note()
        self.colors = self.rows.form("Maps")
        self.fold("Maps", theme, self.automatic, self._map_rows(), self.colors, self.maps_note)
        self.one = OneMap()
        self.one.changed.connect(lambda texts: self.rows.change(wishes=texts))
        self.alone = QPushButton("Bake this map alone")
        self.alone.setToolTip("Bake this map alone; the other maps stay as they are")
        self.alone.clicked.connect(lambda: self._bake_alone(self.one.name))
        self.fold("Settings of one map", theme, self.one, self.alone)
        self.channels = ChannelEditor()
        self.channels.changed.connect(lambda texts: self.rows.change(channels=texts))
        self.channels.said.connect(self._refuse)
        self.fold("Packed", theme, self.channels)
        self.named = NamedBakes(workspace)
        self.fold("Named bakes", theme, self.named)
        self.fold("Quality", theme, self.rows.form("Quality"))
        self.fold("Edges", theme, self.rows.form("Edges"))
        self.fold("High to low", theme, self.rows.form("High to low"))
        self.fold("Rays", theme, self.rows.form("Rays"))
        self.light_note = note()
        self.fold("Light", theme, self.rows.form("Light"), self.light_note)
        self.fold("Lightmap", theme, self.rows.form("Lightmap"))
        self.preview = Switch("what is pointed at")
        self.preview.setToolTip(
            "Bake the object under the pointer at a small size and show it on the result's side of the model"
            " view: its occlusion if chosen, else its materials and high-poly detail"
        )
        self.preview.toggled.connect(pairs.set_on)
        self.preview.toggled.connect(lambda _: self.refresh())
        preview = Form()
        preview.row("Preview", self.preview, self.preview.toolTip())
        self.fold("Preview", theme, preview)
        self.baked = QLabel()
        self.baked.setWordWrap(True)
        self.baked.setProperty("quiet", True)
        self.fold("Baked", theme, self.baked)
        self.box.addStretch(1)
        workspace.selection_changed.connect(self.refresh)
        workspace.preview_changed.connect(self.refresh)
        workspace.lit_changed.connect(self.refresh)
        workspace.document_changed.connect(lambda *_: self.refresh())
        self.refresh()

    def _map_rows(self) -> QWidget:
        """Return a row for each kind of map: whether it is baked, and what it is and how it stands."""
        rows = QWidget()
        grid = QGridLayout(rows)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setVerticalSpacing(0)
        grid.setHorizontalSpacing(4)
        grid.setColumnStretch(1, 1)
        self.maps: dict[str, Switch] = {}
        self.states: dict[str, QPushButton] = {}
        origin, line = "", 0
        for kind in KINDS.values():
            if kind.origin != origin:
                origin = kind.origin
                grid.addWidget(note(ORIGINS[origin]), line, 0, 1, 2)
                line += 1
            box = MapSwitch(kind.short, kind.name)
            box.setToolTip(f"Bake {kind.title.lower()} for the chosen bundles; drag it onto a channel of a packed file")
            box.setAccessibleName(kind.title)
            box.toggled.connect(self._maps_changed)
            state = QPushButton()
            state.setFlat(True)
            state.setProperty("quiet", True)
            state.setStyleSheet("text-align: right; padding: 2px 0px; font-size: 10px")
            state.setMinimumWidth(20)
            state.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
            state.setToolTip(f"Set size, depth and file of {kind.title.lower()} for itself")
            state.setAccessibleName(f"Options of {kind.title.lower()}")
            state.clicked.connect(partial(self.choose, kind.name))
            grid.addWidget(box, line, 0)
            grid.addWidget(state, line, 1)
            line += 1
            self.maps[kind.name], self.states[kind.name] = box, state
        return rows

    def choose(self, name: str) -> None:
        """Show what is otherwise for one map."""
        bundle = self.workspace.bundle
        if bundle is not None:
            self.one.show_map(name, bundle.bake)
            self.reveal(self.one)
            self.refresh()
            self.show_fold("Settings of one map")

    def _refuse(self, words: str) -> None:
        self.workspace.say(words, "broken")
        self.refresh()

    def _bake_alone(self, name: str) -> None:
        self.workspace.bake(only=(name,))

    def commit(self) -> None:
        """Make what has been typed a step of the history."""
        self.rows.commit()

    def _needed(self) -> tuple[str, ...]:
        bundle = self.workspace.bundle
        if bundle is None or not bundle.objects:
            return ()
        scene = self.workspace.document.scene
        return needs_of(scene, tuple(scene.object(key) for key in bundle.objects)).maps

    def _automatic(self, on: bool) -> None:
        if not self._filling:
            self.rows.change(maps=() if on else self._needed())

    def _maps_changed(self) -> None:
        if self._filling:
            return
        chosen = tuple(name for name, box in self.maps.items() if box.isChecked())
        if not chosen:
            self.workspace.say("A bundle needs at least one map.", "broken")
            self.refresh()
            return
        bundle = self.workspace.bundle
        needed = self._needed()
        if bundle is not None and (not bundle.bake.maps or AUTO in bundle.bake.maps) and set(needed) <= set(chosen):
            # what the materials need stays so, and the rest is asked for beside it
            more = tuple(name for name in chosen if name not in needed)
            self.rows.change(maps=(AUTO, *more) if more else ())
            return
        self.rows.change(maps=chosen)

    def refresh(self) -> None:
        """Show the leading bundle's settings."""
        bundle = self.workspace.bundle
        self.setEnabled(bundle is not None)
        if bundle is None:
            return
        self.rows.refresh()
        self._filling = True
        bake, scene = bundle.bake, self.workspace.document.scene
        automatic = not bake.maps or AUTO in bake.maps
        self.automatic.setChecked(automatic)
        needs = needs_of(scene, tuple(scene.object(key) for key in bundle.objects), bake) if bundle.objects else None
        shown = [name for name in needs.maps if name not in needs.unwritten] if needs is not None else []
        needed = self._needed() if bundle.objects else ()
        for name, box in self.maps.items():
            box.setChecked(name in shown)
            # a map beyond those that are needed is asked for by name, beside them
            box.setEnabled(not automatic or name not in needed)
        self._filling = False
        sheet, light = (bundle.sheet.width, bundle.sheet.height), (bake.light_width, bake.light_height)
        sizes = {name: bake.wish(name).size_on(*(light if bake.on_light_sheet(name) else sheet)) for name in KINDS}
        packed = [(bundle.sheet.width, bundle.sheet.height)] * len(bake.channels)
        memory = sum(texture_bytes(*size) for size in [*(sizes[name] for name in shown), *packed]) / MIB
        count = len(shown) + len(packed)
        work = sum(self._bytes(bundle, name, sizes[name]) for name in (needs.maps if needs else ())) / MIB
        self.maps_note.setText(
            f"{counted(count, 'texture')}: {memory:.0f} MiB in the engine. Baking takes about {work:.0f} MiB of memory "
            f"and {work:.0f} MiB of disk."
        )
        self.folds["Maps"].say(f"{count} · {memory:.0f} MiB")
        bare = bool(bundle.objects) and resolve_bundle(scene, bundle).bare
        if bare:
            self.maps_note.setText("All materials of this bundle are kept apart. No maps are baked.")
            self.folds["Maps"].say("none needed")
        self.folds["Quality"].say(f"{words_of(bake, 'bits')} · {words_of(bake, 'samples')}")
        self.folds["Edges"].say(words_of(bake, "edges"))
        detail = scene.detail
        paired = 0 if detail is None else sum(detail.pair(key) is not None for key in bundle.objects)
        reach = f"{bake.reach_out:g} m" if bake.reach_out else "auto"
        self.folds["High to low"].say(f"{paired} objects · ray distance {reach}" if paired else "nothing is paired")
        self.folds["Preview"].say("on" if self.preview.isChecked() else "off")
        self.folds["Rays"].say(f"{bake.rays} a texel · {words_of(bake, 'ao_of')}")
        self._say_light(bundle)
        self.folds["Packed"].say(", ".join(file.name for file in bake.packed) or "none")
        self.one.show_map(self.one.name, bake)
        self.folds["Settings of one map"].say(
            f"{KINDS[self.one.name].short}: {self.one.wish.text.partition(':')[2] or 'as the bundle'}"
        )
        self.named.refresh()
        self.folds["Named bakes"].say(self.named.words)
        self.channels.show_files(bake.channels, partial(self._picture, bundle))
        self._say_states(bundle, sizes, list(needs.maps) if needs is not None else [])
        self._say_baked(bundle)

    def _say_light(self, bundle: Bundle) -> None:
        """Tell how light is gathered, and how it came out."""
        bake = bundle.bake
        exposure = "auto" if bake.exposure is None else f"{bake.exposure:+g} EV"
        self.folds["Light"].say(f"{bake.light_rays} rays · {bake.bounces} bounces · {exposure}")
        size = f"{bake.light_width} × {bake.light_height}"
        self.folds["Lightmap"].say(size if bake.light_uv else "none: on the sheet")
        live = self.workspace.lit.get(bundle.identity)
        made = live or bundle.texturing
        figures = made.light if made is not None else None
        if figures is None:
            asked = bakes_light(bundle)
            self.light_note.setText(
                "Light is not baked yet. Bake the bundle."
                if asked
                else "No map of this bundle shows light: choose Lit, Light or Shadow among the maps."
            )
            return
        by = DENOISERS.get(figures.denoiser, "left in")
        doing = "So far " if live is not None else ""
        self.light_note.setText(
            f"{doing}{figures.rays} rays a texel; noise {figures.noise:.1%}, {by}. Brightness of 99 in 100 texels is "
            f"below {figures.bright:.3g} nits: {figures.stops(bake.exposure):+.1f} EV.{self._stored_light(bundle)}"
        )

    @staticmethod
    def _stored_light(bundle: Bundle) -> str:
        """Return in which UV set light lies when it is delivered, and what its files are multiplied with."""
        made = bundle.texturing
        for baked in made.maps if made is not None else ():
            stored = stored_light(bundle, baked) if baked.name in (LIGHT.name, LIT.name) else None
            if stored is not None:
                return (
                    f" The lightmap is read through TEXCOORD_{baked.tex_coord}; PNG x {stored.factor:.4g} = EXR, "
                    f"EXR x {1 / stored.gain:.4g} = nits."
                )
        return ""

    def _bytes(self, bundle: Bundle, name: str, size: tuple[int, int]) -> int:
        """Return what a map takes while it is baked, bytes."""
        floats = bundle.bake.wish(name).format == FileFormat.EXR or KINDS[name].origin is Origin.LIGHT
        bits = 32 if floats else bundle.bake.wish(name).bits
        return size[0] * size[1] * KINDS[name].channels * bits // 8 * bundle.sheet.tiles

    def _say_states(self, bundle: Bundle, sizes: dict[str, tuple[int, int]], wanted: list[str]) -> None:
        states = map_states(self.workspace.document, bundle) if bundle.objects else {}
        constants = {one.name for one in bundle.texturing.constants} if bundle.texturing is not None else set()
        for name, button in self.states.items():
            width, height = sizes[name]
            size = f"{width}²" if width == height else f"{width} × {height}"
            wish = bundle.bake.wish(name)
            memory = texture_bytes(width, height) / MIB
            depth = f"{wish.bits} bit" if wish.bits != bundle.bake.bits else ""
            state = STATE_WORDS.get(states.get(name, ""), "")
            if name in constants and states.get(name) == DONE:
                state = "one value"
            text = "  ".join(part for part in (size, depth, state) if part)
            if bundle.objects and resolve_bundle(self.workspace.document.scene, bundle).bare:
                text = "not needed"
            button.setText(text if name in wanted else "options")
            button.setToolTip(
                f"{KINDS[name].title}: {width} × {height} px, {wish.bits} bits a channel, {wish.format.upper()}, "
                f"{memory:.1f} MiB in the engine{f', {state}' if state else ''}. Click to set these for this map alone."
            )
        self.alone.setEnabled(self.one.name in states and bundle.layout is not None)

    def _picture(self, bundle: Bundle, cell: Cell) -> NDArray[np.uint8] | None:
        """Return a small picture of what a channel will hold, shape (h, w), None while it is not baked."""
        made, channel = bundle.texturing, cell.channel
        if made is None:
            return None
        baked = made.map(cell.map)
        if baked is None:
            # the channels of a surface map are there before they are maps of their own
            whole = next((kind for kind in KINDS.values() if cell.map in kind.parts), None)
            baked = made.map(whole.name) if whole is not None else None
            channel = whole.parts.index(cell.map) if whole is not None else 0
        if baked is None or not self.workspace.session.store.has(baked.pixels):
            return None
        pixels = self.workspace.session.store.get(baked.pixels)
        step = max(max(pixels.shape[:2]) // EDGE, 1)
        if channel >= pixels.shape[2]:
            return np.full((EDGE, EDGE), 0 if cell.inverted else 255, np.uint8)
        part = np.asarray(pixels[step // 2 :: step, step // 2 :: step, channel]).astype(np.float64)
        top = 1.0 if pixels.dtype.kind == "f" else float(np.iinfo(pixels.dtype).max)
        levels = np.clip(part / top, 0, 1)
        result: NDArray[np.uint8] = np.round((1 - levels if cell.inverted else levels) * 255).astype(np.uint8)
        return result

    def _say_baked(self, bundle: Bundle) -> None:
        made = bundle.texturing
        if made is None:
            self.baked.setText("Nothing yet.")
            self.folds["Baked"].say("nothing yet")
            return
        state = STATE_WORDS.get(bake_state(self.workspace.document, bundle), "")
        values = [
            f"{KINDS[one.name].title}: one value, {', '.join(f'{value:.3g}' for value in one.values)}"
            for one in made.constants
        ]
        lines = [
            f"{KINDS[baked.name].title}: {baked.width} × {baked.height} px, {baked.bits} bits, "
            f"{'sRGB' if baked.color_space == ColorSpace.SRGB else 'linear'}"
            for baked in made.maps
        ]
        self.baked.setText("\n".join(lines + values))
        self.folds["Baked"].say(state, "good" if state == STATE_WORDS[DONE] else "")
