"""Primitives that are compressed with ``KHR_draco_mesh_compression``, by the Draco library."""

from __future__ import annotations

import msgspec
import numpy as np

from fasciculum.io.formats.gltf import schema
from fasciculum.io.formats.gltf.accessors import COMPONENTS, WIDTHS
from fasciculum.io.formats.gltf.container import Container
from fasciculum.later import Later
from fasciculum.model.attributes import Attribute

DRACO = "KHR_draco_mesh_compression"
library = Later("DracoPy", rare=True)
#: rows of an attribute that a byte of compressed data may stand for, and those that any may: edges take a bit or two
MOST_ROWS, FREE_ROWS = 64, 1 << 16
#: the mode of a primitive whose indices are triangles
TRIANGLES = 4


class Compressed(msgspec.Struct, rename="camel"):
    """What the extension says of a primitive: its data, and for each attribute the number that it has there."""

    buffer_view: schema.Index
    attributes: dict[str, schema.Index]


def decode_primitive(container: Container, primitive: schema.Primitive, item: str) -> None:
    """Put what a compressed primitive holds in the place of its accessors; others are left as they are.

    Raises
    ------
    MalformedFile
        When the data is damaged, or other than the accessors say.
    """
    if DRACO not in primitive.extensions:
        return
    accessors = container.document.accessors
    try:
        told = msgspec.convert(primitive.extensions[DRACO], Compressed)
    except msgspec.ValidationError as error:
        raise container.fail(f"{DRACO} is damaged ({error}).", item) from error
    data = bytes(container.view(told.buffer_view))
    numbers = [primitive.attributes.get(name, -1) for name in told.attributes]
    indices = -1 if primitive.indices is None else primitive.indices
    if not numbers:
        raise container.fail(f"{DRACO} holds no attributes.", item)
    for number in (*numbers, indices):
        if not 0 <= number < len(accessors):
            raise container.fail(f"{DRACO} names accessors that are not there.", item)
        accessor = accessors[number]
        if accessor.component_type not in COMPONENTS or accessor.type not in WIDTHS:
            raise container.fail(f"accessor {number} is of no known type.", item)
        if accessor.count > FREE_ROWS + MOST_ROWS * len(data):
            raise container.fail(f"accessor {number} claims more rows than its Draco data can hold.", item)
    try:
        mesh = library.decode(data)
        faces = np.asarray(mesh.faces, np.int64).reshape(-1)
        found = {name: np.asarray(mesh.get_attribute_by_unique_id(at)["data"]) for name, at in told.attributes.items()}
    except Exception as error:  # the library raises many kinds on damaged data
        raise container.fail(f"its Draco data is damaged ({error}).", item) from error
    for (_, values), number in zip(found.items(), numbers, strict=True):
        accessor = accessors[number]
        rows = values.reshape(len(values), -1)
        if rows.shape != (accessor.count, WIDTHS[accessor.type]):
            raise container.fail(f"its Draco data is other than accessor {number} says.", item)
        kept = np.ascontiguousarray(rows.astype(COMPONENTS[accessor.component_type]))
        container.attributes[number] = Attribute(kept, accessor.type, accessor.normalized)
    if len(faces) != accessors[indices].count or (len(faces) and faces.max() >= accessors[numbers[0]].count):
        raise container.fail("its Draco data has other triangles than its accessor says.", item)
    kind = COMPONENTS[accessors[indices].component_type]
    container.attributes[indices] = Attribute(faces.astype(kind)[:, None], "SCALAR", False)
    # strips come out as triangles
    primitive.mode = TRIANGLES
