"""What is done with lights in the window: adding, changing, the sky, and the source seen in its light. Not a widget."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtCore import QObject, Signal

from fasciculum.app.workspace import Workspace
from fasciculum.baking.light.passes import brightest
from fasciculum.baking.world import diagonal_of, world_box
from fasciculum.model.bundle import Bundle
from fasciculum.model.lamps import lamps_of, model_lamps
from fasciculum.model.lighting import Lamp, LampKind, Lighting, SkyKind, sun_direction
from fasciculum.model.scene import Scene
from fasciculum.model.texturing import LightFigures
from fasciculum.operations.bake.light import sky_digest, sky_thumbnail
from fasciculum.operations.bake.progressive_render import MOST_HIGH, SAMPLES, ProgressiveRender, look
from fasciculum.rendering.camera import Camera
from fasciculum.session import commands
from fasciculum.session.tasks import Kind, Task

TITLES = {LampKind.SUN: "Sun", LampKind.POINT: "Lamp", LampKind.SPOT: "Spot"}
#: lux of a new sun, and of other new lamps what arrives half a scene away
SUN_LUX, LAMP_LUX = 1000.0, 50.0
#: part of what is seen that is below white where nothing is baked yet
SEEN = 0.98


class Lights(QObject):
    """Changes to what shines, each one step of the history; and the source as it looks in that."""

    #: another lamp was chosen, or it is being dragged
    changed = Signal()
    #: a better picture of the source came in
    seen = Signal()

    #: a lamp was chosen
    picked = Signal()

    def __init__(self, workspace: Workspace) -> None:
        super().__init__(workspace)
        self.workspace = workspace
        self.chosen = ""
        #: the lamp as it is being dragged
        self.dragged: Lamp | None = None
        self.sight: ProgressiveRender | None = None
        self._about: tuple[object, ...] = ()
        #: whether looking waits for a bake to end
        self._waits = False
        self._step = 0
        #: skies' pictures, small, by the digests of their files
        self._skies: dict[str, np.ndarray] = {}
        #: the scene whose box is known, and that
        self._boxed: tuple[Scene | None, tuple[np.ndarray, np.ndarray]] = (None, (np.zeros(3), np.ones(3)))
        workspace.document_changed.connect(lambda *_: self._follow())
        workspace.queue_changed.connect(self._make_way)

    # -- lamps ------------------------------------------------------------------------------------------------

    @property
    def scene(self) -> Scene:
        """The scene that is lit."""
        return self.workspace.document.scene

    @property
    def lighting(self) -> Lighting:
        """What is said of what shines."""
        return self.scene.lighting

    def lamps(self) -> tuple[Lamp, ...]:
        """Return all lamps, one of them as it is being dragged."""
        result = lamps_of(self.scene)
        if self.dragged is None:
            return result
        return tuple(self.dragged if lamp.key == self.dragged.key else lamp for lamp in result)

    def lamp(self, key: str = "") -> Lamp | None:
        """Return a lamp by its key, the chosen one without any."""
        return next((lamp for lamp in self.lamps() if lamp.key == (key or self.chosen)), None)

    def is_own(self, key: str) -> bool:
        """Whether a lamp is the project's own, not a model's."""
        return any(lamp.key == key for lamp in self.lighting.added)

    def is_changed(self, key: str) -> bool:
        """Whether a model's lamp is otherwise than it came."""
        return any(lamp.key == key for lamp in self.lighting.changed)

    def choose(self, key: str) -> None:
        """Choose a lamp."""
        self.picked.emit()
        if key != self.chosen:
            self.chosen = key
            self.changed.emit()

    def add(self, kind: LampKind) -> None:
        """Add a lamp: a sun in the south-west, or a light over the middle of the scene."""
        keys = {lamp.key for lamp in lamps_of(self.scene)}
        name, number = TITLES[kind], 2
        while name in keys:
            name, number = f"{TITLES[kind]} {number}", number + 1
        low, high = self.box()
        middle, size = (low + high) / 2, diagonal_of((low, high))
        place = float(middle[0]), float(high[1] + 0.1 * size), float(middle[2])
        strength = SUN_LUX if kind is LampKind.SUN else float(f"{LAMP_LUX * (size / 2) ** 2:.2g}")
        direction = sun_direction(225.0, 35.0) if kind is LampKind.SUN else (0.0, -1.0, 0.0)
        lamp = Lamp(name, kind, strength=strength, place=place, direction=direction)
        self.chosen = name
        self._apply(f"Add {name}", self.lighting.adding(lamp))

    def change(self, label: str, **values: Any) -> None:
        """Change the chosen lamp."""
        lamp = self.lamp()
        if lamp is not None and replace(lamp, **values) != lamp:
            self._apply(label, self.lighting.with_lamp(replace(lamp, **values)))

    def switch(self, key: str, on: bool) -> None:
        """Switch a lamp on or off."""
        lamp = self.lamp(key)
        if lamp is not None and lamp.on != on:
            words = "Switch on" if on else "Switch off"
            self._apply(f"{words} {key}", self.lighting.with_lamp(replace(lamp, on=on)))

    def remove(self) -> None:
        """Take the chosen lamp away; a model's is as it came again, or switched off where it is that already."""
        key = self.chosen
        if self.is_own(key):
            self._apply(f"Remove {key}", self.lighting.without(key))
        elif self.is_changed(key):
            self._apply(f"{key} as it came", self.lighting.without(key))
        elif key:
            self.switch(key, False)

    def drag(self, lamp: Lamp) -> None:
        """Show a lamp as it is being dragged."""
        self.dragged = lamp
        self.changed.emit()

    def drop(self, label: str) -> None:
        """Keep the lamp where it was dragged to."""
        lamp, self.dragged = self.dragged, None
        if lamp is not None and lamp != self.lamp(lamp.key):
            self._apply(label, self.lighting.with_lamp(lamp))
        self.changed.emit()

    # -- the sky ----------------------------------------------------------------------------------------------

    def set_sky(self, label: str = "Sky", **values: Any) -> None:
        """Change the sky."""
        self._apply(label, replace(self.lighting, sky=replace(self.lighting.sky, **values)))

    def take_picture(self, file: str) -> None:
        """Take a picture for the sky, once it has been read."""

        def take(digest: str) -> None:
            self._skies.pop(digest, None)
            self.set_sky(f"Sky {Path(file).name}", kind=SkyKind.PICTURE, picture=file, digest=digest)

        self.workspace.run(Task(Kind.LIGHT, f"Read {Path(file).name}", sky_digest, (file,), part="sky"), take)

    def sky_picture(self) -> np.ndarray | None:
        """Return the sky's picture, small, shape (H, W, 3), linear; None while it is being read, or without one."""
        sky = self.lighting.sky
        if sky.kind is not SkyKind.PICTURE:
            return None
        if sky.digest not in self._skies:
            # asked for once: a file that cannot be read is told of when light is baked
            self._skies[sky.digest] = np.zeros((0, 0, 3), np.float32)

            def take(picture: np.ndarray) -> None:
                self._skies[sky.digest] = picture
                self.changed.emit()

            task = Task(Kind.LIGHT, "Read the sky", sky_thumbnail, (sky.picture,), part="dome")
            self.workspace.run(task, take)
        result = self._skies[sky.digest]
        return result if result.size else None

    def set_glow(self, on: bool) -> None:
        """Say whether surfaces that emit light other surfaces."""
        self._apply("Emitting surfaces", replace(self.lighting, glow=on))

    def _apply(self, label: str, lighting: Lighting) -> None:
        if lighting != self.lighting:
            self.workspace.apply(label, lambda document: commands.set_lighting(document, lighting))

    def _follow(self) -> None:
        keys = [lamp.key for lamp in lamps_of(self.scene)]
        self.dragged = None
        if self.chosen not in keys:
            self.chosen = ""
        self.changed.emit()

    # -- what is seen -----------------------------------------------------------------------------------------

    def box(self) -> tuple[np.ndarray, np.ndarray]:
        """Return the box about the scene, a cube of a metre where there is none."""
        if not self.scene.same_surfaces(self._boxed[0]):
            low, high = world_box(self.scene, [item.key for item in self.scene.objects])
            self._boxed = self.scene, (low, high) if np.isfinite(low).all() else (np.zeros(3), np.ones(3))
        return self._boxed[1]

    def of_model(self) -> set[str]:
        """Return the keys of the models' lamps."""
        return {lamp.key for lamp in model_lamps(self.scene)}

    def figures(self, bundle: Bundle) -> LightFigures | None:
        """Return how a bundle's light came out, or how it is while it is being baked."""
        made = self.workspace.lit.get(bundle.identity) or bundle.texturing
        return None if made is None else made.light

    @property
    def stops(self) -> float:
        """The stops by which light is shown brighter: those that it is stored with, and those of the slider."""
        return self.stored_stops + self.workspace.exposure

    @property
    def stored_stops(self) -> float:
        """The stops by which light is stored brighter, of the leading bundle that has any: all are shown alike."""
        leading = self.workspace.bundle
        for bundle in (*([leading] if leading is not None else []), *self.workspace.document.bundles):
            figures = self.figures(bundle)
            if figures is not None:
                return figures.stops(bundle.bake.exposure)
        if self.sight is None:
            return 0.0
        # nothing is baked yet: as bright as what is seen asks for
        seen, hit = self.sight.picture(1.0)
        lit_places = seen[hit[..., 0] > 0.5]
        return LightFigures(bright=brightest(lit_places, SEEN)).stops(None) if len(lit_places) else 0.0

    def look(self, camera: Camera, width: int, height: int) -> None:
        """Have the source seen in its light, step by step, until anything about that changes."""
        high = min(height, MOST_HIGH)
        size = max(int(width * high / max(height, 1)), 8), max(high, 8)
        bounces = max((bundle.bake.bounces for bundle in self.workspace.document.bundles), default=3)
        about = (self.scene, camera, size, bounces)
        if self._about and about[1:] == self._about[1:] and about[0] is self._about[0]:
            return
        self._about = about
        self.sight = None
        self._waits = False
        self._look(0, None)

    def _make_way(self) -> None:
        """Let a bake go first: looking stops meanwhile, and goes on from where it was."""
        scheduler = self.workspace.scheduler
        baking = scheduler.busy(Kind.BAKE)
        if baking and not self._waits and scheduler.busy(Kind.LIGHT, part="look"):
            self._waits = True
            scheduler.cancel(Kind.LIGHT, part="look")
        elif not baking and self._waits:
            self._waits = False
            if self._about and self._step < len(SAMPLES):
                self._look(self._step, self.sight)

    def _look(self, step: int, before: ProgressiveRender | None) -> None:
        about, self._step = self._about, step
        scene, camera, size, bounces = about
        arguments = (scene, self.workspace.session.store, camera, size, step, before)

        def take(sight: ProgressiveRender) -> None:
            if self._about is not about:
                return
            self.sight = sight
            self._step = step + 1
            self.seen.emit()
            if step + 1 < len(SAMPLES) and not self._waits:
                self._look(step + 1, sight)

        task = Task(Kind.LIGHT, "Draw the light", look, arguments, {"bounces": bounces}, part="look")
        self.workspace.run(task, take, anew=True)

    def look_away(self) -> None:
        """Stop looking."""
        if self._about:
            self._about, self.sight = (), None
            self.workspace.scheduler.cancel(Kind.LIGHT, part="look")


def words_of_lights(lamps: tuple[Lamp, ...], lighting: Lighting) -> str:
    """Return in a few words what shines."""
    on = [lamp for lamp in lamps if lamp.on]
    suns = sum(lamp.kind is LampKind.SUN for lamp in on)
    parts = [] if not suns else ["sun" if suns == 1 else f"{suns} suns"]
    parts += [f"{len(on) - suns} lamps" if len(on) - suns > 1 else "1 lamp"] if len(on) > suns else []
    if lighting.sky.kind not in (SkyKind.AUTO, SkyKind.NONE):
        parts.append("sky")
    return " and ".join(parts) if len(parts) < 3 else f"{parts[0]}, {parts[1]} and {parts[2]}"
