"""How texels face by their normal maps, in the world, for light that falls on them."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fasciculum.baking.target import Target
from fasciculum.baking.tiling import Source, Tiles
from fasciculum.kernels.sampling.tiles import TILE
from fasciculum.model.layout import Layout
from fasciculum.model.scene import Scene
from fasciculum.progress import SILENT, Progress
from fasciculum.threads import in_pieces
from fasciculum.uv.tangents import unit

#: where a source of values has a normal, of unit length in the sheet's tangent frame
NORMAL = slice(4, 7)


def bumpy_materials(scene: Scene, target: Target) -> NDArray[np.bool_]:
    """Tell which of a sheet's materials have a normal map, shape (M,)."""
    numbers = target.materials
    return np.array([number >= 0 and scene.materials[number].normal is not None for number in numbers], np.bool_)


def relief_normals(
    scene: Scene, layout: Layout, materials: Source, target: Target, tiles: Tiles, progress: Progress = SILENT
) -> NDArray[np.float32] | None:
    """Return how texels face by their normal maps, shape (H, W, 3); 0 where there is no map, None where none has one.

    Parameters
    ----------
    materials : Source
        What the materials give at the texels, their normals in the sheet's tangent frames.
    target : Target
        Of the size of ``tiles``.

    Raises
    ------
    Cancelled
    """
    bumpy = bumpy_materials(scene, target)
    if not bumpy.any():
        return None
    linear = (scene.nodes[scene.object(surface.objects[0]).node].world[:3, :3] for surface in layout.surfaces)
    # frames of mirrored nodes are reflected along x
    mirrored = np.array([np.linalg.det(matrix) < 0 for matrix in linear])
    facing = np.zeros((tiles.height, tiles.width, 3), np.float32)

    def work(piece: NDArray[np.int64]) -> None:
        ids = tiles.ids(piece)
        values = np.zeros((*ids.shape, materials.values), np.float32)
        materials.fill(piece, tiles.across, ids, values)
        for number, tile in enumerate(piece.tolist()):
            top, left = tile // tiles.across * TILE, tile % tiles.across * TILE
            own = ids[number, 1:-1, 1:-1][: tiles.height - top, : tiles.width - left]
            y, x = np.nonzero((own >= 0) & bumpy[target.material[np.maximum(own, 0)]])
            if not len(y):
                continue
            triangles = own[y, x]
            place = np.stack([left + x + 0.5, top + y + 0.5, np.ones(len(x))], axis=1)
            weights = np.clip(np.einsum("nij,nj->ni", target.maps[triangles], place), 0.0, 1.0)
            weights /= weights.sum(axis=1, keepdims=True)
            frames = np.einsum("ni,nik->nk", weights, target.frames[triangles].astype(np.float64))
            normal, along = frames[:, :3], frames[:, 7:10]
            across = np.cross(normal, along) * np.sign(frames[:, 10:11])
            bump = values[number, 1 + y, 1 + x, NORMAL].astype(np.float64)
            turned = unit(bump[:, :1] * along + bump[:, 1:2] * across + bump[:, 2:] * normal)
            turned[mirrored[target.surface[triangles]], 0] *= -1.0
            facing[top + y, left + x] = turned

    in_pieces(work, tiles.pieces(), words="Reading normal maps for light", progress=progress)
    return facing
