"""How fields are stored in project files, where their type alone does not say it."""

from __future__ import annotations

from typing import Annotated

#: marks a path, which project files hold as seen from their own folder
FILE = "file"
FilePath = Annotated[str, FILE]
