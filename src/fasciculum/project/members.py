"""What both writing and reading a project file know of it, beside the data classes themselves."""

from __future__ import annotations

import numpy as np

from fasciculum.model.layers import Layer
from fasciculum.model.layout import ISLAND_COLUMNS
from fasciculum.model.lighting import Lighting

#: parts of the scene that are stored, with their types
OF_SCENE = {"lighting": Lighting, "layers": tuple[Layer, ...]}
#: fields of the document that are not stored: sources are gathered again
NOT_STORED = ("scene", "gathered")
#: arrays that have a row for each triangle, surfaces in order: their kind and the shape that they have when empty
SURFACE_ARRAYS: dict[str, tuple[type[np.generic], tuple[int, ...]]] = {
    "corners": (np.float64, (0, 3, 2)),
    "island": (np.int32, (0,)),
    "projected": (np.bool_, (0,)),
}
#: fields of a layout that stand in its arrays
ARRAY_FIELDS = ("surfaces", "placements", *(column.name for column in ISLAND_COLUMNS))
