"""Pictures of a scene in its light, by paths from the eye: what a baked look is compared with."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fasciculum.baking.casting import casting_items, fix_winding
from fasciculum.baking.light.passes import LightScene, shining_of
from fasciculum.baking.light.surfaces import PixelsOf
from fasciculum.baking.shading import corner_normals
from fasciculum.baking.world import world_normals
from fasciculum.kernels.light.gathering import picture_rows
from fasciculum.model.scene import Scene
from fasciculum.progress import SILENT, Progress
from fasciculum.threads import in_pieces

#: edge of the textures of what is seen, at most, and rows that are worked on at once
SHARP, BAND = 1024, 8


class LitView:
    """A scene under its lights, ready to be looked at.

    Parameters
    ----------
    whole : Scene
    pixels : callable
        Returns an image's stored values.
    panorama : ndarray of float32, shape (H, W, 3), optional
        The picture of its sky.
    """

    def __init__(
        self,
        whole: Scene,
        pixels: PixelsOf,
        panorama: NDArray[np.float32] | None = None,
        progress: Progress = SILENT,
    ) -> None:
        self.shining: LightScene = shining_of(whole, pixels, panorama, progress, sharp=SHARP)
        parts = [np.zeros((0, 3, 3))]
        for scene, key in casting_items(whole, [item.key for item in whole.objects], everything=True):
            item = scene.object(key)
            linear = scene.nodes[item.node].world[:3, :3]
            for primitive in scene.primitives_of(item):
                parts.append(fix_winding(scene, item, world_normals(corner_normals(primitive), linear)))
        self._normals = np.ascontiguousarray(np.concatenate(parts), np.float32)

    def see(
        self,
        eye: NDArray[np.float64],
        axes: NDArray[np.float64],
        sums: NDArray[np.float32],
        samples: tuple[int, int],
        bounces: int = 3,
        progress: Progress = SILENT,
    ) -> None:
        """Add samples, from one number to another, to the sums of a picture (H, W, 4).

        Parameters
        ----------
        eye : ndarray, shape (3,)
        axes : ndarray, shape (3, 3)
            To the right and up, as long as half of the picture is wide and high a metre away, and forwards.
        """
        shining = self.shining

        def work(top: int) -> None:
            what = (shining.world, self._normals, shining.lamps, shining.sky)
            picture_rows(top, min(top + BAND, len(sums)), eye, axes, *what, *samples, bounces, shining.step, sums)

        in_pieces(work, range(0, len(sums), BAND), words="Measuring the light's noise", progress=progress)
