"""PLY and STL files into a scene: one mesh without UVs, with the colours of its vertices.

Both are taken to be in metres with y pointing up; colours are taken to be sRGB.
"""

from __future__ import annotations

import io
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.errors import MalformedFile
from fasciculum.io.objects import find_objects, plain_name
from fasciculum.io.pixels import PixelStore
from fasciculum.io.places import read_file
from fasciculum.io.polygons import Polygons, demand_sound
from fasciculum.io.tree_building import TreeBuilder
from fasciculum.kernels.unique_rows import unique_rows
from fasciculum.later import Later
from fasciculum.model.digests import digest_of
from fasciculum.model.finding import Finding
from fasciculum.model.lookup import HERE, Lookup
from fasciculum.model.scene import Mesh, Node, Scene, Source
from fasciculum.progress import SILENT, Progress
from fasciculum.units import srgb_to_linear

trimesh = Later("trimesh", rare=True)


def read_ply_or_stl(
    path: Path, store: PixelStore, *, named: str = "", lookup: Lookup = HERE, progress: Progress = SILENT
) -> tuple[Scene, tuple[Finding, ...]]:
    """Read a .ply or .stl file as one object.

    Parameters
    ----------
    path : Path
    store : PixelStore
        Not used: such files hold no images.
    named : str
        How the file was named by whoever asked.
    lookup : Lookup
        Not used: such files name no others.

    Returns
    -------
    scene : Scene
        STL's corners at one place are joined. Normals of PLY files are kept; without any, shading is flat.
    findings : tuple of Finding

    Raises
    ------
    MissingFile, MalformedFile, UnsupportedInput
    """
    progress.update(0.0, f"Reading {path.name}")
    data = read_file(path)
    kind = path.suffix.lower().removeprefix(".")
    try:
        mesh = trimesh.load(io.BytesIO(data), file_type=kind, process=False, force="mesh", skip_texture=True)
        positions = np.asarray(mesh.vertices, np.float64).reshape(-1, 3)
        faces = np.asarray(mesh.faces, np.int64).reshape(-1, 3)
        colors = _colors(mesh, len(positions))
        normals = _normals(mesh)
    except Exception as error:  # the library raises many kinds on damaged data
        words = str(error).splitlines()[0][:200] if str(error) else type(error).__name__
        raise MalformedFile(f"the file cannot be read ({words}).", file=path.name, hint="Export it again.") from error
    if kind == "stl":
        first, places = unique_rows(np.ascontiguousarray(positions, np.float32).view(np.int32).astype(np.int64))
        positions, faces = positions[first], places[faces]
        normals = colors = None
    corners = faces.reshape(-1)
    polygons = Polygons(
        positions,
        corners,
        np.arange(0, len(corners) + 1, 3, dtype=np.int64),
        np.full(len(faces), -1, np.int64),
    )
    demand_sound(polygons, path.name, "")
    polygons.normals = normals[corners] if normals is not None and len(normals) == len(positions) else None
    polygons.colors = None if colors is None else colors[corners]
    demand_sound(polygons, path.name, "")
    name = plain_name(path.stem)
    builder = TreeBuilder()
    builder.add(name, np.eye(4), mesh=0)
    source = Source(named or str(path), str(path.resolve()), digest_of(data), tree=builder.tree([]))
    nodes = (Node(name, -1, np.eye(4), 0, 0, 0),)
    scene = Scene((source,), nodes, (Mesh(name, polygons.primitives()),))
    findings: list[Finding] = []
    return replace(scene, objects=find_objects(scene, path.name, findings)), tuple(findings)


def _normals(mesh: Any) -> NDArray[np.float64] | None:
    """Return the normals of vertices that the file has, shape (V, 3): the library works out others when it has none."""
    data = mesh.metadata.get("_ply_raw", {}).get("vertex", {}).get("data")
    names = getattr(getattr(data, "dtype", None), "names", None) or tuple(data or ())
    if not {"nx", "ny", "nz"} <= set(names):
        return None
    return np.column_stack([np.asarray(data[name], np.float64).reshape(-1) for name in ("nx", "ny", "nz")])


def _colors(mesh: Any, count: int) -> NDArray[np.float64] | None:
    """Return linear colours of vertices, shape (V, 4), None where there are none, or none of vertices."""
    if getattr(mesh.visual, "kind", None) != "vertex":
        return None
    values = np.asarray(mesh.visual.vertex_colors, np.float64).reshape(-1, 4) / 255
    if len(values) != count:
        return None
    return np.concatenate([srgb_to_linear(values[:, :3]), values[:, 3:]], axis=1)
