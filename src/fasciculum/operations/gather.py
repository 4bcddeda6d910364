"""Gather: files into one scene, with findings on what is unusual."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from fasciculum.checks.registry import check_scene
from fasciculum.errors import MissingFile, UnsupportedInput
from fasciculum.io.formats.gltf.reader import read_gltf, unique_name
from fasciculum.io.pixels import PixelStore
from fasciculum.model.finding import Finding
from fasciculum.model.scene import Aside, Material, Mesh, Object, Primitive, Scene, TextureSlot
from fasciculum.progress import SILENT, Progress

READERS = {".glb": read_gltf, ".gltf": read_gltf}


def gather(
    paths: Sequence[str], store: PixelStore, *, onto: Scene | None = None, progress: Progress = SILENT
) -> tuple[Scene, tuple[Finding, ...]]:
    """Read model files into one scene.

    Parameters
    ----------
    paths : sequence of str
        As they were named.
    store : PixelStore
    onto : Scene, optional
        A scene to add to.

    Returns
    -------
    scene : Scene
    findings : tuple of Finding

    Raises
    ------
    InputError
        Names the file and what is wrong with it; nothing of the others is kept.
    """
    scene = onto or Scene()
    findings: list[Finding] = []
    for number, named in enumerate(paths):
        part = progress.part(number / len(paths), (number + 1) / len(paths))
        path = Path(named)
        if not path.exists():
            raise MissingFile("there is no such file.", file=named, hint="Check its path.")
        reader = READERS.get(path.suffix.lower())
        if reader is None:
            raise UnsupportedInput(
                f"files that end in {path.suffix or 'nothing'} cannot be gathered.",
                file=named,
                hint="Export the model as .glb or .gltf.",
            )
        found, noticed = reader(path, store, named=named, progress=part)
        scene = join_scenes(scene, found)
        findings += noticed
    return scene, (*findings, *check_scene(scene))


def join_scenes(one: Scene, two: Scene) -> Scene:
    """Return both scenes as one; object keys of the second are made unique."""
    images, materials = len(one.images), len(one.materials)
    meshes, nodes, sources = len(one.meshes), len(one.nodes), len(one.sources)

    def slot(value: TextureSlot | None) -> TextureSlot | None:
        return None if value is None else replace(value, image=value.image + images)

    def material(value: Material) -> Material:
        roles = ("base_color", "metallic_roughness", "normal", "occlusion", "emissive")
        slots = {role: slot(getattr(value, role)) for role in roles}
        return replace(value, source=value.source + sources, **slots)  # type: ignore[arg-type]

    def shifted(index: int) -> int:
        return index if index < 0 else index + materials

    def mesh(value: Mesh) -> Mesh:
        primitives: tuple[Primitive, ...] = tuple(
            replace(part, material=shifted(part.material)) for part in value.primitives
        )
        aside: tuple[Aside, ...] = tuple(replace(part, material=shifted(part.material)) for part in value.aside)
        return replace(value, primitives=primitives, aside=aside)

    taken = {item.key for item in one.objects}
    objects: list[Object] = []
    for item in two.objects:
        key = unique_name(item.key, taken)
        taken.add(key)
        objects.append(replace(item, key=key, node=item.node + nodes))
    return Scene(
        sources=one.sources + tuple(replace(item, first_image=item.first_image + images) for item in two.sources),
        nodes=one.nodes
        + tuple(
            replace(
                node,
                parent=node.parent + nodes if node.parent >= 0 else -1,
                mesh=node.mesh + meshes if node.mesh >= 0 else -1,
                source=node.source + sources,
            )
            for node in two.nodes
        ),
        meshes=one.meshes + tuple(mesh(value) for value in two.meshes),
        materials=one.materials + tuple(material(value) for value in two.materials),
        images=one.images + two.images,
        objects=one.objects + tuple(objects),
    )
