"""A delivery as OBJ with MTL: everything in world space, v pointing up as the format has it."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from fasciculum.io.names import unused_file
from fasciculum.io.objects import unique_name
from fasciculum.io.parts import moved
from fasciculum.io.texture_files import TextureFiles
from fasciculum.model.maps import Role
from fasciculum.model.output import OutputScene
from fasciculum.model.scene import OPAQUE
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


#: textures of a material that came along, and what they show
SHOWN = {Role.BASE_COLOR: "base_color", Role.NORMAL: "normal", Role.EMISSIVE: "emissive"}


def write_obj(scene: OutputScene) -> dict[str, bytes]:
    """Return the .obj and the .mtl of a delivery, and the images of materials that came along, by their names."""
    taken: set[str] = set()
    names = [unused_file(material.material.name, taken) for material in scene.materials]
    images = TextureFiles(scene)
    library = _library(scene, names, images)
    return images.files | {
        f"{scene.name}.mtl": library.encode(),
        f"{scene.name}.obj": _model(scene, names).encode(),
    }


def _library(scene: OutputScene, names: list[str], images: TextureFiles) -> str:
    lines = ["# materials of a delivery; colours are sRGB"]
    for entry, name in zip(scene.materials, names, strict=True):
        material = entry.material
        files = entry.files or {
            SHOWN[Role(role)]: images.name(slot.image) for role, slot in material.slots().items() if Role(role) in SHOWN
        }
        emission = [value * material.emissive_strength for value in material.emissive_factor]
        color = linear_to_srgb(np.array(material.base_color_factor[:3]))
        shine = 2 / max(material.roughness_factor, 0.05) ** 2 - 2
        lines += [
            "",
            f"newmtl {name}",
            "Kd " + " ".join(f"{value:.6g}" for value in color),
            f"Ns {shine:.6g}",
            f"Pr {material.roughness_factor:.6g}",
            f"Pm {material.metallic_factor:.6g}",
        ]
        if any(emission):
            lines.append("Ke " + " ".join(f"{value:.6g}" for value in emission))
        if material.alpha_mode != OPAQUE:
            lines.append(f"d {material.base_color_factor[3]:.6g}")
            if "base_color" in files:
                lines.append(f"map_d -imfchan m {files['base_color']}")
        lines += [STATEMENTS[shown].format(file=name) for shown, name in files.items() if shown in STATEMENTS]
    return "\n".join(lines) + "\n"


def _rows(word: str, values: NDArray[np.floating]) -> list[str]:
    text = f"{word} " + " ".join(["%.9g"] * values.shape[1])
    return [text % tuple(row) for row in values.tolist()]


def _model(scene: OutputScene, names: list[str]) -> str:
    lines = [f"mtllib {scene.name}.mtl"]
    first, first_uv, first_normal = 1, 1, 1
    taken: set[str] = set()
    numbers: dict[str, int] = {}
    zero = np.zeros(3)
    for drawn in scene.drawn:
        mesh = scene.meshes[drawn.mesh]
        if mesh.parts:
            name = unique_name(" ".join(drawn.name.split()), taken, numbers)
            taken.add(name)
            lines.append(f"o {name}")
        for plain in mesh.parts:
            part = moved(plain, drawn.world, zero)
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
    for drawn in scene.drawn:
        for aside in scene.meshes[drawn.mesh].aside:
            values = np.asarray(aside.attributes["POSITION"].values, np.float64)
            positions = values @ drawn.world[:3, :3].T + drawn.world[:3, 3]
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
