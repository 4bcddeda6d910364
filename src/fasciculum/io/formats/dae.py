"""COLLADA files into a scene: geometry, materials of the common profile, and the scene's nodes."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.errors import InputError, MalformedFile
from fasciculum.io.image_store import Wanted, read_images
from fasciculum.io.objects import find_objects, plain_name
from fasciculum.io.pixels import PixelStore
from fasciculum.io.places import Places, read_file
from fasciculum.io.polygons import Polygons, demand_sound
from fasciculum.io.tree_building import TreeBuilder, upright
from fasciculum.later import Later
from fasciculum.model.digests import digest_of
from fasciculum.model.finding import WARNING, Finding
from fasciculum.model.lookup import HERE, Lookup
from fasciculum.model.scene import BLEND, OPAQUE, Image, Material, Mesh, Node, Primitive, Scene, Source, TextureSlot
from fasciculum.progress import SILENT, Progress
from fasciculum.units import srgb_to_linear

collada = Later("collada", rare=True)
nodes_of = Later("collada.scene", rare=True)
#: what lies this many nodes deep is taken for a circle
DEEPEST = 200


def read_dae(
    path: Path, store: PixelStore, *, named: str = "", lookup: Lookup = HERE, progress: Progress = SILENT
) -> tuple[Scene, tuple[Finding, ...]]:
    """Read a .dae file.

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
        In metres, y pointing up; UVs have v pointing down; colours, which the format keeps as they are seen, linear.
    findings : tuple of Finding

    Raises
    ------
    MissingFile, MalformedFile, UnsupportedInput
    """
    progress.update(0.0, f"Reading {path.name}")
    data = read_file(path)
    try:
        document = collada.Collada(
            str(path), ignore=[collada.common.DaeUnsupportedError, collada.common.DaeBrokenRefError]
        )
        if not str(document.xmlnode.getroot().tag).endswith("COLLADA"):
            raise MalformedFile("this is no COLLADA file.", file=path.name, hint="Export it again.")
        return _Reading(document, path, data, store, lookup, progress).scene(named)
    except InputError:
        raise
    except RecursionError as error:
        raise MalformedFile("its nodes hold each other.", file=path.name, hint="Export it again.") from error
    except (OSError, ValueError, KeyError, IndexError, TypeError, AttributeError, collada.common.DaeError) as error:
        words = str(error).splitlines()[0][:200] if str(error) else type(error).__name__
        raise MalformedFile(f"the file cannot be read ({words}).", file=path.name, hint="Export it again.") from error


class _Reading:
    def __init__(
        self, document: Any, path: Path, data: bytes, store: PixelStore, lookup: Lookup, progress: Progress
    ) -> None:
        self.document, self.path, self.data, self.store, self.progress = document, path, data, store, progress
        self.places = Places(path, lookup)
        self.findings: list[Finding] = []
        self.materials: dict[str, Any] = {}
        self.meshes: list[Mesh] = []
        self.nodes: list[Node] = []
        self.builder = TreeBuilder()
        self._known: dict[tuple[Any, ...], int] = {}
        self._skinned: list[str] = []
        #: for each material the number of the UV set that each of its textures reads
        self._sets: dict[str, dict[str, int]] = {}

    def scene(self, named: str) -> tuple[Scene, tuple[Finding, ...]]:
        """Return the scene and what is unusual in it."""
        asset = self.document.assetInfo
        axis = str(getattr(asset, "upaxis", None) or "Y_UP")[0]
        root = upright(axis, float(getattr(asset, "unitmeter", None) or 1.0))
        top = -1 if np.allclose(root, np.eye(4)) else self.builder.add(self.path.stem, root)
        for node in self.document.scene.nodes if self.document.scene is not None else ():
            self._node(node, root, top, 0)
        materials, images = self._materials()
        if self._skinned:
            self.findings.append(
                Finding(
                    "left_out",
                    WARNING,
                    f"{self.path.name} has skins and morph targets ({', '.join(self._skinned[:4])}); meshes are taken "
                    "as they rest.",
                    "Export the model as glTF to keep them.",
                )
            )
        source = Source(
            named or str(self.path),
            str(self.path.resolve()),
            digest_of(self.data),
            tuple(range(len(images))),
            tree=self.builder.tree([]),
        )
        scene = Scene((source,), tuple(self.nodes), tuple(self.meshes), materials, images)
        return replace(scene, objects=find_objects(scene, self.path.name, self.findings)), tuple(self.findings)

    # -- nodes ------------------------------------------------------------------------------------------------

    def _node(self, node: Any, above: NDArray[np.float64], parent: int, depth: int) -> None:
        if depth > DEEPEST:
            raise MalformedFile("its nodes hold each other.", file=self.path.name, hint="Export it again.")
        self.progress.check()
        world = above @ np.array(node.matrix, np.float64).reshape(4, 4)
        element = getattr(node, "xmlnode", None)
        name = plain_name((element.get("name") if element is not None else "") or node.id or "node")
        number = self.builder.add(name, world, parent)
        for child in node.children:
            if isinstance(child, nodes_of.NodeNode):
                self._node(child.node, world, number, depth + 1)
            elif isinstance(child, nodes_of.Node):
                self._node(child, world, number, depth + 1)
            elif isinstance(child, nodes_of.GeometryNode):
                self._draw(child.geometry, child.materials, name, world, number)
            elif isinstance(child, nodes_of.ControllerNode):
                self._skinned.append(name)
                self._draw(child.controller.geometry, child.materials, name, world, number)

    def _draw(self, geometry: Any, bound: Any, name: str, world: NDArray[np.float64], above: int) -> None:
        materials = {one.symbol: one for one in bound}
        key = (id(geometry), tuple(sorted((one.symbol, one.target.id) for one in bound)))
        if key not in self._known:
            primitives = [
                primitive
                for part in geometry.primitives
                if hasattr(part, "vertex_index") and not type(part).__name__.endswith("LineSet")
                for primitive in self._part(part, materials.get(part.material), geometry.id)
            ]
            self._known[key] = len(self.meshes)
            self.meshes.append(Mesh(plain_name(geometry.name or geometry.id), tuple(primitives)))
        mesh = self._known[key]
        # a node may draw several geometries, of which each needs one
        tree = above
        if self.builder.nodes[above].mesh >= 0:
            tree = self.builder.add(name, world, above)
        self.builder.change(tree, mesh=mesh)
        self.nodes.append(Node(name, -1, world, mesh, 0, tree))

    # -- geometry ---------------------------------------------------------------------------------------------

    def _part(self, part: Any, bound: Any, item: str) -> tuple[Primitive, ...]:
        corners = np.asarray(part.vertex_index, np.int64).reshape(-1)
        counts = getattr(part, "vcounts", None)
        sizes = np.full(len(corners) // 3, 3) if counts is None else np.asarray(counts, np.int64)
        starts = np.concatenate([[0], np.cumsum(sizes)]).astype(np.int64)
        number = self._number(bound, part)
        materials = np.full(len(sizes), number, np.int64)
        polygons = Polygons(np.asarray(part.vertex, np.float64).reshape(-1, 3), corners, starts, materials)
        demand_sound(polygons, self.path.name, item)
        polygons.uv_sets = [
            self._flipped(self._taken(values, places, corners, item))
            for values, places in zip(part.texcoordset, part.texcoord_indexset, strict=True)
        ]
        if part.normal is not None and part.normal_index is not None:
            polygons.normals = self._taken(part.normal, part.normal_index, corners, item)
        polygons.colors = self._colors(part, corners, item)
        demand_sound(polygons, self.path.name, item)
        return polygons.primitives()

    def _taken(self, values: Any, places: Any, corners: NDArray[np.int64], item: str) -> NDArray[np.float64]:
        rows, order = np.asarray(values, np.float64), np.asarray(places, np.int64).reshape(-1)
        if len(order) != len(corners) or (len(order) and not 0 <= order.min() <= order.max() < len(rows)):
            raise MalformedFile(
                "corners name UVs, normals or colours that are not there.",
                file=self.path.name,
                item=item,
                hint="Export it again.",
            )
        result: NDArray[np.float64] = rows[order]
        return result

    @staticmethod
    def _flipped(uvs: NDArray[np.float64]) -> NDArray[np.float64]:
        return np.stack([uvs[:, 0], 1 - uvs[:, 1]], axis=1)

    def _colors(self, part: Any, corners: NDArray[np.int64], item: str) -> NDArray[np.float64] | None:
        told = part.sources.get("COLOR") or ()
        if not told:
            return None
        offset, source = told[0][0], told[0][4]
        places = np.asarray(part.index).reshape(len(corners), -1)[:, offset]
        values = self._taken(source.data, places, corners, item)
        alpha = values[:, 3:4] if values.shape[1] > 3 else np.ones((len(values), 1))
        return np.concatenate([srgb_to_linear(np.clip(values[:, :3], 0, 1)), alpha], axis=1)

    # -- materials --------------------------------------------------------------------------------------------

    def _number(self, bound: Any, part: Any) -> int:
        """Return the number of the material on a part, -1 for none."""
        if bound is None or bound.target is None:
            return -1
        key = bound.target.id
        self.materials.setdefault(key, bound.target)
        # which set a texture reads is said where the material is bound
        sets = [entry[3] for entry in part.sources.get("TEXCOORD") or ()]
        named = {one[0]: str(one[2]) for one in bound.inputs or () if one[1] == "TEXCOORD"}
        self._sets.setdefault(
            key, {symbol: sets.index(number) for symbol, number in named.items() if number in map(str, sets)}
        )
        return list(self.materials).index(key)

    def _maps(self, effect: Any) -> dict[str, Any]:
        names = ("diffuse", "emission", "transparent", "bumpmap")
        values = {name: getattr(effect, name, None) for name in names}
        return {name: value for name, value in values.items() if hasattr(value, "sampler")}

    def _materials(self) -> tuple[tuple[Material, ...], tuple[Image, ...]]:
        wanted: dict[str, Wanted] = {}
        for material in self.materials.values():
            for one in self._maps(material.effect).values():
                file = _file_of(one)
                item = f"material {material.name or material.id}"[:90]
                wanted.setdefault(file, Wanted(Path(file).name[:200], item, file, self._bytes(file, item)))
        progress = self.progress.part(0.4, 0.95)
        images, problems = read_images(list(wanted.values()), self.places, self.store, progress)
        self.findings += problems
        numbers = {file: number for number, file in enumerate(wanted)}
        results = tuple(self._material(key, one, numbers, images) for key, one in self.materials.items())
        return results, images

    def _bytes(self, file: str, item: str) -> Callable[[], bytes]:
        return lambda: self.places.data(file, item)

    def _material(self, key: str, material: Any, numbers: dict[str, int], images: tuple[Image, ...]) -> Material:
        effect = material.effect
        maps, sets = self._maps(effect), self._sets.get(key, {})
        slots = {
            role: TextureSlot(numbers[_file_of(one)], uv_set=sets.get(one.texcoord, 0)) for role, one in maps.items()
        }
        there = {role for role, slot in slots.items() if not images[slot.image].missing}
        base = (1.0, 1.0, 1.0) if "diffuse" in there else _linear(effect.diffuse, (0.8, 0.8, 0.8))
        glow = (1.0, 1.0, 1.0) if "emission" in there else _linear(effect.emission, (0.0, 0.0, 0.0))
        opacity = _opacity(effect)
        blends = opacity < 1 or (
            "transparent" in there and "diffuse" in there and slots["transparent"].image == slots["diffuse"].image
        )
        shine = effect.shininess if isinstance(effect.shininess, float) and effect.shininess > 0 else 0.0
        # some write shininess as a part of 128
        shine = shine * 128 if shine <= 1 else shine
        glossy = effect.shadingtype in ("phong", "blinn") and shine > 0
        return Material(
            name=plain_name(material.name or material.id),
            base_color_factor=(*base, opacity),
            base_color=slots.get("diffuse"),
            metallic_factor=0.0,
            roughness_factor=math.sqrt(2 / (shine + 2)) if glossy else 1.0,
            normal=slots.get("bumpmap"),
            emissive_factor=glow,
            emissive=slots.get("emission"),
            alpha_mode=BLEND if blends else OPAQUE,
            double_sided=bool(effect.double_sided),
        )


def _file_of(one: Any) -> str:
    """Return the file that a map reads."""
    return str(one.sampler.surface.image.path)


def _linear(value: Any, usual: tuple[float, float, float]) -> tuple[float, float, float]:
    if not isinstance(value, tuple | list) or len(value) < 3:
        return usual
    red, green, blue = srgb_to_linear(np.clip(np.array(value[:3], np.float64), 0, 1)).tolist()
    return red, green, blue


def _opacity(effect: Any) -> float:
    """Return how opaque an effect is, 0 to 1, by whichever of its two ways to say so."""
    amount = float(effect.transparency) if isinstance(effect.transparency, float | int) else 1.0
    # writers of nothing but zeros mean opaque, and no file has a surface that is never seen
    amount = amount if 0 < amount <= 1 else 1.0
    value = effect.transparent
    if not isinstance(value, tuple | list) or len(value) < 3:
        return amount
    if str(getattr(effect, "opaque_mode", "A_ONE")) == "RGB_ZERO":
        red, green, blue = value[:3]
        return float(min(max(1 - amount * (0.212671 * red + 0.715160 * green + 0.072169 * blue), 0.0), 1.0))
    return float(min(max(amount * (value[3] if len(value) > 3 else 1.0), 0.0), 1.0))
