"""Primitives written with ``KHR_draco_mesh_compression``, by the Draco library."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.errors import OutputError
from fasciculum.io.formats.gltf.builder import COMPONENT_OF, Builder
from fasciculum.io.formats.gltf.draco import DRACO, library
from fasciculum.io.formats.gltf.quantizing import USUAL_TEXELS, normal_error, uv_bits
from fasciculum.later import Later
from fasciculum.model.output import MeshLosses, Part

spatial = Later("scipy.spatial", rare=True)
#: bits of positions within their box, and of normals; UVs have as many as keep a hundredth of a texel
POSITION_BITS, NORMAL_BITS, MOST_BITS = 16, 14, 30
#: how hard the encoder tries, from 0 to 10
EFFORT = 7
#: numbers that the library takes for attributes that it knows nothing of
KINDS = (np.float32, np.uint8, np.uint16, np.uint32)
#: its numbers of attributes that it knows: positions, normals, UVs
POSITION, NORMAL, UV = 0, 1, 3
#: from which number on the others are counted
FIRST_OTHER = 16


def can_compress(part: Part) -> bool:
    """Whether a part can be written so: morph targets need their vertices in order, which Draco does not keep."""
    kinds = {name: one.values.dtype for name, one in part.attributes.items()}
    floats = all(kinds.get(name, np.float32) == np.float32 for name in ("POSITION", "NORMAL", "TEXCOORD_0"))
    return bool(len(part.triangles)) and not part.targets and floats and all(kind in KINDS for kind in kinds.values())


def write_part(builder: Builder, part: Part, texels: int, scale: float, losses: MeshLosses) -> dict[str, Any]:
    """Write a part compressed and return its primitive, without its material.

    Parameters
    ----------
    texels : int
        The larger side of the largest texture that it reads.
    scale : float
        How much larger it is drawn at most than it is stored.
    losses : MeshLosses
        Takes what was lost, measured on what the decoder returns.

    Raises
    ------
    OutputError
        When the library refuses the part.
    """
    attributes = part.attributes
    uvs = attributes.get("TEXCOORD_0")
    others = {
        FIRST_OTHER + number: name
        for number, name in enumerate(one for one in attributes if one not in ("POSITION", "NORMAL", "TEXCOORD_0"))
    }
    span = float(np.ptp(uvs.values, axis=0).max()) if uvs is not None and len(uvs.values) else 1.0
    bits = min(uv_bits(texels) + max(int(np.ceil(np.log2(max(span, 1e-9)))), 0), MOST_BITS)
    used, triangles = np.unique(part.triangles, return_inverse=True)
    given = {name: np.ascontiguousarray(one.values[used]) for name, one in attributes.items()}
    try:
        data = library.encode(
            given["POSITION"],
            triangles.reshape(-1, 3).astype(np.uint32),
            quantization_bits=POSITION_BITS,
            compression_level=EFFORT,
            # the library takes doubles alone here, and keeps floats
            tex_coord=_doubles(given.get("TEXCOORD_0")),
            tex_coord_quantization_bits=bits,
            normals=_doubles(given.get("NORMAL")),
            normal_quantization_bits=NORMAL_BITS,
            generic_attributes={number: given[name] for number, name in others.items()} or None,
        )
        mesh = library.decode(data)
    except Exception as error:  # the library raises many kinds
        raise OutputError(f"the Draco encoder refused a mesh ({error}).", hint="Deliver without Draco.") from error
    known = {POSITION: "POSITION", NORMAL: "NORMAL", UV: "TEXCOORD_0"}
    names: dict[str, int] = {}
    decoded: dict[str, NDArray[Any]] = {}
    for one in mesh.attributes:
        name = others.get(one["unique_id"]) or known.get(one["attribute_type"], "")
        if name in attributes:
            names[name], decoded[name] = one["unique_id"], np.asarray(one["data"]).reshape(len(one["data"]), -1)
    _measure(given, decoded, texels or USUAL_TEXELS, scale, losses)
    faces = np.asarray(mesh.faces).reshape(-1, 3)
    return {
        "attributes": {
            name: builder.promise(
                COMPONENT_OF[attributes[name].values.dtype],
                len(decoded[name]),
                attributes[name].type,
                normalized=attributes[name].normalized,
                bounds=decoded[name] if name == "POSITION" else None,
            )
            for name in names
        },
        "indices": builder.promise(
            COMPONENT_OF[np.dtype(np.uint32 if len(decoded["POSITION"]) > 65534 else np.uint16)], faces.size, "SCALAR"
        ),
        "extensions": {DRACO: {"bufferView": builder.view(data), "attributes": names}},
    }


def _doubles(values: NDArray[Any] | None) -> NDArray[np.float64] | None:
    return None if values is None else values.astype(np.float64)


def _measure(
    given: dict[str, NDArray[Any]], decoded: dict[str, NDArray[Any]], texels: int, scale: float, losses: MeshLosses
) -> None:
    """Note how far vertices are from the decoded ones that they became: those nearest in all that was rounded."""
    size = max(float(np.ptp(given["POSITION"], axis=0).max()), 1e-12)
    weights = {"POSITION": 1 / size, "NORMAL": 0.1, "TEXCOORD_0": 1.0}
    names = [name for name in weights if name in decoded]
    one = np.concatenate([decoded[name].astype(np.float64) * weights[name] for name in names], axis=1)
    two = np.concatenate([given[name].astype(np.float64) * weights[name] for name in names], axis=1)
    _, nearest = spatial.cKDTree(one).query(two)
    apart = np.linalg.norm(decoded["POSITION"][nearest].astype(np.float64) - given["POSITION"], axis=1)
    losses.note(position=float(apart.max()) * scale)
    if "NORMAL" in decoded:
        losses.note(normal=normal_error(given["NORMAL"], decoded["NORMAL"][nearest]))
    if "TEXCOORD_0" in decoded:
        uvs = np.abs(decoded["TEXCOORD_0"][nearest].astype(np.float64) - given["TEXCOORD_0"])
        losses.note(uv=float(uvs.max()) * texels)
