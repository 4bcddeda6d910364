"""Small parts of documents for tests."""

import numpy as np

from fasciculum.model.layout import Layout


def bare_layout(**values):
    """A layout without surfaces; any of its fields can be given."""
    base = {
        "surfaces": (),
        "placements": np.zeros((0, 6)),
        "scale": 100.0,
        "width": 256,
        "height": 256,
        "padding": 8,
        "margin": 4,
        "gap": 8,
        "border_gap": 4,
        "overlap": 0.0,
        "fill": 0.8,
        "made_from": "",
    }
    return Layout(**(base | values))
