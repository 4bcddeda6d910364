"""Arrays that cannot be written to, so that documents may share them."""

from __future__ import annotations

import dataclasses
from typing import Any

import numpy as np


def freeze_arrays(instance: Any) -> None:
    """Set every array among a data class's fields read-only; call it from ``__post_init__``."""
    for field in dataclasses.fields(instance):
        value = getattr(instance, field.name)
        for item in value if isinstance(value, tuple) else (value,):
            if isinstance(item, np.ndarray):
                item.flags.writeable = False
