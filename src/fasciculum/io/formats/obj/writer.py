"""A delivery as OBJ with MTL: everything in world space, v pointing up as the format has it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from fasciculum.io.formats.gltf.delivery import Part
from fasciculum.io.names import unused_file
from fasciculum.model.scene import Aside
from fasciculum.units import linear_to_srgb

#: statements of the maps that have a file of their own; channels of packed ones are picked by an option
STATEMENTS = {
    "base_color": "map_Kd {file}",
    "normal": "norm {file}",
    "emissive": "map_Ke {file}",
    "roughness": "map_Pr {file}",
    "metallic": "map_Pm {file}",
    "orm": "map_Pr -imfchan g {file}\nmap_Pm -imfchan b {file}",
    "metal_smoothness": "map_Pm -imfchan r {file}",
}


@dataclass(frozen=True)
class ObjMaterial:
    """A material: constants (colours linear), and the files of its maps by their names."""

    name: str
    maps: dict[str, str]
    color: tuple[float, float, float, float] = (1.0, 1.0, 1.0, 1.0)
    roughness: float = 1.0
    metallic: float = 0.0
    emission: tuple[float, float, float] = (0.0, 0.0, 0.0)
    transparent: bool = False


@dataclass(frozen=True, eq=False)
class ObjObject:
    """An object's parts in world space; their materials are numbers in the file's list."""

    name: str
    parts: list[Part]


@dataclass(eq=False)
class ObjFile:
    """What is to be written."""

    name: str
    materials: list[ObjMaterial] = field(default_factory=list)
    objects: list[ObjObject] = field(default_factory=list)
    strokes: list[tuple[NDArray[np.float64], Aside]] = field(default_factory=list)


def obj_files(file: ObjFile) -> dict[str, bytes]:
    """Return the .obj and the .mtl."""
    taken: set[str] = set()
    names = [unused_file(material.name, taken) for material in file.materials]
    return {
        f"{file.name}.mtl": _library(file, names).encode(),
        f"{file.name}.obj": _model(file, names).encode(),
    }


def _library(file: ObjFile, names: list[str]) -> str:
    lines = ["# materials of a delivery; colours are sRGB"]
    for material, name in zip(file.materials, names, strict=True):
        color = linear_to_srgb(np.array(material.color[:3]))
        shine = 2 / max(material.roughness, 0.05) ** 2 - 2
        lines += [
            "",
            f"newmtl {name}",
            "Kd " + " ".join(f"{value:.6g}" for value in color),
            f"Ns {shine:.6g}",
            f"Pr {material.roughness:.6g}",
            f"Pm {material.metallic:.6g}",
        ]
        if any(material.emission):
            lines.append("Ke " + " ".join(f"{value:.6g}" for value in material.emission))
        if material.transparent:
            lines.append(f"d {material.color[3]:.6g}")
            if "base_color" in material.maps:
                lines.append(f"map_d -imfchan m {material.maps['base_color']}")
        lines += [STATEMENTS[shown].format(file=name) for shown, name in material.maps.items() if shown in STATEMENTS]
    return "\n".join(lines) + "\n"


def _rows(word: str, values: NDArray[np.floating]) -> list[str]:
    text = f"{word} " + " ".join(["%.9g"] * values.shape[1])
    return [text % tuple(row) for row in values.tolist()]


def _model(file: ObjFile, names: list[str]) -> str:
    lines = [f"mtllib {file.name}.mtl"]
    first, first_uv, first_normal = 1, 1, 1
    for item in file.objects:
        lines.append(f"o {' '.join(item.name.split())}")
        for part in item.parts:
            positions = part.attributes["POSITION"].values
            lines += _rows("v", positions)
            columns = [part.triangles + first]
            pattern = "{0}"
            if "TEXCOORD_0" in part.attributes:
                uvs = np.asarray(part.attributes["TEXCOORD_0"].values, np.float64)
                lines += _rows("vt", np.stack([uvs[:, 0], 1 - uvs[:, 1]], axis=1))
                columns.append(part.triangles + first_uv)
                first_uv += len(uvs)
                pattern = "{0}/{1}"
            if "NORMAL" in part.attributes:
                lines += _rows("vn", part.attributes["NORMAL"].values)
                columns.append(part.triangles + first_normal)
                first_normal += len(positions)
                pattern = "{0}/{1}/{2}" if len(columns) == 3 else "{0}//{1}"
            lines.append(f"usemtl {names[part.material] if part.material >= 0 else 'default'}")
            lines += _faces(columns, pattern)
            first += len(positions)
    for world, aside in file.strokes:
        positions = np.asarray(aside.attributes["POSITION"].values, np.float64) @ world[:3, :3].T + world[:3, 3]
        order = np.arange(len(positions)) if aside.indices is None else aside.indices.values[:, 0].astype(np.int64)
        lines += _rows("v", positions)
        lines += _strokes(order + first, aside.mode)
        first += len(positions)
    return "\n".join(lines) + "\n"


def _faces(columns: Sequence[NDArray[np.integer]], pattern: str) -> list[str]:
    corner = pattern.format(*["%d"] * len(columns))
    text = f"f {corner} {corner} {corner}"
    # for each corner its position, UV and normal one after the other
    rows = np.stack(columns, axis=2).reshape(len(columns[0]), -1)
    return [text % tuple(row) for row in rows.tolist()]


def _strokes(order: NDArray[np.int64], mode: int) -> list[str]:
    if not len(order):
        return []
    if mode == 0:
        return [f"p {' '.join(map(str, order.tolist()))}"]
    if mode == 1:
        return [f"l {one} {two}" for one, two in zip(order[::2].tolist(), order[1::2].tolist(), strict=False)]
    chain = order.tolist() + ([int(order[0])] if mode == 2 else [])
    return [f"l {' '.join(map(str, chain))}"]
