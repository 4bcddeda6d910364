"""Deliver: meshes with sheet UVs, one material for each bundle, and its textures, into a folder."""

from __future__ import annotations

import contextlib
import os
import uuid
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum import __version__
from fasciculum.baking.target import corner_normals, corner_tangents
from fasciculum.errors import OutputError
from fasciculum.io.formats.gltf.delivery import Delivery, OutputImage, Part
from fasciculum.io.formats.gltf.writer import Writer, plain_part
from fasciculum.io.formats.images import encode_png
from fasciculum.io.names import file_name
from fasciculum.io.pixels import PixelStore
from fasciculum.model.bundle import Bundle
from fasciculum.model.document import Document
from fasciculum.model.scene import MASK, OPAQUE, UNLIT, Attribute, Object, Primitive
from fasciculum.progress import SILENT, Progress


@dataclass
class Delivered:
    """What a delivery wrote: file names in the folder, and those of each bundle's maps by (bundle, map)."""

    files: list[str] = field(default_factory=list)
    maps: dict[tuple[str, str], str] = field(default_factory=dict)


def write_whole(target: Path, data: bytes) -> None:
    """Write a file beside its place and move it there, so that it is never half of anything.

    Raises
    ------
    OutputError
        Names the file; what was there before stays.
    """
    beside = target.with_name(f".{uuid.uuid4().hex}.part")
    try:
        target.parent.mkdir(parents=True, exist_ok=True)
        with beside.open("wb") as stream:
            stream.write(data)
            stream.flush()
            os.fsync(stream.fileno())
        os.replace(beside, target)
    except OSError as error:
        with contextlib.suppress(OSError):
            beside.unlink()
        raise OutputError(
            f"the file cannot be written ({error.strerror or error}).",
            file=str(target),
            hint="Choose a folder that you may write to, with enough room.",
        ) from error


def encoded_map(store: PixelStore, key: str) -> bytes:
    """Return a baked map as PNG, encoded once."""
    try:
        return store.get_encoded(f"{key}.png")
    except KeyError:
        data = encode_png(store.get(key))
        store.put_encoded(f"{key}.png", data)
        return data


def deliver(document: Document, folder: Path, store: PixelStore, *, progress: Progress = SILENT) -> Delivered:
    """Write the GLB and the textures of a document.

    Parameters
    ----------
    document : Document
        Bundles without baked maps are delivered as they came.
    folder : Path
        Made when it is missing; nothing else in it is touched.

    Raises
    ------
    OutputError
    """
    name = file_name(document.delivery.name or document.name)
    writer = Writer(document.scene, lambda image: store.get_encoded(image.pixels))
    delivery, result = Delivery(), Delivered()
    ready = [bundle for bundle in document.bundles if _ready(bundle)]
    files: dict[str, bytes] = {}
    material_of: dict[str, int] = {}
    for number, bundle in enumerate(ready):
        progress.part(0.0, 0.7).update(number / max(len(ready), 1), f"Encoding the maps of {bundle.name}")
        material_of[bundle.name] = len(delivery.materials)
        textures: dict[str, int] = {}
        assert bundle.texturing is not None
        for baked in bundle.texturing.maps:
            file = _unused(f"{name}_{file_name(bundle.name).lower()}_{baked.name}.png", files)
            files[file] = encoded_map(store, baked.pixels)
            result.maps[bundle.name, baked.name] = file
            textures[baked.name] = len(delivery.images)
            uri = file if document.delivery.external_textures else ""
            delivery.images.append(OutputImage(file[:-4], files[file], uri))
            progress.check()
        delivery.materials.append(_material(bundle, textures))
    writer.begin(delivery)
    progress.update(0.75, "Splitting vertices at the sheet's seams")
    _add_parts(document, ready, material_of, writer, delivery)
    progress.update(0.9, "Writing the files")
    model = writer.builder.glb(writer.root(delivery, generator=f"Fasciculum {__version__}"))
    for file, data in {f"{name}.glb": model, **files}.items():
        progress.check()
        write_whole(folder / file, data)
        result.files.append(file)
    progress.update(1.0, "Delivered")
    return result


def _ready(bundle: Bundle) -> bool:
    return bundle.layout is not None and bundle.layout.scale > 0 and bundle.texturing is not None


def _unused(file: str, files: dict[str, bytes]) -> str:
    taken = {name.lower() for name in files}
    stem, number = file[:-4], 2
    while file.lower() in taken:
        file, number = f"{stem}_{number}.png", number + 1
    return file


def _material(bundle: Bundle, textures: dict[str, int]) -> dict[str, Any]:
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


def _add_parts(
    document: Document, ready: list[Bundle], material_of: dict[str, int], writer: Writer, delivery: Delivery
) -> None:
    """Fill in the primitives of every node; nodes that draw the same share one list."""
    scene = document.scene
    bundle_of = {key: bundle for bundle in ready for key in bundle.objects}
    by_node: dict[int, list[Object]] = {}
    for item in scene.objects:
        by_node.setdefault(item.node, []).append(item)
    lists: dict[tuple, list[Part]] = {}
    dressed: dict[tuple, list[Part]] = {}
    for node, items in by_node.items():
        keys: list[tuple] = []
        parts: list[Part] = []
        for item in items:
            bundle = bundle_of.get(item.key)
            if bundle is None:
                key: tuple = ("loose", scene.nodes[node].mesh, item.primitives)
                if key not in dressed:
                    dressed[key] = [
                        plain_part(primitive, writer.loose_material(primitive.material))
                        for primitive in scene.primitives_of(item)
                    ]
            else:
                assert bundle.layout is not None
                surface = bundle.layout.surface_of(item.key)
                key = (bundle.name, surface, scene.nodes[node].mesh)
                if key not in dressed:
                    keep = document.delivery.keep_source_uvs
                    dressed[key] = dress(document, bundle, item, surface, material_of[bundle.name], keep)
            keys.append(key)
            parts += dressed[key]
        delivery.parts[node] = lists.setdefault(tuple(keys), parts)


def dress(
    document: Document, bundle: Bundle, item: Object, surface: int, material: int, keep_source_uvs: bool
) -> list[Part]:
    """Return an object's primitives with sheet UVs: one, where their attributes allow that."""
    assert bundle.layout is not None and bundle.texturing is not None
    layout = bundle.layout
    size = np.array([layout.width, layout.height], np.float64)
    uvs = (layout.sheet_corners(surface) / size).astype(np.float32)
    tangents = bundle.texturing.map("normal") is not None
    parts, first = [], 0
    for primitive in document.scene.primitives_of(item):
        last = first + len(primitive.triangles)
        parts.append(_split(primitive, uvs[first:last], material, tangents, keep_source_uvs))
        first = last
    if len(parts) > 1 and len({_shape_of(part) for part in parts}) == 1:
        return [_merged(parts)]
    return parts


def _shape_of(part: Part) -> tuple:
    def shape(attributes: dict[str, Attribute]) -> tuple:
        return tuple(sorted((name, a.type, str(a.values.dtype), a.normalized) for name, a in attributes.items()))

    return shape(part.attributes), tuple(shape(target) for target in part.targets)


def _merged(parts: list[Part]) -> Part:
    def joined(sets: list[dict[str, Attribute]]) -> dict[str, Attribute]:
        return {
            name: Attribute(np.concatenate([attributes[name].values for attributes in sets]), one.type, one.normalized)
            for name, one in sets[0].items()
        }

    offsets = np.cumsum([0] + [len(part.attributes["POSITION"].values) for part in parts])
    triangles = np.concatenate([part.triangles + offset for part, offset in zip(parts, offsets, strict=False)])
    targets = tuple(joined([part.targets[index] for part in parts]) for index in range(len(parts[0].targets)))
    return Part(joined([part.attributes for part in parts]), triangles.astype(np.int32), parts[0].material, targets)


def _split(
    primitive: Primitive, uvs: NDArray[np.float32], material: int, tangents: bool, keep_source_uvs: bool
) -> Part:
    """Give a primitive its sheet UVs, splitting vertices where the sheet has a seam and nowhere else."""
    count = len(primitive.triangles)
    columns = [primitive.triangles.reshape(-1, 1).astype(np.int64)]
    columns.append(np.ascontiguousarray(uvs.reshape(-1, 2)).view(np.int32).astype(np.int64))
    frame = corner_tangents(primitive, uvs.astype(np.float64)) if tangents else None
    if frame is not None:
        columns.append((frame[..., 3].reshape(-1, 1) > 0).astype(np.int64))
    flat = primitive.normals is None
    if flat:
        normals = corner_normals(primitive).astype(np.float32).reshape(-1, 3)
        columns.append(np.ascontiguousarray(normals).view(np.int32).astype(np.int64))
    rows = np.ascontiguousarray(np.concatenate(columns, axis=1))
    packed = rows.view([("", np.int64)] * rows.shape[1])[:, 0]
    _, corner, number = np.unique(packed, return_index=True, return_inverse=True)
    vertex = primitive.triangles.reshape(-1)[corner]
    attributes = {"POSITION": Attribute(primitive.positions[vertex], "VEC3", False)}
    if flat:
        attributes["NORMAL"] = Attribute(normals[corner], "VEC3", False)
    else:
        smooth = corner_normals(primitive).reshape(-1, 3)[corner]
        smooth = smooth / np.maximum(np.linalg.norm(smooth, axis=1, keepdims=True), 1e-20)
        attributes["NORMAL"] = Attribute(smooth.astype(np.float32), "VEC3", False)
    if frame is not None:
        attributes["TANGENT"] = Attribute(frame.reshape(-1, 4)[corner].astype(np.float32), "VEC4", False)
    attributes["TEXCOORD_0"] = Attribute(np.ascontiguousarray(uvs.reshape(-1, 2)[corner]), "VEC2", False)
    if keep_source_uvs:
        kept = [uv_set for uv_set in primitive.uv_sets if len(uv_set)]
        for index, uv_set in enumerate(kept):
            attributes[f"TEXCOORD_{index + 1}"] = Attribute(uv_set[vertex], "VEC2", False)
    for name, attribute in primitive.extra.items():
        if not name.startswith("COLOR_"):
            attributes[name] = Attribute(attribute.values[vertex], attribute.type, attribute.normalized)
    targets = tuple(
        {
            name: Attribute(a.values[vertex], a.type, a.normalized)
            for name, a in target.items()
            if name != "TANGENT" and not name.startswith(("TEXCOORD", "COLOR"))
        }
        for target in primitive.targets
    )
    triangles = number.reshape(count, 3).astype(np.int32)
    return Part(attributes, triangles, material, targets)
