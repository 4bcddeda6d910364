"""A delivery as a USD stage, as a package of it, or as a layer upon the stage that it was made of."""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.errors import OutputError
from fasciculum.io.formats.usd.looks import LookWriter, prim_name
from fasciculum.io.formats.usd.overs import write_overs
from fasciculum.io.formats.usd.stage import library, quiet
from fasciculum.io.texture_files import TextureFiles
from fasciculum.io.tree_building import matrix_of
from fasciculum.model.output import OutputMesh, OutputScene, Part
from fasciculum.model.tree import Light, TreeNode

#: UV sets by their numbers
UV_NAMES = ("st", "st1", "st2", "st3")


def write_usd(scene: OutputScene) -> dict[str, bytes]:
    """Return a delivery as .usd, and the images of materials that came along, by their names.

    Where the source is a stage itself, it is a layer upon that: UVs and materials alone.

    Raises
    ------
    UnsupportedInput
        When the optional library is missing.
    OutputError
    """
    textures = TextureFiles(scene)
    pxr = library(f"{scene.name}.usd")
    with tempfile.TemporaryDirectory(prefix="fasciculum-usd-") as folder:
        target = Path(folder) / f"{scene.name}.usd"
        try:
            with quiet(pxr):
                if scene.upon is not None:
                    write_overs(pxr, scene, textures, target)
                else:
                    _write_stage(pxr, scene, textures, target)
            data = target.read_bytes()
        except pxr.Tf.ErrorException as error:
            raise OutputError(f"the stage cannot be written ({error}).", file=target.name) from error
    return textures.files | {target.name: data}


def write_usdz(scene: OutputScene) -> dict[str, bytes]:
    """Return a delivery as one .usdz that holds everything, by its name.

    Raises
    ------
    UnsupportedInput
        When the optional library is missing.
    OutputError
    """
    textures = TextureFiles(scene)
    pxr = library(f"{scene.name}.usdz")
    with tempfile.TemporaryDirectory(prefix="fasciculum-usd-") as folder:
        stage = Path(folder) / f"{prim_name(pxr, scene.name, set())}.usdc"
        target = Path(folder) / "package.usdz"
        try:
            _write_stage(pxr, scene, textures, stage)
            for name, data in textures.files.items():
                (Path(folder) / name).write_bytes(data)
            done = pxr.UsdUtils.CreateNewUsdzPackage(pxr.Sdf.AssetPath(str(stage)), str(target))
        except pxr.Tf.ErrorException as error:
            raise OutputError(f"the package cannot be written ({error}).", file=f"{scene.name}.usdz") from error
        if not done:
            raise OutputError("the package cannot be written.", file=f"{scene.name}.usdz")
        return {f"{scene.name}.usdz": target.read_bytes()}


def _write_stage(pxr: Any, scene: OutputScene, textures: TextureFiles, target: Path) -> None:
    geometry = pxr.UsdGeom
    stage = pxr.Usd.Stage.CreateNew(str(target))
    geometry.SetStageUpAxis(stage, geometry.Tokens.y)
    geometry.SetStageMetersPerUnit(stage, 1.0)
    stage.SetMetadata("comment", scene.generator)
    top = f"/{prim_name(pxr, scene.name, set())}"
    root = geometry.Xform.Define(stage, top)
    stage.SetDefaultPrim(root.GetPrim())
    geometry.Scope.Define(stage, f"{top}/Looks")
    writer = LookWriter(pxr, stage, f"{top}/Looks", UV_NAMES, textures)
    looks = [writer.write(entry.material) for entry in scene.materials]
    taken: dict[str, set[str]] = {top: {"Looks"}}

    def add(number: int, above: str) -> None:
        node = scene.tree.nodes[number]
        path = f"{above}/{prim_name(pxr, node.name or 'node', taken.setdefault(above, set()))}"
        prim = geometry.Xform.Define(stage, path)
        matrix = local_matrix(node)
        if not np.allclose(matrix, np.eye(4)):
            prim.AddTransformOp().Set(pxr.Gf.Matrix4d(matrix.T.tolist()))
        places = [matrix_of(*rows) for rows in _copies(node)]
        for copy, place in enumerate(places or [np.eye(4)]):
            if node.mesh < 0:
                break
            below = path
            if places:
                below = f"{path}/copy_{copy}"
                geometry.Xform.Define(stage, below).AddTransformOp().Set(pxr.Gf.Matrix4d(place.T.tolist()))
            _write_mesh(pxr, stage, scene, scene.meshes[node.mesh], below, looks)
        if node.light >= 0:
            _write_light(pxr, stage, f"{path}/light", scene.tree.lights[node.light])
        for child in node.children:
            add(child, path)

    shown = scene.tree.scenes[scene.tree.shown].roots if scene.tree.scenes else range(len(scene.tree.nodes))
    for number in shown:
        add(number, top)
    stage.GetRootLayer().Save()


def _write_mesh(pxr: Any, stage: Any, scene: OutputScene, mesh: OutputMesh, above: str, looks: list[Any]) -> None:
    """Write the parts of a mesh, each as a prim with its material."""
    taken: set[str] = set()
    for part in mesh.parts:
        named = prim_name(pxr, mesh.name or "mesh", taken)
        prim = pxr.UsdGeom.Mesh.Define(stage, f"{above}/{named}")
        _fill(pxr, prim, part)
        if part.material >= 0:
            pxr.UsdShade.MaterialBindingAPI.Apply(prim.GetPrim()).Bind(looks[part.material])
            prim.CreateDoubleSidedAttr(scene.materials[part.material].material.double_sided)


def _fill(pxr: Any, prim: Any, part: Part) -> None:
    vt, types = pxr.Vt, pxr.Sdf.ValueTypeNames
    positions = np.ascontiguousarray(part.attributes["POSITION"].values, np.float32)
    prim.CreatePointsAttr(vt.Vec3fArray.FromNumpy(positions))
    prim.CreateFaceVertexCountsAttr(vt.IntArray.FromNumpy(np.full(len(part.triangles), 3, np.int32)))
    prim.CreateFaceVertexIndicesAttr(vt.IntArray.FromNumpy(np.ascontiguousarray(part.triangles.reshape(-1), np.int32)))
    prim.CreateSubdivisionSchemeAttr("none")
    if len(positions):
        prim.CreateExtentAttr(vt.Vec3fArray.FromNumpy(np.stack([positions.min(axis=0), positions.max(axis=0)])))
    api = pxr.UsdGeom.PrimvarsAPI(prim)
    for name, attribute in part.attributes.items():
        values = attribute.values
        if name == "NORMAL":
            prim.CreateNormalsAttr(vt.Vec3fArray.FromNumpy(np.ascontiguousarray(values, np.float32)))
            prim.SetNormalsInterpolation("vertex")
        elif name.startswith("TEXCOORD_") and int(name[9:]) < len(UV_NAMES):
            uvs = np.stack([values[:, 0], 1 - values[:, 1]], axis=1).astype(np.float32)
            primvar = api.CreatePrimvar(UV_NAMES[int(name[9:])], types.TexCoord2fArray, "vertex")
            primvar.Set(vt.Vec2fArray.FromNumpy(np.ascontiguousarray(uvs)))
        elif name == "COLOR_0" and values.dtype == np.float32:
            colors = api.CreatePrimvar("displayColor", types.Color3fArray, "vertex")
            colors.Set(vt.Vec3fArray.FromNumpy(np.ascontiguousarray(values[:, :3])))


def local_matrix(node: TreeNode) -> NDArray[np.float64]:
    """Return where a node stands in its parent, 4 x 4, columns as in glTF."""
    place = node.place
    if place.matrix is not None:
        return np.array(place.matrix, np.float64).reshape(4, 4).T
    return matrix_of(
        place.translation or (0.0, 0.0, 0.0), place.rotation or (0.0, 0.0, 0.0, 1.0), place.scale or (1.0, 1.0, 1.0)
    )


def _copies(node: TreeNode) -> list[tuple[Any, Any, Any]]:
    if not node.copies:
        return []
    count = len(next(iter(node.copies.values())).values)
    usual = {"TRANSLATION": (0.0, 0.0, 0.0), "ROTATION": (0.0, 0.0, 0.0, 1.0), "SCALE": (1.0, 1.0, 1.0)}
    rows = [
        node.copies[name].values.astype(np.float64) if name in node.copies else np.tile(np.array(value), (count, 1))
        for name, value in usual.items()
    ]
    return list(zip(*rows, strict=True))


def _write_light(pxr: Any, stage: Any, path: str, light: Light) -> None:
    lux = pxr.UsdLux
    strength = light.intensity if light.intensity is not None else 1.0
    if light.kind == "directional":
        lamp = lux.DistantLight.Define(stage, path)
        lamp.CreateIntensityAttr(float(strength))
    else:
        # a ball of a centimetre: a light without size has no surface that could shine
        lamp = lux.SphereLight.Define(stage, path)
        lamp.CreateRadiusAttr(0.01)
        lamp.CreateNormalizeAttr(True)
        lamp.CreateIntensityAttr(4.0 * float(strength))
        if light.kind == "spot":
            shaping = lux.ShapingAPI.Apply(lamp.GetPrim())
            outer = light.outer if light.outer is not None else np.pi / 4
            shaping.CreateShapingConeAngleAttr(float(np.degrees(outer)))
            shaping.CreateShapingConeSoftnessAttr(float(1 - min((light.inner or 0.0) / outer, 1.0)))
    lamp.CreateColorAttr(pxr.Gf.Vec3f(*(light.color or (1.0, 1.0, 1.0))))
