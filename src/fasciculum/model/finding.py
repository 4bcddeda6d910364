"""What a check noticed."""

from __future__ import annotations

from collections.abc import Iterable
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


#: findings of one kind that are told one by one; more are one matter
MOST_ALIKE = 3


def matters_of(findings: Iterable[Finding]) -> list[tuple[Finding, ...]]:
    """Return findings as matters: many of one code and severity as one, in the order in which each is met first."""
    alike: dict[tuple[str, str], list[Finding]] = {}
    for finding in findings:
        alike.setdefault((finding.code, str(finding.severity)), []).append(finding)
    matters: list[tuple[Finding, ...]] = []
    for found in alike.values():
        matters += [tuple(found)] if len(found) > MOST_ALIKE else [(finding,) for finding in found]
    first = {id(finding): number for number, finding in enumerate(one for found in alike.values() for one in found)}
    return sorted(matters, key=lambda matter: first[id(matter[0])])
