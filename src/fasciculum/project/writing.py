"""Writing a document into a .fasc file: a zip of ``project.json``, arrays and maps."""

from __future__ import annotations

import io
import os
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from fasciculum.model.document import Document
from fasciculum.model.layout import ISLAND_COLUMNS, Layout
from fasciculum.model.scene import Scene
from fasciculum.model.texturing import BakedMap
from fasciculum.project.archive import DOCUMENT
from fasciculum.project.codec import Encoder
from fasciculum.project.members import ARRAY_FIELDS, NOT_STORED, OF_SCENE, SURFACE_ARRAYS
from fasciculum.project.upgrades import VERSION


def project_bytes(document: Document, folder: Path, encoded_map: Callable[[str], bytes]) -> bytes:
    """Return a document as the bytes of a .fasc file.

    Parameters
    ----------
    document : Document
    folder : Path
        Where the file will lie; sources are referred to from there.
    encoded_map : callable
        Returns a baked map, by its key, as PNG.
    """
    members = _Members(folder, encoded_map)
    scene, detail = document.scene, document.scene.detail
    cages = None if detail is None else detail.cages
    entry = {
        "schema": VERSION,
        "sources": members.sources(scene),
        "high": [] if detail is None else members.sources(detail.scene),
        "cages": [] if cages is None else members.sources(cages),
        "shapes": dict(sorted(scene.shapes.items())),
        **{name: members.encoder.encode(getattr(scene, name), kind) for name, kind in OF_SCENE.items()},
        **members.encoder.fields(document, without=NOT_STORED),
    }
    stream = io.BytesIO()
    with zipfile.ZipFile(stream, "w", zipfile.ZIP_STORED) as archive:
        # first, so that it survives when the end of the file is lost
        text = msgspec.json.format(msgspec.json.encode(entry), indent=1)
        archive.writestr(_entry_info(DOCUMENT, zipfile.ZIP_DEFLATED), text)
        for name, data in members.data.items():
            archive.writestr(_entry_info(name), data)
    return stream.getvalue()


class _Members:
    """What lies in a project file beside its JSON: the arrays of layouts, and maps."""

    def __init__(self, folder: Path, encoded_map: Callable[[str], bytes]) -> None:
        self._folder, self._encoded_map = folder.resolve(), encoded_map
        self.data: dict[str, bytes] = {}
        self.encoder = Encoder(self._seen, {Layout: self._layout, BakedMap: self._map})

    def _seen(self, file: str) -> str:
        """Return a file's path as seen from the project's folder."""
        return os.path.relpath(file, self._folder)

    def sources(self, scene: Scene) -> list[dict[str, str]]:
        return [
            {"path": self._seen(source.path), "digest": source.digest, "named": source.named}
            for source in scene.sources
        ]

    def _layout(self, layout: Layout) -> dict[str, Any]:
        arrays = f"layouts/{sum(name.startswith('layouts/') for name in self.data)}.npz"
        self.data[arrays] = _layout_arrays(layout)
        surfaces = [
            self.encoder.fields(one, without=SURFACE_ARRAYS) | {"triangles": len(one.corners)}
            for one in layout.surfaces
        ]
        return self.encoder.fields(layout, without=ARRAY_FIELDS) | {"surfaces": surfaces, "arrays": arrays}

    def _map(self, baked: BakedMap) -> dict[str, Any]:
        file = f"maps/{baked.pixels}.{'exr' if baked.format == 'exr' else 'png'}"
        if file not in self.data:
            self.data[file] = self._encoded_map(baked.pixels)
        return self.encoder.fields(baked) | {"pixels": file}


def _entry_info(name: str, method: int = zipfile.ZIP_STORED) -> zipfile.ZipInfo:
    """Return an archive member without a date, so that the same project gives the same bytes."""
    info = zipfile.ZipInfo(name, (1980, 1, 1, 0, 0, 0))
    info.compress_type = method
    return info


def _layout_arrays(layout: Layout) -> bytes:
    """Return a layout's arrays as .npz, without dates: NumPy's own writer puts the time into the archive."""
    surfaces = layout.surfaces
    arrays: dict[str, NDArray[Any]] = {
        "placements": layout.placements,
        **{
            column.entry: getattr(layout, column.name)
            for column in ISLAND_COLUMNS
            if column.name != "fields" or layout.on_given
        },
        **{
            name: np.concatenate([getattr(one, name) for one in surfaces]) if surfaces else np.zeros(shape, kind)
            for name, (kind, shape) in SURFACE_ARRAYS.items()
        },
    }
    stream = io.BytesIO()
    with zipfile.ZipFile(stream, "w") as archive:
        for name, array in arrays.items():
            part = io.BytesIO()
            np.save(part, array, allow_pickle=False)
            archive.writestr(_entry_info(f"{name}.npy", zipfile.ZIP_DEFLATED), part.getvalue())
    return stream.getvalue()
