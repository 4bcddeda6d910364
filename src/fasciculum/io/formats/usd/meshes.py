"""Mesh prims of a stage as polygons: faces by material, UVs, normals and colours of corners."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.errors import MalformedFile
from fasciculum.io.polygons import Polygons, demand_sound

#: types of primvars that are UV sets
UV_TYPES = ("texCoord2f[]", "texCoord2d[]", "texCoord2h[]")
UV_LIKE = ("float2[]", "double2[]", "half2[]")
#: faces have fewer corners than this
MOST_CORNERS = 4096


@dataclass(frozen=True, eq=False)
class MeshPrim:
    """A mesh prim as it was read: its polygons, and the paths of the materials on them by number."""

    polygons: Polygons
    #: whether it is the cage of a surface that is to be subdivided
    is_cage: bool


class MeshReader:
    """Reads mesh prims.

    Parameters
    ----------
    pxr : package
    time : Usd.TimeCode
    uv_sets : list of str
        The names of UV sets by their numbers.
    file : str
        What the file is called in messages.
    """

    def __init__(self, pxr: Any, time: Any, uv_sets: list[str], file: str) -> None:
        self.pxr, self.time, self.uv_sets, self.file = pxr, time, uv_sets, file

    def uv_names(self, prim: Any) -> list[str]:
        """Return the names of a mesh's UV sets."""
        results = []
        for primvar in self.pxr.UsdGeom.PrimvarsAPI(prim).FindPrimvarsWithInheritance():
            kind, name = str(primvar.GetTypeName()), primvar.GetPrimvarName()
            known = name == "st" or name.lower().startswith("uv")
            if primvar.HasValue() and (kind in UV_TYPES or (kind in UV_LIKE and known)):
                results.append(name)
        return results

    def read(self, prim: Any, materials: NDArray[np.int64] | None, *, colored: bool) -> MeshPrim:
        """Return a mesh.

        Parameters
        ----------
        materials : ndarray of int64, shape (F,), optional
            The material of each face that the prim has, -1 for none.
        colored : bool
            Take its display colour for the colour of vertices.

        Raises
        ------
        MalformedFile
        """
        mesh = self.pxr.UsdGeom.Mesh(prim)
        item = str(prim.GetPath())[:200]
        positions = self._array(mesh.GetPointsAttr(), (-1, 3))
        counts = self._array(mesh.GetFaceVertexCountsAttr(), (-1,)).astype(np.int64)
        corners = self._array(mesh.GetFaceVertexIndicesAttr(), (-1,)).astype(np.int64)
        if (len(counts) and int(counts.min()) < 0) or int(counts.sum()) != len(corners):
            raise self.fail("its faces have other corners than it says.", item)
        if len(counts) and int(counts.max()) > MOST_CORNERS:
            raise self.fail(f"a face has more than {MOST_CORNERS} corners.", item)
        starts = np.concatenate([[0], np.cumsum(counts)]).astype(np.int64)
        faces = np.repeat(np.arange(len(counts)), counts)
        plain = Polygons(positions, corners, starts, np.full(len(counts), -1, np.int64))
        demand_sound(plain, self.file, item)
        by_material = materials if materials is not None else plain.materials
        names = [primvar for primvar in self.uv_names(prim)]
        api = self.pxr.UsdGeom.PrimvarsAPI(prim)
        uv_sets: list[NDArray[np.float64] | None] = [None] * len(self.uv_sets)
        for name in names:
            values = self._of_corners(api.FindPrimvarWithInheritance(name), 2, corners, faces, item)
            if values is not None and name in self.uv_sets:
                uv_sets[self.uv_sets.index(name)] = np.stack([values[:, 0], 1 - values[:, 1]], axis=1)
        present = next((one for one in uv_sets if one is not None), None)
        if uv_sets and uv_sets[0] is None:
            # what reads no texture is laid out by whichever set there is
            uv_sets[0] = present
        while uv_sets and uv_sets[-1] is None:
            uv_sets.pop()
        scheme = str(mesh.GetSubdivisionSchemeAttr().Get(self.time) or "none")
        result = Polygons(positions, corners, starts, by_material, uv_sets)
        result.normals = self._normals(mesh, api, corners, faces, item)
        is_cage = scheme != "none" and mesh.GetSubdivisionSchemeAttr().HasAuthoredValue()
        if scheme != "none" and result.normals is None:
            result.normals = result.smooth()
        if colored:
            result.colors = self._colors(api, corners, faces, item)
        holes = mesh.GetHoleIndicesAttr().Get(self.time)
        if holes is not None and len(holes):
            result = without_faces(result, np.asarray(holes, np.int64))
        demand_sound(result, self.file, item)
        if str(mesh.GetOrientationAttr().Get(self.time)) == "leftHanded":
            result = turned(result)
        return MeshPrim(result, is_cage)

    def fail(self, message: str, item: str) -> MalformedFile:
        """Return the error for a prim."""
        return MalformedFile(message, file=self.file, item=item, hint="Export the model again.")

    def _array(self, attribute: Any, shape: tuple[int, ...]) -> NDArray[np.float64]:
        value = attribute.Get(self.time) if attribute else None
        return np.zeros((0, *shape[1:])) if value is None else np.asarray(value, np.float64).reshape(shape)

    def _normals(
        self, mesh: Any, api: Any, corners: NDArray[np.int64], faces: NDArray[np.int64], item: str
    ) -> NDArray[np.float64] | None:
        primvar = api.FindPrimvarWithInheritance("normals")
        if primvar and primvar.HasValue():
            return self._of_corners(primvar, 3, corners, faces, item)
        value = mesh.GetNormalsAttr().Get(self.time)
        if value is None or not len(value):
            return None
        values = np.asarray(value, np.float64).reshape(-1, 3)
        return self._spread(values, str(mesh.GetNormalsInterpolation()), corners, faces, item)

    def _colors(
        self, api: Any, corners: NDArray[np.int64], faces: NDArray[np.int64], item: str
    ) -> NDArray[np.float64] | None:
        colors = self._of_corners(api.FindPrimvarWithInheritance("displayColor"), 3, corners, faces, item)
        if colors is None:
            return None
        opacity = self._of_corners(api.FindPrimvarWithInheritance("displayOpacity"), 1, corners, faces, item)
        return np.concatenate([colors, np.ones((len(colors), 1)) if opacity is None else opacity], axis=1)

    def _of_corners(
        self, primvar: Any, width: int, corners: NDArray[np.int64], faces: NDArray[np.int64], item: str
    ) -> NDArray[np.float64] | None:
        """Return a primvar's values for each corner, (C, width), None where it has none."""
        if not primvar or not primvar.HasValue():
            return None
        value = primvar.ComputeFlattened(self.time)
        if value is None:
            raise self.fail(f"{primvar.GetPrimvarName()} names values that are not there.", item)
        values = np.asarray(value, np.float64)
        if values.size % width:
            raise self.fail(f"{primvar.GetPrimvarName()} has other values than its type says.", item)
        return self._spread(values.reshape(-1, width), str(primvar.GetInterpolation()), corners, faces, item)

    def _spread(
        self,
        values: NDArray[np.float64],
        interpolation: str,
        corners: NDArray[np.int64],
        faces: NDArray[np.int64],
        item: str,
    ) -> NDArray[np.float64]:
        """Return values by whichever interpolation for each corner."""
        places = {
            "constant": np.zeros(len(corners), np.int64),
            "uniform": faces,
            "vertex": corners,
            "varying": corners,
            "faceVarying": np.arange(len(corners)),
        }.get(interpolation)
        if places is None or (len(places) and int(places.max()) >= len(values)):
            raise self.fail(f"there are {len(values)} values where its {interpolation} interpolation needs more.", item)
        result: NDArray[np.float64] = values[places]
        return result


def backwards(starts: NDArray[np.int64]) -> NDArray[np.int64]:
    """Return the numbers of corners with those of each polygon in the other order."""
    sizes = np.diff(starts)
    faces = np.repeat(np.arange(len(sizes)), sizes)
    result: NDArray[np.int64] = starts[faces] + starts[faces + 1] - 1 - np.arange(len(faces))
    return result


def turned(polygons: Polygons) -> Polygons:
    """Return polygons whose corners go the other way round."""
    return picked(polygons, backwards(polygons.starts), polygons.starts, polygons.materials)


def without_faces(polygons: Polygons, left: NDArray[np.int64]) -> Polygons:
    """Return polygons without some faces."""
    sizes = np.diff(polygons.starts)
    kept = ~np.isin(np.arange(len(sizes)), left)
    starts = np.concatenate([[0], np.cumsum(sizes[kept])]).astype(np.int64)
    return picked(polygons, np.flatnonzero(np.repeat(kept, sizes)), starts, polygons.materials[kept])


def picked(
    polygons: Polygons, order: NDArray[np.int64], starts: NDArray[np.int64], materials: NDArray[np.int64]
) -> Polygons:
    """Return polygons of some corners of others, in an order of their own."""

    def values(one: NDArray[np.float64] | None) -> NDArray[np.float64] | None:
        return None if one is None else one[order]

    return Polygons(
        polygons.positions,
        polygons.corners[order],
        starts,
        materials,
        [values(one) for one in polygons.uv_sets],
        values(polygons.normals),
        values(polygons.colors),
    )
