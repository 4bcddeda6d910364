"""What a check noticed."""

from __future__ import annotations

from dataclasses import dataclass

INFO = "info"
WARNING = "warning"
ERROR = "error"
#: remedies that can be applied: find the file of a missing image, allow the folder that it lies in
LOCATE, ALLOW = "locate", "allow"
SEVERITIES = (ERROR, WARNING, INFO)


@dataclass(frozen=True)
class Finding:
    """One thing that a check noticed: what, where, how bad and, where there is one, its remedy in words."""

    code: str
    severity: str
    message: str
    remedy: str = ""
    object: str = ""
    material: str = ""
    bundle: str = ""
    image: str = ""
    #: the remedy that can be applied for the artist, empty when there is none
    act: str = ""
