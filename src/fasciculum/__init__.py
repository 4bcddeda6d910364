"""Fasciculum: many objects in, one texture set out. From Python, ``import fasciculum as fa``; see docs/api.md."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from fasciculum.api import FasciculumError as FasciculumError
    from fasciculum.api import Project as Project
    from fasciculum.api import bake as bake
    from fasciculum.api import bundle as bundle
    from fasciculum.api import check as check
    from fasciculum.api import deliver as deliver
    from fasciculum.api import gather as gather
    from fasciculum.api import lay_out as lay_out
    from fasciculum.api import load as load
    from fasciculum.api import make as make
    from fasciculum.api import save as save

__version__ = "0.1.0"
#: what is found in `fasciculum.api`, once it is asked for: whoever wants a part of the program does not wait for all
OFFERED = (
    "FasciculumError",
    "Project",
    "bake",
    "bundle",
    "check",
    "deliver",
    "gather",
    "lay_out",
    "load",
    "make",
    "save",
)


def __getattr__(name: str) -> Any:
    if name in OFFERED:
        from fasciculum import api

        return getattr(api, name)
    raise AttributeError(f"module 'fasciculum' has no attribute {name!r}")


def __dir__() -> list[str]:
    return sorted([*globals(), *OFFERED])
