"""The model as it came, in the light of its scene, seen through a camera and refined step by step."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fasciculum.baking.light.seen import LitView
from fasciculum.io.pixels import PixelStore
from fasciculum.model.scene import Scene
from fasciculum.operations.bake.latest import Latest
from fasciculum.operations.bake.light import light_digest, panorama_of
from fasciculum.progress import SILENT, Progress
from fasciculum.rendering.camera import Camera

#: samples of a pixel after each step, and the picture's height at most
SAMPLES = (1, 4, 16, 64)
MOST_HIGH = 420


@dataclass(frozen=True, eq=False)
class ProgressiveRender:
    """A picture in the making: sums of what is seen, nits, and of what is hit, (H, W, 4), and samples of each pixel."""

    sums: NDArray[np.float32]
    samples: int

    def picture(self, gain: float) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
        """Return what is seen, times a gain, (H, W, 3), and how much of each pixel is hit, (H, W, 1)."""
        share = 1.0 / max(self.samples, 1)
        return self.sums[..., :3] * np.float32(gain * share), self.sums[..., 3:] * np.float32(share)


#: for as long as nothing about its light changes
_views = Latest[LitView]()


def view_of(scene: Scene, store: PixelStore, progress: Progress = SILENT) -> LitView:
    """Return a scene under its lights, ready to be looked at."""

    def make() -> LitView:
        panorama = panorama_of(scene.lighting.sky)
        return LitView(scene, lambda image: store.get(image.pixels), panorama, progress)

    return _views.get(light_digest(scene), make)


def axes_of(camera: Camera, aspect: float) -> NDArray[np.float64]:
    """Return a camera's axes: to the right, up and forwards, see `fasciculum.baking.light.seen.LitView.see`."""
    right, up = camera.axes()
    half = np.tan(np.radians(camera.field_of_view) / 2)
    return np.ascontiguousarray([right * half * aspect, up * half, -camera.backward()])


def look(
    scene: Scene,
    store: PixelStore,
    camera: Camera,
    size: tuple[int, int],
    step: int,
    before: ProgressiveRender | None = None,
    *,
    bounces: int = 3,
    progress: Progress = SILENT,
) -> ProgressiveRender:
    """Return a picture of a scene in its light.

    Parameters
    ----------
    size : (int, int)
        Width and height, px.
    step : int
        Of `SAMPLES`; ``before`` is what the step before gave.
    """
    width, height = size
    sums = np.zeros((height, width, 4), np.float32) if before is None else before.sums.copy()
    done = 0 if before is None else before.samples
    view = view_of(scene, store, progress)
    view.see(camera.eye(), axes_of(camera, width / height), sums, (done, SAMPLES[step]), bounces, progress)
    return ProgressiveRender(sums, SAMPLES[step])
