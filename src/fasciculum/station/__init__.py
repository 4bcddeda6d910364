"""The ropeway station: the demo's models, its given sheet of wood, and its layers; made by ``demo/make_station.py``."""

from __future__ import annotations

from pathlib import Path

#: where the demo's files are
STATION = Path(__file__).parent
