"""Sources of values where some objects read high-poly ones: these there, and what the others have of their own."""

from __future__ import annotations

from abc import ABC, abstractmethod

import numpy as np
from numpy.typing import NDArray

from fasciculum.baking.high import HighPolyProjector, Hits
from fasciculum.baking.occlusion import RaySource
from fasciculum.baking.tiling import NO_AMOUNTS, Source
from fasciculum.kernels.light.denoising import guide_hits
from fasciculum.kernels.rays.occlusion import FREE, RAY_VALUES
from fasciculum.model.maps import NORMAL_VALUES


class _Beside(ABC):
    """What paired surfaces read, beside another source for all else."""

    def __init__(self, source: Source, high: HighPolyProjector) -> None:
        self.source, self.high, self.values = source, high, source.values

    def detail(self) -> NDArray[np.float32]:
        """Return the other source's, and nothing where the high-poly is read."""
        amounts = self.source.detail()
        if amounts.shape[0] != len(self.high.group):
            return amounts
        return np.where(self.high.paired[:, None], np.float32(0), amounts)

    @abstractmethod
    def fill(self, tiles: NDArray[np.int64], across: int, ids: NDArray[np.int32], found: NDArray[np.float32]) -> None:
        """Write the values at some tiles' texels into ``found`` (N, WIDE, WIDE, K)."""

    def _begun(
        self, tiles: NDArray[np.int64], across: int, ids: NDArray[np.int32], found: NDArray[np.float32]
    ) -> Hits | None:
        """Let the other source write what is its own, and what stands in for rays that met nothing; return the rays."""
        hits = self.high.hits(tiles, across, ids)
        others = self._others(ids)
        if hits is not None:
            others = np.maximum(others, self._lost(ids, hits.found, hits.texels))
        self.source.fill(tiles, across, others, found)
        return hits

    def _others(self, ids: NDArray[np.int32]) -> NDArray[np.int32]:
        return np.where((ids >= 0) & self.high.paired[np.maximum(ids, 0)], np.int32(-1), ids)

    def _lost(self, ids: NDArray[np.int32], found: NDArray[np.int64], texels: NDArray[np.int64]) -> NDArray[np.int32]:
        """Return the triangles of texels that met nothing: what is theirs stands in, should nothing else."""
        lost = np.full(ids.size, -1, np.int32)
        lost[texels] = ids.reshape(-1)[texels]
        lost[texels[found >= 0]] = -1
        return lost.reshape(ids.shape)


class HighMaterials(_Beside):
    """Values of materials, normals in the sheet's frames."""

    def fill(self, tiles: NDArray[np.int64], across: int, ids: NDArray[np.int32], found: NDArray[np.float32]) -> None:
        """Write the values at some tiles' texels into ``found`` (N, WIDE, WIDE, 16)."""
        hits = self._begun(tiles, across, ids, found)
        if hits is None:
            return
        self.high.means(hits, self.high.shaded(hits), found, unit=NORMAL_VALUES[0])


class HighColors(_Beside):
    """Vertex colours; the place and the normal in the world stay the low-poly's."""

    def fill(self, tiles: NDArray[np.int64], across: int, ids: NDArray[np.int32], found: NDArray[np.float32]) -> None:
        """Write the values at some tiles' texels into ``found`` (N, WIDE, WIDE, 12)."""
        self.source.fill(tiles, across, ids, found)
        hits = self.high.hits(tiles, across, ids)
        if hits is not None:
            self.high.means(hits, self.high.colors(hits), found, 4)


class HighRays(_Beside):
    """Openness and the free direction, thickness and curvature of the high-poly surface that texels read."""

    source: RaySource

    def fill(self, tiles: NDArray[np.int64], across: int, ids: NDArray[np.int32], found: NDArray[np.float32]) -> None:
        """Write the values at some tiles' texels into ``found`` (N, WIDE, WIDE, 6)."""
        hits = self._begun(tiles, across, ids, found)
        if hits is None:
            return
        place = self.high.places(hits)
        values = np.zeros((len(place), RAY_VALUES), np.float32)
        guide = self.source.guide
        if guide is not None:
            rays = (hits.texels, hits.found, hits.low, place, tiles, across, guide.label)
            guide_hits(*rays, self.high.tables.part, guide.labels, guide.normals)
        self.source.trace(hits, place, self.high.target.surface[hits.low], values)
        free = values[:, FREE : FREE + 3].astype(np.float64)
        values[:, FREE : FREE + 3] = self.high.turned(hits, free)
        self.high.means(hits, values, found, unit=FREE)


class HeightSource:
    """How far outwards of the low-poly the high-poly lies: 0.5 on it, 0 and 1 at the reach inwards and outwards."""

    values = 1

    def __init__(self, high: HighPolyProjector | None, reach: float) -> None:
        self.high, self.reach = high, max(reach, 1e-12)

    def detail(self) -> NDArray[np.float32]:
        """Nothing: what rays meet is read as it is."""
        return NO_AMOUNTS

    def fill(self, tiles: NDArray[np.int64], across: int, ids: NDArray[np.int32], found: NDArray[np.float32]) -> None:
        """Write the values at some tiles' texels into ``found`` (N, WIDE, WIDE, 1)."""
        found[ids >= 0] = 0.5
        hits = self.high.hits(tiles, across, ids) if self.high is not None else None
        if hits is not None and self.high is not None:
            height = np.clip(0.5 + 0.5 * hits.where[:, 2:3] / self.reach, 0.0, 1.0)
            self.high.means(hits, height, found)
