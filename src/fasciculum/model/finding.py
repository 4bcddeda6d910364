"""What a check noticed."""

from __future__ import annotations

from dataclasses import dataclass

from fasciculum.model.choices import Remedy, Severity

ERROR, WARNING, INFO = Severity
LOCATE, ALLOW = Remedy.LOCATE, Remedy.ALLOW
SEVERITIES = tuple(Severity)


@dataclass(frozen=True)
class Finding:
    """One thing that a check noticed: what, where, how bad and, where there is one, its remedy in words."""

    code: str
    severity: Severity
    message: str
    remedy: str = ""
    object: str = ""
    material: str = ""
    bundle: str = ""
    image: str = ""
    #: the remedy that can be applied for the artist, empty when there is none
    act: Remedy = Remedy.NONE
