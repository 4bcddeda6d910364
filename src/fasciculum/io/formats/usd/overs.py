"""A delivery as a layer upon the stage that it was made of: new UVs, materials and bindings, and nothing else.

Where the layer is taken away, the stage is what it was.
"""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.errors import OutputError
from fasciculum.io.formats.usd.looks import LookWriter
from fasciculum.io.formats.usd.meshes import MeshReader, backwards
from fasciculum.io.texture_files import TextureFiles
from fasciculum.model.finding import WARNING, Finding
from fasciculum.model.output import OutputMesh, OutputScene

#: the primvars of UVs on the sheet and on the sheet of light, and the scope of new materials
UV_NAMES = ("sheetUV", "lightUV")
SCOPE = "SheetLooks"
#: by how much UVs of one corner may differ, of the sheet
ALIKE = 1e-5


def write_overs(pxr: Any, scene: OutputScene, textures: TextureFiles, target: Path) -> None:
    """Write the layer.

    Raises
    ------
    OutputError
        When the source is not what it was when it was read.
    """
    upon = scene.upon
    assert upon is not None
    stage = pxr.Usd.Stage.CreateNew(str(target))
    source = pxr.Usd.Stage.Open(str(upon.path))
    if not source:
        raise OutputError("the stage that was gathered cannot be opened.", file=str(upon.path), hint="Reload it.")
    layer = stage.GetRootLayer()
    geometry = pxr.UsdGeom
    geometry.SetStageUpAxis(stage, geometry.GetStageUpAxis(source))
    geometry.SetStageMetersPerUnit(stage, geometry.GetStageMetersPerUnit(source))
    root = source.GetDefaultPrim()
    if root:
        layer.defaultPrim = root.GetName()
    layer.comment = scene.generator
    above = str(root.GetPath()) if root else ""
    scope, number = f"{above}/{SCOPE}", 2
    while source.GetPrimAtPath(scope):
        scope, number = f"{above}/{SCOPE}{number}", number + 1
    if above:
        stage.OverridePrim(above)
    geometry.Scope.Define(stage, scope)
    _Layer(pxr, scene, stage, source, LookWriter(pxr, stage, scope, UV_NAMES, textures)).write()
    if above:
        # defining what is below it has defined it too, which is the source's business
        for path in pxr.Sdf.Path(above).GetPrefixes():
            layer.GetPrimAtPath(path).specifier = pxr.Sdf.SpecifierOver
    # where the layer will lie, and not where it lies now
    layer.subLayerPaths.append(os.path.relpath(upon.path, upon.folder.resolve()))
    layer.Save()


class _Layer:
    def __init__(self, pxr: Any, scene: OutputScene, stage: Any, source: Any, looks: LookWriter) -> None:
        self.pxr, self.scene, self.stage, self.source, self.looks = pxr, scene, stage, source, looks
        self.time = pxr.Usd.TimeCode.EarliestTime()
        self._made: dict[int, Any] = {}
        self._unique: set[str] = set()

    def write(self) -> None:
        """Write what is said of each mesh that lies on a sheet."""
        upon = self.scene.upon
        assert upon is not None
        done: set[str] = set()
        for number, path in enumerate(upon.paths):
            mesh = self.scene.tree.nodes[number].mesh
            if not path or mesh < 0 or path in done:
                continue
            done.add(path)
            prim = self.source.GetPrimAtPath(path)
            if not prim:
                raise OutputError(f"{path} is no longer in the source.", file=str(upon.path), hint="Reload it.")
            why = self._mesh(prim, self.scene.meshes[mesh])
            if why:
                upon.findings.append(
                    Finding(
                        "left_as_it_was",
                        WARNING,
                        f"{prim.GetName()} stays as it was in the stage: {why}",
                        "Treat its materials otherwise, or deliver .usdz, which holds meshes of its own.",
                        object=prim.GetName(),
                    )
                )

    def _mesh(self, prim: Any, mesh: OutputMesh) -> str:
        """Say where the corners of a mesh lie on the sheet, and what it is bound to; return why not, if so."""
        reader = MeshReader(self.pxr, self.time, [], str(prim.GetPath()))
        polygons = reader.read(prim, None, colored=False).polygons
        triangles, faces = polygons.triangles()
        wanted = polygons.positions[polygons.corners[triangles]].astype(np.float32)
        found = _matched(wanted, mesh)
        if found is None:
            return "its triangles were cut, which no layer can say."
        uvs, materials = found
        corners = [_by_corner(triangles, values, len(polygons.corners)) for values in uvs]
        if any(values is None for values in corners):
            return "a polygon lies on several islands."
        is_turned = str(self.pxr.UsdGeom.Mesh(prim).GetOrientationAttr().Get(self.time)) == "leftHanded"
        holes = self.pxr.UsdGeom.Mesh(prim).GetHoleIndicesAttr().Get(self.time)
        if holes is not None and len(holes):
            return "it has holes."
        by_face = np.full(len(polygons.starts) - 1, -1, np.int64)
        by_face[faces] = materials
        bindings = self._bindings(prim, by_face)
        if bindings is None:
            return "faces of one binding have several materials now."
        if not bindings:
            return ""
        path = self._writable(prim)
        over = self.stage.OverridePrim(path)
        api = self.pxr.UsdGeom.PrimvarsAPI(over)
        for name, values in zip(UV_NAMES, corners, strict=False):
            if values is None:
                continue
            rows = values[backwards(polygons.starts)] if is_turned else values
            primvar = api.CreatePrimvar(name, self.pxr.Sdf.ValueTypeNames.TexCoord2fArray, "faceVarying")
            flipped = np.stack([rows[:, 0], 1 - rows[:, 1]], axis=1).astype(np.float32)
            primvar.Set(self.pxr.Vt.Vec2fArray.FromNumpy(np.ascontiguousarray(flipped)))
        for below, number in bindings.items():
            bound = self.stage.OverridePrim(f"{path}/{below}" if below else path)
            self.pxr.UsdShade.MaterialBindingAPI.Apply(bound).Bind(self._look(number))
        return ""

    def _bindings(self, prim: Any, by_face: NDArray[np.int64]) -> dict[str, int] | None:
        """Return the new material of a mesh, under an empty name, and of its subsets; None where one has several."""
        rest = np.ones(len(by_face), bool)
        results: dict[str, int] = {}
        geometry = self.pxr.UsdGeom
        for part in geometry.Subset.GetGeomSubsets(geometry.Imageable(prim), "face", "materialBind"):
            faces = np.asarray(part.GetIndicesAttr().Get(self.time) or [], np.int64)
            rest[faces] = False
            if not self._take(results, part.GetPrim().GetName(), by_face[faces]):
                return None
        return results if self._take(results, "", by_face[rest]) else None

    def _take(self, results: dict[str, int], name: str, materials: NDArray[np.int64]) -> bool:
        """Note the one material of faces; what is kept apart keeps the binding that it has."""
        kinds = np.unique(materials[materials >= 0]).tolist()
        sheets = [kind for kind in kinds if self.scene.materials[kind].is_sheet]
        if not sheets:
            return True
        if len(kinds) > 1:
            return False
        results[name] = sheets[0]
        return True

    def _look(self, number: int) -> Any:
        if number not in self._made:
            self._made[number] = self.looks.write(self.scene.materials[number].material)
        return self._made[number]

    def _writable(self, prim: Any) -> str:
        """Return the path at which a prim can be overridden: what is within an instance is made one of its own."""
        path = str(prim.GetPath())
        above = prim
        while above and prim.IsInstanceProxy() and not above.IsInstance():
            above = above.GetParent()
        if above and above.IsInstance() and str(above.GetPath()) not in self._unique:
            self._unique.add(str(above.GetPath()))
            self.stage.OverridePrim(above.GetPath()).SetInstanceable(False)
        return path


def _matched(
    wanted: NDArray[np.float32], mesh: OutputMesh
) -> tuple[list[NDArray[np.float64]], NDArray[np.int64]] | None:
    """Return the UV sets, each (T, 3, 2), and the material of triangles, (T, 3, 3), by where their corners are.

    None when some of them are not in the mesh. Of triangles in one place each takes another one.
    """
    parts = [part for part in mesh.parts if len(part.triangles)]
    if not parts or sum(len(part.triangles) for part in parts) != len(wanted):
        return None
    given = np.concatenate([part.attributes["POSITION"].values[part.triangles] for part in parts])
    materials = np.concatenate([np.full(len(part.triangles), part.material, np.int64) for part in parts])
    kinds = [name for name in ("TEXCOORD_0", "TEXCOORD_1") if all(name in part.attributes for part in parts)]
    uvs = [np.concatenate([part.attributes[name].values[part.triangles] for part in parts]) for name in kinds]
    first, turned = _canonical(wanted)
    second, other = _canonical(np.ascontiguousarray(given, np.float32))
    order, place = np.lexsort(first.T), np.lexsort(second.T)
    if not np.array_equal(first[order], second[place]):
        return None
    match = np.empty(len(wanted), np.int64)
    match[order] = place
    # corner k of a triangle is corner k + turned of the one it is matched with, less that one's turn
    steps = (np.arange(3)[None, :] - turned[:, None] + other[match][:, None]) % 3
    rows = np.arange(len(wanted))[:, None]
    return [values[match].astype(np.float64)[rows, steps] for values in uvs], materials[match]


def _canonical(triangles: NDArray[np.float32]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Return triangles as whole numbers, (T, 9), begun at their least corner, and by how many corners each was turned.

    Zeros of either sign are the same.
    """
    bits = (triangles + np.float32(0)).view(np.int32).astype(np.int64).reshape(-1, 3, 3)
    rank = np.zeros((len(bits), 3), np.int64)
    flat = bits.reshape(-1, 3)
    if len(flat):
        order = np.lexsort(flat.T[::-1])
        changed = np.concatenate([[0], (np.diff(flat[order], axis=0) != 0).any(axis=1).astype(np.int64)])
        rank.reshape(-1)[order] = np.cumsum(changed)
    start = rank.argmin(axis=1)
    rows = np.arange(len(bits))[:, None]
    return bits[rows, (start[:, None] + np.arange(3)) % 3].reshape(-1, 9), start


def _by_corner(triangles: NDArray[np.int64], uvs: NDArray[np.float64], count: int) -> NDArray[np.float64] | None:
    """Return the UV of each corner of polygons, (C, 2), None where triangles of a polygon disagree about it."""
    result = np.zeros((count, 2))
    result[triangles.reshape(-1)] = uvs.reshape(-1, 2)
    return result if bool((np.abs(result[triangles] - uvs) <= ALIKE).all()) else None
