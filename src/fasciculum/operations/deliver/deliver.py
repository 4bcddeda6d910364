"""Deliver: meshes with sheet UVs, one material for each bundle, and its textures, into a folder."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from fasciculum.io.formats.table import WRITTEN_FORMATS, Format, loaded
from fasciculum.io.pixels import PixelStore
from fasciculum.model.choices import Combine, Green, MeshCompression
from fasciculum.model.document import Document
from fasciculum.model.finding import INFO, WARNING, Finding
from fasciculum.model.maps import NORMAL
from fasciculum.model.output import MeshLosses, OutputScene, SourceStage
from fasciculum.operations.deliver.compressing import encoded_files
from fasciculum.operations.deliver.conventions import delivery_name, texture_files
from fasciculum.operations.deliver.lights import light_is_baked
from fasciculum.operations.deliver.scene import SceneBuilder, ready_bundles
from fasciculum.operations.deliver.writing import write_all
from fasciculum.progress import SILENT, Progress

#: kinds of models that hold their textures unless they are asked to lie beside
HOLDS_TEXTURES = ("glb",)


@dataclass
class Delivered:
    """What a delivery wrote: file names in the folder, which of them changed, and the textures of each bundle.

    ``maps`` gives the file of each (bundle, baked map); where a packing makes several of one, the first.
    """

    files: list[str] = field(default_factory=list)
    changed: list[str] = field(default_factory=list)
    maps: dict[tuple[str, str], str] = field(default_factory=dict)
    findings: list[Finding] = field(default_factory=list)
    #: the most that compressing or quantizing meshes changed; None where neither is done
    compression: MeshLosses | None = None


def deliver(
    document: Document, folder: Path, store: PixelStore, *, only: Sequence[str] = (), progress: Progress = SILENT
) -> Delivered:
    """Write the models and the textures of a document, all of them or none.

    Parameters
    ----------
    document : Document
        Bundles without baked maps, and objects that are not on their bundle's layout, are delivered as they came.
    folder : Path
        Made when it is missing; nothing else in it is touched.
    only : sequence of str
        Write the textures of these maps alone, and the models; files of other maps stay as they are.

    Raises
    ------
    OutputError
    UsageError
        When the names' pattern makes no sense.
    """
    made = _Making(document, folder, store, progress)
    files = made.files()
    result = made.result
    beside = _high_poly(document)
    if beside is not None:
        files |= _Making(beside, folder, store, progress.quiet()).files()
    if only:
        others = {texture.file for textures in made.textures.values() for texture in textures}
        others -= {
            texture.file for textures in made.textures.values() for texture in textures if texture.baked.name in only
        }
        files = {name: data for name, data in files.items() if name not in others}
    # models are told first, and written last
    models = tuple(entry.suffix for entry in WRITTEN_FORMATS)
    result.files = sorted(files, key=lambda name: not name.endswith(models))
    result.findings += [Finding("delivered_otherwise", INFO, words) for words in notes_on(document)]
    result.changed = write_all(folder, files, progress=progress.part(0.9, 1.0))
    progress.update(1.0, "Delivered")
    return result


def delivered_names(document: Document) -> list[str]:
    """Return the names of the files that a delivery would write.

    Raises
    ------
    UsageError
    """
    ready = ready_bundles(document)
    textures = [texture.file for files in texture_files(document, ready).values() for texture in files]
    name = delivery_name(document)
    endings = [ending for entry in _formats(document) for ending in (entry.suffix, *entry.beside)]
    beside = _high_poly(document)
    more = [] if beside is None else [f"{delivery_name(beside)}{ending}" for ending in endings]
    return textures + [f"{name}{ending}" for ending in endings] + more


def notes_on(document: Document) -> list[str]:
    """Return in words what is otherwise in the model files than in the files beside them."""
    ready, settings = ready_bundles(document), document.delivery
    normals = any(bundle.texturing is not None and bundle.texturing.map(NORMAL.name) is not None for bundle in ready)
    results = []
    held = [name for name in settings.models if name in HOLDS_TEXTURES and not settings.external_textures]
    if normals and settings.green is Green.DOWN and held:
        results.append(
            f"Normal maps within .{' and .'.join(held)} have green up, as glTF has it; those of the files beside have "
            "green down, as this delivery says."
        )
    if settings.lights and light_is_baked(ready):
        results.append("Lights are left out of the models, since their light is baked.")
    return results


def _high_poly(document: Document) -> Document | None:
    """Return the high-poly models of a document as one that is delivered as it came, None unless that is asked for."""
    detail, settings = document.scene.detail, document.delivery
    if detail is None or not settings.high:
        return None
    name = f"{delivery_name(document)}_high"
    plain = replace(settings, name=name, high=False, combine=Combine.NONE)
    return Document(name=name, scene=detail.scene, delivery=plain)


def _has_light_map(extras: Any) -> bool:
    return isinstance(extras, dict) and "light_map" in extras


def _formats(document: Document) -> list[Format]:
    """Return the formats of models that a document asks for."""
    return [entry for entry in WRITTEN_FORMATS if entry.name in document.delivery.models]


class _Making:
    """Puts the files of one delivery together."""

    def __init__(self, document: Document, folder: Path, store: PixelStore, progress: Progress) -> None:
        self.document, self.folder, self.store, self.progress = document, folder, store, progress
        self.textures = texture_files(document, ready_bundles(document))
        self.result = Delivered()

    def files(self) -> dict[str, bytes]:
        """Return every file by its name, textures before the models that refer to them."""
        settings = self.document.delivery
        bundles = {bundle.name: bundle for bundle in self.document.bundles}
        every = [(bundles[name], texture) for name, textures in self.textures.items() for texture in textures]
        files = encoded_files(every, settings, self.store, self.progress.part(0.0, 0.5))
        for bundle, textures in self.textures.items():
            for texture in textures:
                self.result.maps.setdefault((bundle, texture.baked.name), texture.file)
        builder = SceneBuilder(self.document, self.store, self.textures, self.progress)
        formats = _formats(self.document)
        for number, entry in enumerate(formats):
            self.progress.update(0.5 + 0.4 * number / len(formats), f"Building {builder.name}{entry.suffix}")
            upon = self._source_stage() if entry.layers else None
            refer = not entry.packs and (settings.external_textures or entry.refers)
            scene = (builder if upon is None else self._unmerged()).scene_with(files, refer=refer, upon=upon)
            files |= loaded(entry.writes)(scene)
            self._tell_losses(entry, scene, upon)
        self.result.findings += builder.findings
        if settings.has_gltf and (settings.quantize or settings.mesh_compression is not MeshCompression.NONE):
            self.result.compression = builder.losses
        return files

    def _source_stage(self) -> SourceStage | None:
        """Return the stage that the whole scene was made of, None where it was made of something else."""
        sources = self.document.scene.sources
        if len(sources) != 1 or not sources[0].paths:
            return None
        return SourceStage(Path(sources[0].path), sources[0].paths, self.folder)

    def _unmerged(self) -> SceneBuilder:
        """Return what builds the delivery with each mesh by itself, as a layer upon its source needs it."""
        delivery = replace(self.document.delivery, combine=Combine.NONE, keep_source_uvs=False)
        document = replace(self.document, delivery=delivery)
        return SceneBuilder(document, self.store, self.textures, self.progress)

    def _tell_losses(self, entry: Format, scene: OutputScene, upon: SourceStage | None) -> None:
        tree = scene.tree
        present = {
            "skins": bool(tree.skins),
            "morph targets": any(part.targets for mesh in scene.meshes for part in mesh.parts),
            "animations": bool(tree.animations),
            "cameras": bool(tree.cameras),
            "lights": bool(tree.lights),
            "light maps": any(_has_light_map(one.material.further.extras) for one in scene.materials),
        }
        # what lies beneath a layer stays as it was
        lost = [name for name in entry.lacks if present[name] and (upon is None or name == "light maps")]
        self.result.findings += upon.findings if upon is not None else ()
        if lost:
            self.result.findings.append(
                Finding(
                    f"{entry.name}_loses",
                    WARNING,
                    f"The {entry.suffix} file holds no {' and no '.join(lost)}; they are left out of it.",
                    "Deliver .glb where they are needed.",
                )
            )
