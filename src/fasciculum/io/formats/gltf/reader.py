"""A glTF file into a scene: the node tree, and what each node draws."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from fasciculum.errors import UnsupportedInput
from fasciculum.io.formats.gltf.carried import judge_carried, report_extensions, report_rest
from fasciculum.io.formats.gltf.container import Container, open_container
from fasciculum.io.formats.gltf.materials import gltf_images, read_materials
from fasciculum.io.formats.gltf.nodes import read_nodes
from fasciculum.io.formats.gltf.primitives import read_mesh
from fasciculum.io.formats.gltf.read_tree import read_tree
from fasciculum.io.objects import find_objects
from fasciculum.io.pixels import PixelStore
from fasciculum.model.digests import digest_of
from fasciculum.model.finding import Finding
from fasciculum.model.lookup import HERE, Lookup
from fasciculum.model.scene import Scene, Source
from fasciculum.progress import SILENT, Progress

#: required extensions that are honoured, or that change nothing about reading
UNDERSTOOD = {
    "KHR_texture_transform",
    "KHR_materials_emissive_strength",
    "KHR_materials_unlit",
    "KHR_mesh_quantization",
    "KHR_lights_punctual",
    "EXT_texture_webp",
    "EXT_mesh_gpu_instancing",
    "KHR_materials_pbrSpecularGlossiness",
    "KHR_draco_mesh_compression",
    "EXT_meshopt_compression",
}

#: extensions that a file may require and that can be done without: what they say is carried through, or told as lost
SPARED = {
    "EXT_texture_avif",
    "KHR_animation_pointer",
    "KHR_node_hoverability",
    "KHR_node_selectability",
    "KHR_node_visibility",
    "KHR_xmp_json_ld",
    "MSFT_texture_dds",
}


def read_gltf(
    path: Path, store: PixelStore, *, named: str = "", lookup: Lookup = HERE, progress: Progress = SILENT
) -> tuple[Scene, tuple[Finding, ...]]:
    """Read a .gltf or .glb file.

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
    findings : tuple of Finding
        What was not understood, missing or unusual.

    Raises
    ------
    MissingFile, MalformedFile, UnsupportedInput
    """
    progress.update(0.0, f"Reading {path.name}")
    container = open_container(path, lookup)
    document = container.document
    # what only adds to a look, or to what stands at nodes, can be done without and is told
    required = (name for name in document.extensions_required if not name.startswith("KHR_materials_"))
    unknown = sorted(set(required) - UNDERSTOOD - SPARED)
    if unknown:
        raise UnsupportedInput(
            f"the file requires {', '.join(unknown)[:300]}, which is not understood.",
            file=path.name,
            item="extensionsRequired",
            hint="Export it without that extension.",
        )
    findings: list[Finding] = []
    meshes = []
    for index, mesh in enumerate(document.meshes):
        if index % 32 == 0:
            progress.update(0.02 + 0.18 * index / len(document.meshes), f"Reading {mesh.name[:80] or 'meshes'}")
        meshes.append(read_mesh(container, index, findings))
    judge_carried(container)
    nodes = read_nodes(container, tuple(meshes), findings)
    images = list(gltf_images(container, store, progress.part(0.2, 0.95), findings))
    named_images = len(images)
    materials = read_materials(container, images, store, findings)
    tree = read_tree(container)
    report_extensions(container, UNDERSTOOD, findings)
    report_rest(container, findings)
    source = Source(
        named=named or str(path),
        path=str(path.resolve()),
        digest=_digest(container),
        images=tuple(range(named_images)),
        beside=_files_beside(container),
        tree=tree,
    )
    scene = Scene((source,), tuple(nodes), tuple(meshes), materials, tuple(images))
    progress.update(0.97, "Finding the objects")
    return replace(scene, objects=find_objects(scene, path.name, findings)), tuple(findings)


def _files_beside(container: Container) -> tuple[str, ...]:
    """Return the buffers' files that were read."""
    named = {buffer.uri for buffer in container.document.buffers}
    return tuple(sorted(str(path.resolve()) for name, path in container.places.read.items() if name in named))


def _digest(container: Container) -> str:
    """Return a digest of the file and of the buffers beside it that were read."""
    beside = [data for index, data in sorted(container.buffers.items()) if container.document.buffers[index].uri]
    return digest_of(container.data, *(bytes(data) for data in beside))
