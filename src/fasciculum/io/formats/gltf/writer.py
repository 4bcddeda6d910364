"""A delivery as glTF: one .glb, or .gltf with a .bin beside it."""

from __future__ import annotations

from typing import Any

from fasciculum.io.formats.gltf.builder import INDEX_DATA, VERTEX_DATA, Builder
from fasciculum.io.formats.gltf.quantizing import quantized
from fasciculum.io.formats.gltf.write_draco import can_compress, write_part
from fasciculum.io.formats.gltf.write_materials import MaterialWriter
from fasciculum.io.formats.gltf.write_meshopt import in_order_of_use
from fasciculum.io.formats.gltf.write_tree import write_tree
from fasciculum.model.attributes import Attribute
from fasciculum.model.choices import MeshCompression
from fasciculum.model.output import OutputScene, Part
from fasciculum.model.scene import Aside


def write_glb(scene: OutputScene) -> dict[str, bytes]:
    """Return the file of a delivery as GLB, by its name.

    Raises
    ------
    OutputError
        When it would be larger than the format's 4 GiB.
    """
    builder, root = _built(scene)
    return {f"{scene.name}.glb": builder.glb(root)}


def write_gltf(scene: OutputScene) -> dict[str, bytes]:
    """Return the files of a delivery as .gltf and .bin, by their names; images with a ``uri`` are referred to."""
    builder, root = _built(scene)
    text, binary = builder.gltf(root, f"{scene.name}.bin")
    return {f"{scene.name}.bin": binary, f"{scene.name}.gltf": text}


def _built(scene: OutputScene) -> tuple[Builder, dict[str, Any]]:
    """Write everything into a builder; return it, and what the file's JSON starts with."""
    storage = scene.storage
    compression = storage.compression
    if storage.quantize and compression is not MeshCompression.DRACO:
        scene = quantized(scene)
    builder = Builder(meshopt=compression is MeshCompression.MESHOPT)
    materials = MaterialWriter(builder, scene.images)
    for material in scene.materials:
        builder.add("materials", materials.material(material.material))
    # meshes that nothing is in are not written
    numbers: dict[int, int] = {}
    for number, mesh in enumerate(scene.meshes):
        if mesh.parts or mesh.aside:
            numbers[number] = builder.add("meshes", _mesh(builder, scene, number))
    root = write_tree(builder, scene.tree, numbers)
    asset: dict[str, Any] = {"version": "2.0", "generator": scene.generator}
    if scene.tree.copyright:
        asset["copyright"] = scene.tree.copyright
    if scene.tree.asset_extras is not None:
        asset["extras"] = scene.tree.asset_extras
    return builder, {"asset": asset} | root


def _mesh(builder: Builder, scene: OutputScene, number: int) -> dict[str, Any]:
    mesh = scene.meshes[number]
    scale = scene.scale_of(number) if scene.storage.compression is MeshCompression.DRACO else 1.0
    primitives = [_part(builder, part, scene, scale) for part in mesh.parts]
    primitives += [_aside(builder, part) for part in mesh.aside]
    results: dict[str, Any] = {"name": mesh.name, "primitives": primitives}
    if mesh.weights:
        results["weights"] = list(mesh.weights)
    if mesh.further.extras is not None:
        results["extras"] = mesh.further.extras
    return results


def _attributes(builder: Builder, attributes: dict[str, Attribute]) -> dict[str, int]:
    return {
        name: builder.attribute(attribute, target=VERTEX_DATA, bounds=name == "POSITION")
        for name, attribute in attributes.items()
    }


def _part(builder: Builder, part: Part, scene: OutputScene, scale: float) -> dict[str, Any]:
    compression = scene.storage.compression
    if compression is MeshCompression.DRACO and can_compress(part):
        written = write_part(builder, part, scene.texels_of(part.material), scale, scene.storage.losses)
    else:
        part = in_order_of_use(part) if compression is MeshCompression.MESHOPT else part
        written = {
            "attributes": _attributes(builder, part.attributes),
            "indices": builder.indices(part.triangles),
        }
    if part.material >= 0:
        written["material"] = part.material
    if part.targets:
        written["targets"] = [_attributes(builder, target) for target in part.targets]
    return written


def _aside(builder: Builder, part: Aside) -> dict[str, Any]:
    written: dict[str, Any] = {"mode": part.mode, "attributes": _attributes(builder, part.attributes)}
    if part.indices is not None:
        written["indices"] = builder.attribute(part.indices, target=INDEX_DATA)
    if part.material >= 0:
        written["material"] = part.material
    return written
