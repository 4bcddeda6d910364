"""Small pictures of projects, kept apart from them, for whoever lists projects."""

from __future__ import annotations

import hashlib
from pathlib import Path

from platformdirs import user_cache_path


def picture_of(project: Path) -> Path:
    """Return where the picture of a project is kept, whether it is there or not."""
    name = hashlib.blake2b(str(project.resolve()).encode(), digest_size=12).hexdigest()
    return user_cache_path("fasciculum") / "pictures" / f"{name}.png"
