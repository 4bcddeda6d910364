"""Deliver: meshes with sheet UVs, one material for each bundle, and its textures, into a folder."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from fasciculum import __version__
from fasciculum.io.formats.gltf.delivery import Delivery, OutputImage, Part
from fasciculum.io.formats.gltf.writer import Writer, plain_part
from fasciculum.io.formats.images import mime_type
from fasciculum.io.formats.obj.writer import ObjFile, ObjMaterial, ObjObject, obj_files
from fasciculum.io.names import file_name
from fasciculum.io.pixels import PixelStore
from fasciculum.model.bundle import Bundle
from fasciculum.model.document import Document
from fasciculum.model.finding import INFO, WARNING, Finding
from fasciculum.model.scene import MASK, OPAQUE, UNLIT, Object
from fasciculum.operations.deliver.conventions import (
    TextureFile,
    conforming,
    conforms,
    delivery_name,
    encoded_source,
    encoded_texture,
    texture_files,
    tile_name,
)
from fasciculum.operations.deliver.dressing import dress
from fasciculum.operations.deliver.joining import groups_of, joined, middle_of, moved, moving_objects, rounded_origin
from fasciculum.operations.deliver.writing import write_all
from fasciculum.progress import SILENT, Progress


@dataclass
class Delivered:
    """What a delivery wrote: file names in the folder, which of them changed, and the textures of each bundle.

    ``maps`` gives the file of each (bundle, baked map); where a packing makes several of one, the first.
    """

    files: list[str] = field(default_factory=list)
    changed: list[str] = field(default_factory=list)
    maps: dict[tuple[str, str], str] = field(default_factory=dict)
    findings: list[Finding] = field(default_factory=list)


def deliver(document: Document, folder: Path, store: PixelStore, *, progress: Progress = SILENT) -> Delivered:
    """Write the models and the textures of a document, all of them or none.

    Parameters
    ----------
    document : Document
        Bundles without baked maps, and objects that are not on their bundle's layout, are delivered as they came.
    folder : Path
        Made when it is missing; nothing else in it is touched.

    Raises
    ------
    OutputError
    UsageError
        When the names' pattern makes no sense.
    """
    made = _Making(document, store, progress)
    files = made.files()
    result = made.result
    # models are told first, and written last
    result.files = sorted(files, key=lambda name: name.endswith((".png", ".jpg", ".webp", ".bin", ".mtl")))
    result.changed = write_all(folder, files, progress=progress.part(0.9, 1.0))
    progress.update(1.0, "Delivered")
    return result


def ready_bundles(document: Document) -> list[Bundle]:
    """Return the bundles that have a layout and maps."""
    return [bundle for bundle in document.bundles if _ready(bundle)]


def delivered_names(document: Document) -> list[str]:
    """Return the names of the files that a delivery would write.

    Raises
    ------
    UsageError
    """
    ready = ready_bundles(document)
    textures = [texture.file for files in texture_files(document, ready).values() for texture in files]
    name = delivery_name(document)
    kinds = document.delivery.models
    models = [f"{name}.{kind}" for kind in kinds]
    models += [f"{name}.bin"] if "gltf" in kinds else []
    models += [f"{name}.mtl"] if "obj" in kinds else []
    return textures + models


def _ready(bundle: Bundle) -> bool:
    return bundle.layout is not None and bundle.layout.scale > 0 and bundle.texturing is not None


def _tiles(bundle: Bundle) -> int:
    return bundle.layout.tiles if bundle.layout is not None else 1


class _Making:
    """Puts the files of one delivery together."""

    def __init__(self, document: Document, store: PixelStore, progress: Progress) -> None:
        self.document = document
        self.scene = document.scene
        self.settings = document.delivery
        self.store = store
        self.progress = progress
        self.name = delivery_name(document)
        self.ready = ready_bundles(document)
        self.result = Delivered()
        self.textures = texture_files(document, self.ready)
        #: what all kinds of models share: each bundle's number, who is where, what is joined, and what is dressed
        self.numbers = {}
        count = 0
        for bundle in self.ready:
            self.numbers[bundle.name] = count
            count += _tiles(bundle)
        self.bundle_of = self._bundles_by_object()
        self.groups = self._joined_keys()
        self.inside = {key for groups in self.groups.values() for _, keys in groups for key in keys}
        self.dressed: dict[tuple, list[Part]] = {}

    def files(self) -> dict[str, bytes]:
        """Return every file by its name, textures before the models that refer to them."""
        files: dict[str, bytes] = {}
        every = [texture for textures in self.textures.values() for texture in textures]
        for number, texture in enumerate(every):
            self.progress.part(0.0, 0.5).update(number / len(every), f"Encoding {texture.file}")
            files[texture.file] = encoded_texture(self.store, texture, self.settings)
        for (bundle, shown), file in self._map_files().items():
            self.result.maps[bundle, shown] = file
        kinds = self.settings.models
        if "glb" in kinds or "gltf" in kinds:
            for number, kind in enumerate(kind for kind in ("glb", "gltf") if kind in kinds):
                self.progress.update(0.5 + 0.15 * number, f"Building {self.name}.{kind}")
                files |= self._gltf(kind, files)
        if "obj" in kinds:
            self.progress.update(0.8, f"Building {self.name}.obj")
            files |= self._obj(files)
        return files

    def _map_files(self) -> dict[tuple[str, str], str]:
        found: dict[tuple[str, str], str] = {}
        for bundle, textures in self.textures.items():
            for texture in textures:
                found.setdefault((bundle, texture.baked.name), texture.file)
        return found

    # -- glTF -------------------------------------------------------------------------------------------------

    def _gltf(self, kind: str, files: dict[str, bytes]) -> dict[str, bytes]:
        writer = Writer(self.scene, lambda image: encoded_source(self.store, image))
        delivery = Delivery()
        refer = conforms(self.settings) and (self.settings.external_textures or kind == "gltf")
        for bundle in self.ready:
            for tile in range(_tiles(bundle)):
                textures: dict[str, int] = {}
                for texture in self.textures[bundle.name]:
                    if texture.baked.name in textures or texture.tile != tile:
                        continue
                    textures[texture.baked.name] = len(delivery.images)
                    delivery.images.append(self._image(texture, files, refer))
                    self.progress.check()
                name = tile_name(bundle.name, tile, _tiles(bundle))
                delivery.materials.append(gltf_material(bundle, textures) | {"name": name})
        writer.begin(delivery)
        self._add_parts(writer, delivery)
        root = writer.root(delivery, generator=f"Fasciculum {__version__}")
        if kind == "glb":
            return {f"{self.name}.glb": writer.builder.glb(root)}
        text, binary = writer.builder.gltf(root, f"{self.name}.bin")
        return {f"{self.name}.bin": binary, f"{self.name}.gltf": text}

    def _image(self, texture: TextureFile, files: dict[str, bytes], refer: bool) -> OutputImage:
        if refer:
            return OutputImage(texture.file[:-4], b"", texture.file)
        if conforms(self.settings):
            return OutputImage(texture.file[:-4], files[texture.file])
        plain, settings = conforming(texture, self.settings)
        return OutputImage(texture.file[:-4], encoded_texture(self.store, plain, settings))

    def _bundles_by_object(self) -> dict[str, Bundle]:
        """Return the bundle of each object that is on its bundle's layout; others go along as they came."""
        found: dict[str, Bundle] = {}
        for bundle in self.ready:
            assert bundle.layout is not None
            placed = {key for surface in bundle.layout.surfaces for key in surface.objects}
            found |= {key: bundle for key in bundle.objects if key in placed}
            left = [key for key in bundle.objects if key not in placed]
            if left:
                self.result.findings.append(
                    Finding(
                        "not_placed",
                        WARNING,
                        f"{bundle.name}: {', '.join(left[:5])} had no place on the sheet and went along as they came.",
                        "Pack and bake the bundle again.",
                        bundle=bundle.name,
                    )
                )
        return found

    def _parts_of(self, item: Object, bundle: Bundle) -> list[Part]:
        assert bundle.layout is not None
        key = (bundle.name, bundle.layout.surface_of(item.key), self.scene.nodes[item.node].mesh)
        if key not in self.dressed:
            self.dressed[key] = dress(
                self.scene, bundle, item, self.numbers[bundle.name], self.settings.keep_source_uvs
            )
        return self.dressed[key]

    def _joined_keys(self) -> dict[str, list[tuple[str, tuple[str, ...]]]]:
        """Return for each bundle the groups of objects that become one mesh."""
        found: dict[str, list[tuple[str, tuple[str, ...]]]] = {}
        if self.settings.combine:
            moving = moving_objects(self.scene)
            for bundle in self.ready:
                groups, apart = groups_of(self.scene, bundle, self.settings, moving=moving)
                found[bundle.name] = [
                    (group.name, tuple(key for key in group.objects if key in self.bundle_of)) for group in groups
                ]
                if apart:
                    self.result.findings.append(
                        Finding(
                            "not_joined",
                            INFO,
                            f"{bundle.name}: {', '.join(apart[:5])} move by themselves and were not joined.",
                            bundle=bundle.name,
                        )
                    )
        return found

    def _add_parts(self, writer: Writer, delivery: Delivery) -> None:
        """Fill in the primitives of every node; nodes that draw the same share one list."""
        scene = self.scene
        loose: dict[tuple, list[Part]] = {}
        by_node: dict[int, list[Object]] = {}
        for item in scene.objects:
            by_node.setdefault(item.node, []).append(item)
        lists: dict[tuple, list[Part]] = {}
        for number, (node, items) in enumerate(by_node.items()):
            if number % 64 == 0:
                self.progress.check()
            keys: list[tuple] = []
            parts: list[Part] = []
            for item in items:
                if item.key in self.inside:
                    delivery.bare.add(node)
                    continue
                bundle = self.bundle_of.get(item.key)
                if bundle is None:
                    key: tuple = ("loose", scene.nodes[node].mesh, item.primitives)
                    if key not in loose:
                        loose[key] = [
                            plain_part(primitive, writer.loose_material(primitive.material))
                            for primitive in scene.primitives_of(item)
                        ]
                    parts += loose[key]
                else:
                    assert bundle.layout is not None
                    key = (bundle.name, bundle.layout.surface_of(item.key), scene.nodes[node].mesh)
                    parts += self._parts_of(item, bundle)
                keys.append(key)
            if parts:
                delivery.parts[node] = lists.setdefault(tuple(keys), parts)
        for bundle in self.ready:
            for name, keys_inside in self.groups.get(bundle.name, []):
                if keys_inside:
                    origin = rounded_origin(middle_of(scene, keys_inside))
                    made = self._join(keys_inside, bundle, origin)
                    delivery.joined.append((name, made, tuple(float(value) for value in origin)))

    def _join(self, keys: tuple[str, ...], bundle: Bundle, origin: np.ndarray) -> list[Part]:
        parts = []
        for key in keys:
            item = self.scene.object(key)
            world = self.scene.nodes[item.node].world
            parts += [moved(part, world, origin) for part in self._parts_of(item, bundle)]
        materials = sorted({part.material for part in parts})
        return [joined([part for part in parts if part.material == material]) for material in materials]

    # -- OBJ --------------------------------------------------------------------------------------------------

    def _obj(self, files: dict[str, bytes]) -> dict[str, bytes]:
        """Return the model as OBJ with MTL, everything in world space."""
        scene = self.scene
        file = ObjFile(
            self.name, [self._obj_material(bundle, tile) for bundle in self.ready for tile in range(_tiles(bundle))]
        )
        loose: dict[int, int] = {}
        extra: dict[str, bytes] = {}
        lost = False
        zero = np.zeros(3)
        for item in scene.objects:
            if item.key in self.inside:
                continue
            world = scene.nodes[item.node].world
            home = self.bundle_of.get(item.key)
            lost |= scene.nodes[item.node].skinned or any(p.targets for p in scene.primitives_of(item))
            if home is None:
                parts = []
                for primitive in scene.primitives_of(item):
                    if primitive.material not in loose:
                        loose[primitive.material] = len(file.materials)
                        file.materials.append(self._loose_obj_material(primitive.material, files | extra, extra))
                    parts.append(moved(plain_part(primitive, loose[primitive.material]), world, zero))
            else:
                parts = [moved(part, world, zero) for part in self._parts_of(item, home)]
            file.objects.append(ObjObject(item.key, parts))
        for bundle in self.ready:
            for name, keys in self.groups.get(bundle.name, []):
                if keys:
                    file.objects.append(ObjObject(name, self._join(keys, bundle, zero)))
        for node in scene.nodes:
            if node.mesh >= 0:
                file.strokes += [(node.world, aside) for aside in scene.meshes[node.mesh].aside]
        if lost or any(source.raw.get(part) for source in scene.sources for part in ("skins", "animations", "cameras")):
            self.result.findings.append(
                Finding(
                    "obj_loses",
                    WARNING,
                    "OBJ holds no skins, morph targets, animations, cameras or lights; they are left out of it.",
                    "Deliver .glb where they are needed.",
                )
            )
        return extra | obj_files(file)

    def _obj_material(self, bundle: Bundle, tile: int) -> ObjMaterial:
        assert bundle.texturing is not None
        made = bundle.texturing
        maps = {texture.map: texture.file for texture in self.textures[bundle.name] if texture.tile == tile}
        emissive = made.map("emissive")
        return ObjMaterial(
            tile_name(bundle.name, tile, _tiles(bundle)),
            maps,
            roughness=made.roughness,
            metallic=made.metallic,
            emission=(emissive.strength if emissive and "emissive" in maps else 0.0,) * 3,
            transparent=bundle.alpha_mode != OPAQUE,
        )

    def _loose_obj_material(self, index: int, files: dict[str, bytes], extra: dict[str, bytes]) -> ObjMaterial:
        if index < 0:
            return ObjMaterial("default", {})
        material = self.scene.materials[index]
        maps = {}
        for role, shown in (("base_color", "base_color"), ("normal", "normal"), ("emissive", "emissive")):
            slot = material.slots().get(role)
            if slot is None or self.scene.images[slot.image].missing:
                continue
            image = self.scene.images[slot.image]
            data = encoded_source(self.store, image)
            ending = mime_type(data).removeprefix("image/").replace("jpeg", "jpg")
            stem = file_name(f"{self.name}_{Path(image.name).stem}")
            name, number = f"{stem}.{ending}", 2
            while any(other.lower() == name.lower() and held != data for other, held in files.items()):
                name, number = f"{stem}_{number}.{ending}", number + 1
            extra[name] = data
            maps[shown] = name
        return ObjMaterial(
            material.name,
            maps,
            color=material.base_color_factor,
            roughness=material.roughness_factor,
            metallic=material.metallic_factor,
            emission=tuple(value * material.emissive_strength for value in material.emissive_factor),  # type: ignore[arg-type]
            transparent=material.alpha_mode != OPAQUE,
        )


def gltf_material(bundle: Bundle, textures: dict[str, int]) -> dict[str, Any]:
    """Return a bundle's one material as glTF."""
    made = bundle.texturing
    assert made is not None
    pbr: dict[str, Any] = {"metallicFactor": made.metallic, "roughnessFactor": made.roughness}
    material: dict[str, Any] = {"name": bundle.name, "pbrMetallicRoughness": pbr}
    if "base_color" in textures:
        pbr["baseColorTexture"] = {"index": textures["base_color"]}
    if "orm" in textures:
        pbr["metallicRoughnessTexture"] = {"index": textures["orm"]}
        material["occlusionTexture"] = {"index": textures["orm"]}
    if "normal" in textures:
        material["normalTexture"] = {"index": textures["normal"]}
    extensions: dict[str, Any] = dict(made.extensions)
    emissive = made.map("emissive")
    if emissive is not None and "emissive" in textures:
        level = min(emissive.strength, 1.0)
        material["emissiveTexture"] = {"index": textures["emissive"]}
        material["emissiveFactor"] = [level, level, level]
        if emissive.strength > 1.0:
            extensions["KHR_materials_emissive_strength"] = {"emissiveStrength": emissive.strength}
    if made.unlit:
        extensions = {UNLIT: {}}
    if extensions:
        material["extensions"] = extensions
    if bundle.alpha_mode != OPAQUE:
        material["alphaMode"] = bundle.alpha_mode
    if bundle.alpha_mode == MASK:
        material["alphaCutoff"] = made.alpha_cutoff
    if made.double_sided:
        material["doubleSided"] = True
    return material
