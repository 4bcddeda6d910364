"""Gather: files into one scene, with findings on what is unusual."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path

from fasciculum.errors import InputError, MissingFile, UnsupportedInput
from fasciculum.io.formats.table import READ_FORMATS, loaded, suffixes
from fasciculum.io.objects import unique_name
from fasciculum.io.pixels import PixelStore
from fasciculum.model.finding import ERROR, Finding
from fasciculum.model.lookup import HERE, Lookup
from fasciculum.model.scene import Aside, Image, Material, Mesh, Object, Primitive, Scene, TextureSlot
from fasciculum.operations.check.measures import scene_findings
from fasciculum.operations.gather.unread import unread_textures
from fasciculum.progress import SILENT, Progress

#: models that one folder may hold
MOST_MODELS = 5_000


def gather(
    paths: Sequence[str],
    store: PixelStore,
    *,
    onto: Scene | None = None,
    lookup: Lookup = HERE,
    progress: Progress = SILENT,
) -> tuple[Scene, tuple[Finding, ...]]:
    """Read model files into one scene.

    Parameters
    ----------
    paths : sequence of str
        As they were named. A folder stands for all models in it and below; one that cannot be read is a finding
        there, while a file that was named itself is an error.
    store : PixelStore
    onto : Scene, optional
        A scene to add to.
    lookup : Lookup
        Where, beside the models' own folders, files may be found.

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
    files = [entry for named in paths for entry in _models(named)]
    for number, (named, own) in enumerate(files):
        part = progress.part(0.98 * number / len(files), 0.98 * (number + 1) / len(files))
        path = Path(named)
        format_ = READ_FORMATS.get(path.suffix.lower())
        if format_ is None:
            raise UnsupportedInput(
                f"files that end in {path.suffix or 'nothing'} cannot be gathered.",
                file=named,
                hint=f"Export the model as {suffixes()}.",
            )
        try:
            result, noticed = loaded(format_.reads)(path, store, named=named, lookup=lookup, progress=part)
        except InputError as error:
            if own:
                raise
            findings.append(
                Finding("unreadable", ERROR, f"{named} was left out: {error.message}", error.hint or "Export it again.")
            )
            continue
        scene = join_scenes(scene, result)
        findings += noticed
    if not scene.sources:
        raise UnsupportedInput(findings[0].message, file=paths[0], hint="None of the folder's models could be read.")
    progress.update(0.99, "Looking for what is unusual")
    freeze_arrays(scene)
    told = scene_findings(scene)
    # an image that objects read is told with them
    with_objects = {(one.code, one.image) for one in told if one.object}
    rest = [one for one in findings if not one.image or (one.code, one.image) not in with_objects]
    return scene, (*rest, *told, *unread_textures(scene, findings))


def freeze_arrays(scene: Scene) -> None:
    """Work out the digests that tell objects apart, while the artist is waiting anyway."""
    # both are worked out when they are first asked for, and kept with the scene
    _ = scene.shapes, scene.surfaces


def with_names(scene: Scene, names: Mapping[str, str]) -> Scene:
    """Return a scene whose sources, by their paths, go by the names that they were first given."""
    renamed = tuple(replace(source, named=names.get(source.path) or source.named) for source in scene.sources)
    scene = replace(scene, sources=renamed)
    freeze_arrays(scene)
    return scene


def _models(named: str) -> list[tuple[str, bool]]:
    """Return the models that a name stands for, and whether each was named itself.

    Raises
    ------
    MissingFile
        When there is nothing of that name, or no model in the folder.
    """
    path = Path(named)
    if not named or not path.exists():
        raise MissingFile("there is no such file.", file=named, hint="Check its path.")
    if not path.is_dir():
        return [(named, True)]
    results: list[tuple[str, bool]] = []
    for folder, folders, files in os.walk(path):
        folders[:] = sorted(name for name in folders if not name.startswith("."))
        for name in sorted(files):
            if Path(name).suffix.lower() in READ_FORMATS and not name.startswith("."):
                results.append((str(Path(folder) / name), False))
        if len(results) > MOST_MODELS:
            raise UnsupportedInput(
                f"the folder holds more than {MOST_MODELS} models.", file=named, hint="Name a smaller folder."
            )
    if not results:
        raise MissingFile("the folder holds no model.", file=named, hint=f"Name a folder with {suffixes()} files.")
    return results


def join_scenes(one: Scene, two: Scene) -> Scene:
    """Return both scenes as one; object keys of the second are made unique."""
    images, place = _joined_images(one, two)
    materials = len(one.materials)
    meshes, nodes, sources = len(one.meshes), len(one.nodes), len(one.sources)

    def slot(value: TextureSlot | None) -> TextureSlot | None:
        return None if value is None else replace(value, image=place[value.image])

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
    numbers: dict[str, int] = {}
    objects: list[Object] = []
    for item in two.objects:
        key = unique_name(item.key, taken, numbers)
        taken.add(key)
        objects.append(replace(item, key=key, node=item.node + nodes))
    return replace(
        one,
        sources=one.sources
        + tuple(replace(item, images=tuple(place[index] for index in item.images)) for item in two.sources),
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
        images=images,
        objects=one.objects + tuple(objects),
    )


def _joined_images(one: Scene, two: Scene) -> tuple[tuple[Image, ...], list[int]]:
    """Return the images of both scenes, each once, and where those of the second went.

    Images are the same when their files hold the same bytes, or when the same file is missing.
    """

    def identity(image: Image) -> tuple[str, str]:
        return ("pixels", image.pixels) if image.pixels else ("missing", image.path)

    images = list(one.images)
    known = {identity(image): index for index, image in enumerate(images) if image.pixels or image.path}
    place = []
    for image in two.images:
        present = known.get(identity(image)) if image.pixels or image.path else None
        if present is None:
            present = len(images)
            images.append(image)
            known[identity(image)] = present
        place.append(present)
    return tuple(images), place
