"""A USD stage into a scene: mesh prims, what is bound to them, where they stand, and lights."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.errors import FasciculumError, MalformedFile
from fasciculum.io.formats.usd.materials import Surface, Surfaces, surface_of
from fasciculum.io.formats.usd.meshes import MeshReader
from fasciculum.io.formats.usd.stage import bounded, first_line, layers_beside, library, open_stage, quiet, stage_digest
from fasciculum.io.objects import find_objects, plain_name
from fasciculum.io.pixels import PixelStore
from fasciculum.io.places import Places, read_file
from fasciculum.io.tree_building import TreeBuilder, upright
from fasciculum.model.finding import INFO, WARNING, Finding
from fasciculum.model.lookup import HERE, Lookup
from fasciculum.model.scene import Material, Mesh, Node, Scene, Source
from fasciculum.model.tree import Light, Tree
from fasciculum.progress import SILENT, Cancelled, Progress

#: what is drawn: other purposes are guides and stand-ins
PURPOSES = ("default", "render")
#: copies that point instancers may draw
MOST_COPIES = 20_000


def read_usd(
    path: Path, store: PixelStore, *, named: str = "", lookup: Lookup = HERE, progress: Progress = SILENT
) -> tuple[Scene, tuple[Finding, ...]]:
    """Read a .usd, .usda, .usdc or .usdz file as it is composed.

    Parameters
    ----------
    path : Path
    store : PixelStore
        Where the decoded images go.
    named : str
        How the file was named by whoever asked.
    lookup : Lookup
        Where, beside the model's own folder, files may be found.

    Returns
    -------
    scene : Scene
        In metres, y pointing up; UVs have v pointing down.
    findings : tuple of Finding

    Raises
    ------
    MissingFile, MalformedFile, UnsupportedInput
        `UnsupportedInput` also where the optional library is missing, with the line to type.
    """
    progress.update(0.0, f"Reading {path.name}")
    # what cannot be read at all is told by its own words
    size = len(read_file(path))
    pxr = library(path.name)
    places = Places(path, lookup)
    try:
        with quiet(pxr), bounded(size):
            return _Reading(pxr, open_stage(path, places), path, places, store, progress).scene(named)
    except (FasciculumError, Cancelled):
        raise
    except Exception as error:  # the library raises many kinds on damaged files
        raise MalformedFile(
            f"the stage cannot be read ({first_line(error)}).", file=path.name, hint="Export it again."
        ) from error


@dataclass(frozen=True, eq=False)
class Drawn:
    """A mesh prim that is drawn: where it stands in the world of the stage, and below which prim it hangs.

    ``world`` is 4 x 4, columns as in glTF. ``copy`` numbers what a point instancer draws, -1 for all else.
    """

    prim: Any
    world: NDArray[np.float64]
    under: Any
    copy: int = -1


class _Reading:
    def __init__(self, pxr: Any, stage: Any, path: Path, places: Places, store: PixelStore, progress: Progress) -> None:
        self.pxr, self.stage, self.path, self.places, self.progress = pxr, stage, path, places, progress
        self.findings: list[Finding] = []
        self.time = pxr.Usd.TimeCode.EarliestTime()
        self.transforms = pxr.UsdGeom.XformCache(self.time)
        self.uv_sets: list[str] = []
        self.meshes = MeshReader(pxr, self.time, self.uv_sets, path.name)
        self.surfaces = Surfaces(pxr, places, store, self.uv_sets, self.findings)
        self.left: dict[str, list[str]] = {}

    def scene(self, named: str) -> tuple[Scene, tuple[Finding, ...]]:
        """Return the scene and what is unusual in it."""
        drawn, lamps = self._sort()
        bound = [self._bindings(one.prim) for one in drawn]
        order: dict[str, Surface] = {}
        for each in bound:
            for prim in each.values():
                # a material is on many meshes, and is asked once
                if str(prim.GetPath()) not in order:
                    order[str(prim.GetPath())] = surface_of(self.pxr, prim)
        materials = self.surfaces.materials(list(order.values()), self.progress.part(0.1, 0.7))
        # sets that textures read come first, so that these have the numbers that most meshes share
        for one in drawn:
            for name in self.meshes.uv_names(one.prim):
                if name not in self.uv_sets:
                    self.uv_sets.append(name)
        numbers = {path: number for number, path in enumerate(order)}
        tinted = {path for path, surface in order.items() if surface.vertex_colors}
        meshes, of_prim = self._meshes(drawn, bound, numbers, tinted)
        tree, nodes, paths = self._tree(drawn, of_prim, lamps)
        self._tell()
        images = self.surfaces.images
        source = Source(
            named=named or str(self.path),
            path=str(self.path.resolve()),
            digest=stage_digest(self.stage),
            images=tuple(range(len(images))),
            beside=layers_beside(self.stage, self.path),
            tree=tree,
            paths=tuple(paths),
        )
        scene = Scene(
            (source,), tuple(nodes), tuple(meshes), self._sided(materials, order, drawn, bound), tuple(images)
        )
        scene = replace(scene, objects=find_objects(scene, self.path.name, self.findings))
        return scene, tuple(self.findings)

    # -- what is drawn ----------------------------------------------------------------------------------------

    def _sort(self) -> tuple[list[Drawn], list[Any]]:
        """Return the meshes that are drawn, copies among them, and the lights; what is left out is noted."""
        usd, geometry = self.pxr.Usd, self.pxr.UsdGeom
        drawn: list[Drawn] = []
        lamps: list[Any] = []
        walk = iter(usd.PrimRange(self.stage.GetPseudoRoot(), usd.TraverseInstanceProxies()))
        for prim in walk:
            if prim.IsA(geometry.PointInstancer):
                walk.PruneChildren()
                drawn += self._copies(prim)
            elif prim.IsA(geometry.Mesh):
                if self._is_seen(prim):
                    drawn.append(Drawn(prim, self._world(prim), prim))
            elif prim.HasAPI(self.pxr.UsdLux.LightAPI):
                lamps.append(prim)
            elif prim.IsA(geometry.Camera):
                self._leave("cameras", prim)
            elif prim.IsA(geometry.Gprim):
                self._leave("shapes that are no meshes", prim)
        return drawn, lamps

    def _is_seen(self, prim: Any) -> bool:
        image = self.pxr.UsdGeom.Imageable(prim)
        if str(image.ComputePurpose()) not in PURPOSES:
            return False
        if str(image.ComputeVisibility(self.time)) == "invisible":
            self._leave("meshes that are hidden", prim)
            return False
        if prim.HasAPI(self.pxr.UsdSkel.BindingAPI) and self.pxr.UsdSkel.BindingAPI(prim).GetInheritedSkeleton():
            self._leave("skeletons and blend shapes", prim)
        return True

    def _leave(self, what: str, prim: Any) -> None:
        self.left.setdefault(what, []).append(prim.GetName())

    def _tell(self) -> None:
        for what, names in self.left.items():
            moved = what.startswith("skeletons")
            self.findings.append(
                Finding(
                    "left_out",
                    WARNING if moved else INFO,
                    f"{self.path.name} has {what} ({', '.join(names[:4])}{', ...' if len(names) > 4 else ''}); "
                    + ("meshes are taken as they rest." if moved else "they are left out."),
                    "A delivery upon the stage (--usd) keeps them." if moved else "",
                )
            )

    def _world(self, prim: Any) -> NDArray[np.float64]:
        return np.array(self.transforms.GetLocalToWorldTransform(prim), np.float64).T

    def _copies(self, prim: Any) -> Iterator[Drawn]:
        """Yield the meshes that a point instancer draws, each copy by itself."""
        if not self._is_seen(prim):
            return
        usd, geometry = self.pxr.Usd, self.pxr.UsdGeom
        instancer = geometry.PointInstancer(prim)
        roots = [self.stage.GetPrimAtPath(target) for target in instancer.GetPrototypesRel().GetTargets()]
        which = instancer.GetProtoIndicesAttr().Get(self.time) or []
        places = instancer.ComputeInstanceTransformsAtTime(
            self.time, self.time, geometry.PointInstancer.ExcludeProtoXform, geometry.PointInstancer.IgnoreMask
        )
        mask = instancer.ComputeMaskAtTime(self.time)
        if len(places) > MOST_COPIES or len(places) != len(which):
            raise self.meshes.fail(f"it draws {len(places)} copies of {len(which)} that it names.", str(prim.GetPath()))
        world = self._world(prim)
        for number, (place, one) in enumerate(zip(places, which, strict=True)):
            if not 0 <= one < len(roots) or not roots[one] or (mask and not mask[number]):
                continue
            above = world @ np.array(place, np.float64).T
            back = np.linalg.inv(self._parent_world(roots[one]))
            for mesh in usd.PrimRange(roots[one], usd.TraverseInstanceProxies()):
                if mesh.IsA(geometry.Mesh) and self._is_seen(mesh):
                    yield Drawn(mesh, above @ back @ self._world(mesh), prim, number)

    def _parent_world(self, prim: Any) -> NDArray[np.float64]:
        return np.array(self.transforms.GetParentToWorldTransform(prim), np.float64).T

    def _bindings(self, prim: Any) -> dict[str, Any]:
        """Return the materials of a mesh: under an empty name that of the whole, and those of its subsets."""
        shade = self.pxr.UsdShade
        results = {}
        for name, one in (("", prim), *((part.GetPrim().GetName(), part.GetPrim()) for part in self._subsets(prim))):
            material = shade.MaterialBindingAPI(one).ComputeBoundMaterial()[0]
            if material:
                results[name] = material.GetPrim()
        return results

    def _subsets(self, prim: Any) -> list[Any]:
        return [
            part
            for part in self.pxr.UsdGeom.Subset.GetAllGeomSubsets(self.pxr.UsdGeom.Imageable(prim))
            if str(part.GetElementTypeAttr().Get()) == "face"
            and str(part.GetFamilyNameAttr().Get() or "materialBind") == "materialBind"
        ]

    # -- meshes -----------------------------------------------------------------------------------------------

    def _meshes(
        self, drawn: list[Drawn], bound: list[dict[str, Any]], numbers: dict[str, int], tinted: set[str]
    ) -> tuple[list[Mesh], dict[str, int]]:
        """Return the meshes, each once however often it is drawn, and their numbers by what they were made of."""
        meshes: list[Mesh] = []
        of_prim: dict[str, int] = {}
        cages = []
        for number, (one, materials) in enumerate(zip(drawn, bound, strict=True)):
            self.progress.update(0.7 + 0.25 * number / max(len(drawn), 1), f"Reading {one.prim.GetName()[:80]}")
            key = self._key(one.prim)
            if key in of_prim:
                continue
            whole = materials.get("")
            paths = {str(material.GetPath()) for material in materials.values()}
            # colours of vertices are a material's only where it reads them, or where there is none
            read = self.meshes.read(
                one.prim, self._by_face(one.prim, materials, numbers), colored=whole is None or bool(paths & tinted)
            )
            if read.is_cage:
                cages.append(one.prim.GetName())
            names = tuple(self.uv_sets[: len(read.polygons.uv_sets)])
            of_prim[key] = len(meshes)
            meshes.append(Mesh(plain_name(one.prim.GetName()), read.polygons.primitives(), uv_names=names))
        if cages:
            self.findings.append(
                Finding(
                    "subdivision_cage",
                    INFO,
                    f"{self.path.name}: {', '.join(cages[:4])}{', ...' if len(cages) > 4 else ''} are cages of "
                    "subdivided surfaces; they are taken as they are, with smooth normals.",
                )
            )
        return meshes, of_prim

    def _key(self, prim: Any) -> str:
        return str((prim.GetPrimInPrototype() if prim.IsInstanceProxy() else prim).GetPath())

    def _by_face(self, prim: Any, materials: dict[str, Any], numbers: dict[str, int]) -> NDArray[np.int64]:
        counts = self.pxr.UsdGeom.Mesh(prim).GetFaceVertexCountsAttr().Get(self.time)
        whole = materials.get("")
        number = numbers[str(whole.GetPath())] if whole is not None else -1
        result = np.full(0 if counts is None else len(counts), number, np.int64)
        for part in self._subsets(prim):
            material = materials.get(part.GetPrim().GetName())
            faces = np.asarray(part.GetIndicesAttr().Get(self.time) or [], np.int64)
            if material is None or not len(faces):
                continue
            if int(faces.min()) < 0 or int(faces.max()) >= len(result):
                raise self.meshes.fail("a subset names faces that are not there.", str(prim.GetPath())[:200])
            result[faces] = numbers[str(material.GetPath())]
        return result

    def _sided(
        self,
        materials: tuple[Material, ...],
        order: dict[str, Surface],
        drawn: list[Drawn],
        bound: list[dict[str, Any]],
    ) -> tuple[Material, ...]:
        """Return the materials, double-sided where a mesh that they are on is: in a stage that is said of meshes."""
        double: set[str] = set()
        for one, paths in zip(drawn, bound, strict=True):
            if self.pxr.UsdGeom.Gprim(one.prim).GetDoubleSidedAttr().Get(self.time):
                double |= {str(material.GetPath()) for material in paths.values()}
        return tuple(
            replace(material, double_sided=path in double) for path, material in zip(order, materials, strict=True)
        )

    # -- the tree ---------------------------------------------------------------------------------------------

    def _tree(
        self, drawn: list[Drawn], of_prim: dict[str, int], lamps: list[Any]
    ) -> tuple[Tree, list[Node], list[str]]:
        """Return the tree above meshes and lights, the nodes that draw, and the path of each tree node."""
        geometry = self.pxr.UsdGeom
        root = upright(
            str(geometry.GetStageUpAxis(self.stage)).upper(), float(geometry.GetStageMetersPerUnit(self.stage))
        )
        builder = TreeBuilder()
        known: dict[str, int] = {}
        copied: dict[int, str] = {}
        top = -1 if np.allclose(root, np.eye(4)) else builder.add(self.path.stem, root)

        def above(prim: Any) -> int:
            """Return the tree node of a prim, made with all that it hangs on."""
            path = str(prim.GetPath())
            if prim.IsPseudoRoot():
                return top
            if path not in known:
                parent = above(prim.GetParent())
                known[path] = builder.add(prim.GetName(), root @ self._world(prim), parent)
            return known[path]

        nodes: list[Node] = []
        for number, one in enumerate(drawn):
            if number % 64 == 0:
                self.progress.check()
            mesh = of_prim[self._key(one.prim)]
            world = root @ one.world
            if one.copy >= 0:
                tree = builder.add(f"{one.prim.GetName()} {one.copy}", world, above(one.under), mesh=mesh)
                copied[tree] = str(one.prim.GetPath())
            else:
                tree = above(one.prim)
                builder.change(tree, mesh=mesh)
            nodes.append(Node(builder.nodes[tree].name or "", -1, world, mesh, 0, tree))
        lights: list[Light] = []
        for prim in lamps:
            lamp = self._lamp(prim)
            if lamp is not None:
                builder.change(above(prim), light=len(lights))
                lights.append(lamp)
        paths = [""] * len(builder.nodes)
        for number, path in (*((tree, path) for path, tree in known.items()), *copied.items()):
            paths[number] = path
        return builder.tree(lights), nodes, paths

    def _lamp(self, prim: Any) -> Light | None:
        """Return a light as glTF has them, None for one that has no like there."""
        lux = self.pxr.UsdLux
        light = lux.LightAPI(prim)
        scale = float(self.pxr.UsdGeom.GetStageMetersPerUnit(self.stage))
        strength = float(light.GetIntensityAttr().Get(self.time)) * 2.0 ** float(light.GetExposureAttr().Get(self.time))
        color = tuple(float(value) for value in light.GetColorAttr().Get(self.time))
        name = plain_name(prim.GetName())
        tone = (color[0], color[1], color[2])
        if prim.IsA(lux.DistantLight):
            return Light("directional", tone, strength, name=name)
        if not prim.IsA(lux.SphereLight):
            self._leave("lights that glTF does not have", prim)
            return None
        # nits of a sphere: what it sends in a direction is that times the disc that is seen of it
        radius = float(lux.SphereLight(prim).GetRadiusAttr().Get(self.time)) * scale
        candela = strength / 4 if light.GetNormalizeAttr().Get(self.time) else strength * math.pi * radius**2
        shaping = lux.ShapingAPI(prim)
        cone = shaping.GetShapingConeAngleAttr().Get(self.time) if prim.HasAPI(lux.ShapingAPI) else None
        if cone is None or cone >= 90:
            return Light("point", tone, candela, name=name)
        soft = float(shaping.GetShapingConeSoftnessAttr().Get(self.time) or 0.0)
        outer = math.radians(float(cone))
        return Light("spot", tone, candela, inner=outer * (1 - min(soft, 1.0)) * 0.999, outer=outer, name=name)
