"""Vertex attributes and the like, as they were stored."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from numpy.typing import NDArray

from fasciculum.model.frozen import freeze_arrays


@dataclass(frozen=True, eq=False)
class Attribute:
    """An accessor's elements as they were stored: shape (N, width)."""

    values: NDArray[Any]
    type: str
    normalized: bool

    def __post_init__(self) -> None:
        freeze_arrays(self)
