"""An OBJ file into a scene: one object for each that it names, with vertices made of its separate numbers."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.errors import MalformedFile
from fasciculum.io.formats.obj.lines import Lines, read_lines
from fasciculum.io.formats.obj.materials import Palette
from fasciculum.io.formats.obj.shade import smooth_normals
from fasciculum.io.objects import find_objects, plain_name
from fasciculum.io.pixels import PixelStore
from fasciculum.io.places import Places, read_file
from fasciculum.io.polygons import FARTHEST, LARGEST
from fasciculum.kernels.unique_rows import unique_rows
from fasciculum.kernels.unwrapping.polygons import triangulate
from fasciculum.model.attributes import Attribute
from fasciculum.model.digests import digest_of
from fasciculum.model.finding import INFO, WARNING, Finding
from fasciculum.model.lookup import HERE, Lookup
from fasciculum.model.scene import Aside, Mesh, Node, Primitive, Scene, Source
from fasciculum.model.tree import Tree, TreeNode
from fasciculum.progress import SILENT, Progress
from fasciculum.units import srgb_to_linear


def read_obj(
    path: Path, store: PixelStore, *, named: str = "", lookup: Lookup = HERE, progress: Progress = SILENT
) -> tuple[Scene, tuple[Finding, ...]]:
    """Read an OBJ file with its material libraries.

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
        UVs have v pointing down; vertex colours are decoded from sRGB.
    findings : tuple of Finding

    Raises
    ------
    MissingFile, MalformedFile, UnsupportedInput
    """
    findings: list[Finding] = []
    data = read_file(path)
    lines = read_lines(data, path, progress.part(0.0, 0.45))
    far = np.flatnonzero((np.abs(lines.positions) > FARTHEST).any(axis=1))
    if len(far):
        raise MalformedFile(
            f"position {far[0] + 1} is more than {FARTHEST:g} m away.", file=path.name, hint="Export the model again."
        )
    places = Places(path, lookup)
    palette = Palette(places, store, findings)
    palette.open(
        [name for _, word, value in lines.states if word == b"mtllib" for name in _library_names(value, places)]
    )
    faces = _Faces(lines)
    progress.update(0.5, "Triangulating")
    materials = palette.materials(faces.materials, progress.part(0.5, 0.9))
    meshes: list[Mesh] = []
    nodes: list[Node] = []
    for number, name in enumerate(name or path.stem for name in faces.names):
        if number % 64 == 0:
            progress.update(0.9 + 0.1 * number / max(len(faces.names), 1), f"Building {name[:80]}")
        mesh = Mesh(name, faces.primitives(number), faces.strokes(number))
        if mesh.primitives or mesh.aside:
            nodes.append(Node(name, -1, np.eye(4), len(meshes), 0, len(meshes)))
            meshes.append(mesh)
    _tell(lines, path, findings)
    source = Source(
        named=named or str(path),
        path=str(path.resolve()),
        digest=digest_of(data, *(read_file(library) for library in palette.libraries)),
        images=tuple(range(len(palette.images))),
        beside=tuple(str(library.resolve()) for library in palette.libraries),
        tree=Tree(tuple(TreeNode(node.name, mesh=node.mesh) for node in nodes)),
    )
    scene = Scene((source,), tuple(nodes), tuple(meshes), materials, tuple(palette.images))
    return replace(scene, objects=find_objects(scene, path.name, findings)), tuple(findings)


def _library_names(value: bytes, places: Places) -> list[str]:
    """Return the libraries that a statement names: one that may hold spaces, or several."""
    text = value.decode("utf-8", "replace").strip()
    if text.startswith('"'):
        return [part for part in text.split('"') if part.strip()]
    if " " not in text or places.exists(text):
        return [text]
    return text.split() if all(part.lower().endswith(".mtl") for part in text.split()) else [text]


def _tell(lines: Lines, path: Path, findings: list[Finding]) -> None:
    if lines.strokes:
        findings.append(
            Finding("not_triangles", INFO, f"{path.name} draws points or lines; they are delivered unchanged.")
        )
    if lines.curved:
        findings.append(
            Finding(
                "curves_left_out",
                WARNING,
                f"{path.name} holds free-form curves or surfaces, which are left out.",
                "Export them as faces.",
            )
        )


class _Faces:
    """The faces of a file by object and material."""

    def __init__(self, lines: Lines) -> None:
        self.lines = lines
        self.by_objects = any(word == b"o" for _, word, _ in lines.states)
        names: dict[str, int] = {}
        materials: dict[str, int] = {}
        self.owner, self.material, self.smooth = self._states(lines.face_lines, names, materials)
        self.stroke_owner, self.stroke_material, _ = self._states(
            np.array([line for line, _, _ in lines.strokes], np.int64), names, materials
        )
        self.names = [plain_name(name) if name else "" for name in names]
        self.materials = list(materials)
        self.stroke_places: dict[int, list[int]] = {}
        for place, owner in enumerate(self.stroke_owner):
            self.stroke_places.setdefault(int(owner), []).append(place)
        sizes = np.diff(lines.starts)
        self.triangles = np.zeros((int((sizes - 2).sum()), 3), np.int64)
        if len(lines.corners):
            triangulate(np.ascontiguousarray(lines.positions[lines.corners[:, 0]]), lines.starts, self.triangles)
        self.face = np.repeat(np.arange(len(sizes)), sizes - 2)
        numbers = lines.corners[self.triangles, 0]
        drawn = (numbers[:, 0] != numbers[:, 1]) & (numbers[:, 1] != numbers[:, 2]) & (numbers[:, 0] != numbers[:, 2])
        self.triangles, self.face = self.triangles[drawn], self.face[drawn]
        self.order = np.argsort(self.owner[self.face], kind="stable")
        self.bounds = np.searchsorted(self.owner[self.face][self.order], np.arange(len(self.names) + 1))
        self.normal_of = smooth_normals(lines, self.triangles, self.face, self.smooth)

    def _states(
        self, places: NDArray[np.int64], names: dict[str, int], materials: dict[str, int]
    ) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]]:
        """Return object, material and smoothing group in force at lines; group 0 is none."""
        naming = b"o" if self.by_objects else b"g"
        results = []
        for words, known in (((naming,), names), ((b"usemtl",), materials), ((b"s",), None)):
            at, numbers = [-1], [0 if known is None else -1]
            for line, word, value in self.lines.states:
                if word in words:
                    at.append(line)
                    numbers.append(_group(value) if known is None else known.setdefault(_text(value), len(known)))
            chosen = np.array(numbers, np.int64)[np.searchsorted(np.array(at), places) - 1]
            if known is not None and len(chosen) and (chosen < 0).any():
                chosen = np.where(chosen < 0, known.setdefault("", len(known)), chosen)
            results.append(chosen)
        return results[0], results[1], results[2]

    def primitives(self, number: int) -> tuple[Primitive, ...]:
        """Return an object's triangles by material, and apart where some have UVs and some have none."""
        rows = self.order[self.bounds[number] : self.bounds[number + 1]]
        made = []
        triangles = self.triangles[rows]
        bare = (self.lines.corners[triangles, 1] < 0).any(axis=1) if len(rows) else np.zeros(0, bool)
        kinds = self.material[self.face[rows]] * 2 + bare
        for kind in np.unique(kinds):
            chosen = rows[kinds == kind]
            made.append(self._primitive(chosen, int(kind) // 2, not kind % 2))
        return tuple(made)

    def _primitive(self, rows: NDArray[np.int64], material: int, textured: bool) -> Primitive:
        lines = self.lines
        corners = lines.corners[self.triangles[rows]].reshape(-1, 3)
        shaded = self.normal_of[rows].reshape(-1)
        columns = [corners[:, 0], corners[:, 1] if textured else np.full(len(corners), -1), shaded]
        key = np.stack(columns, axis=1)
        first, inverse = unique_rows(key)
        place, uv, normal = key[first].T
        uvs: tuple[NDArray[np.float32], ...] = ()
        if textured and len(lines.uvs):
            read = np.clip(lines.uvs[uv], -LARGEST, LARGEST)
            uvs = (np.stack([read[:, 0], 1 - read[:, 1]], axis=1).astype(np.float32),)
        normals = None
        if (normal >= 0).all() and len(normal):
            normals = self.normals[normal].astype(np.float32)
        colors = None
        if lines.colors is not None:
            linear = srgb_to_linear(np.clip(lines.colors[place], 0, 1))
            colors = np.concatenate([linear, np.ones((len(place), 1))], axis=1).astype(np.float32)
        return Primitive(
            lines.positions[place].astype(np.float32),
            inverse.reshape(-1, 3).astype(np.int32),
            normals,
            None,
            uvs,
            colors,
            material if self.materials[material] else -1,
        )

    @property
    def normals(self) -> NDArray[np.float64]:
        """The file's normals, and behind them those that were made for smoothing groups."""
        return self.lines.normals

    def strokes(self, number: int) -> tuple[Aside, ...]:
        """Return an object's points and lines."""
        made = []
        for place in self.stroke_places.get(number, []):
            _, word, numbers = self.lines.strokes[place]
            if len(numbers) < (2 if word == b"l" else 1):
                continue
            positions = self.lines.positions[numbers].astype(np.float32)
            attributes: dict[str, Any] = {"POSITION": Attribute(positions, "VEC3", False)}
            material = int(self.stroke_material[place])
            made.append(Aside(3 if word == b"l" else 0, attributes, None, material if self.materials[material] else -1))
        return tuple(made)


def _text(value: bytes) -> str:
    try:
        return value.decode("utf-8")
    except UnicodeDecodeError:
        return value.decode("latin-1")


def _group(value: bytes) -> int:
    word = value.split()[0] if value.split() else b"0"
    return int(word) if word.isdigit() and len(word) < 10 else 0
