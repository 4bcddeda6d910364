"""The window's tests need no screen: where none is given, they run on one that is not shown."""

import os
from pathlib import Path

SCREEN = Path(__file__).parent / "screen.json"
os.environ.setdefault("QT_QPA_PLATFORM", f"offscreen:configfile={SCREEN}")
