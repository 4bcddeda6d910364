"""A source of values: what the mesh itself has at the texels of a sheet."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fasciculum.baking.shading import edge_normals
from fasciculum.baking.target import Target
from fasciculum.baking.world import world_box, world_normals
from fasciculum.kernels.sampling.interpolating import interpolate_tiles
from fasciculum.model.layout import Layout
from fasciculum.model.scene import Scene


class GeometrySource:
    """Vertex colours (0 to 3), the place in the bundle's box (4 to 6), and the normal in the world (8 to 10).

    Parameters
    ----------
    scene : Scene
    layout : Layout
    target : Target
        Made of the same layout.
    edges, angle
        See `fasciculum.baking.shading.edge_normals`.
    """

    values = 12

    def __init__(
        self, scene: Scene, layout: Layout, target: Target, edges: str = "source", angle: float = 40.0
    ) -> None:
        self.target = target
        parts = [np.zeros((0, 3, self.values))]
        low, high = world_box(scene, (key for surface in layout.surfaces for key in surface.objects))
        for surface in layout.surfaces:
            item = scene.object(surface.objects[0])
            world = scene.nodes[item.node].world
            primitives = scene.primitives_of(item)
            for primitive, normals in zip(primitives, edge_normals(primitives, surface, edges, angle), strict=True):
                corners = np.ones((len(primitive.triangles), 3, self.values))
                if primitive.colors is not None:
                    corners[..., :4] = primitive.colors[primitive.triangles]
                corners[..., 4:7] = primitive.positions[primitive.triangles] @ world[:3, :3].T + world[:3, 3]
                corners[..., 8:11] = world_normals(normals, world[:3, :3])
                parts.append(corners)
        corners = np.concatenate(parts)
        if len(corners):
            corners[..., 4:7] = (corners[..., 4:7] - low) / np.where(high - low > 1e-12, high - low, 1.0)
        self._corners = np.ascontiguousarray(corners, np.float32)

    def detail(self) -> NDArray[np.float32]:
        """Nothing: what lies even between corners is read as it is."""
        return np.zeros((0, 0), np.float32)

    def fill(self, tiles: NDArray[np.int64], across: int, ids: NDArray[np.int32], found: NDArray[np.float32]) -> None:
        """Write the values at some tiles' texels into ``found`` (N, WIDE, WIDE, 12)."""
        interpolate_tiles(tiles, across, ids, self.target.maps, self._corners, found)
