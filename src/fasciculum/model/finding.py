"""What a check noticed."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import TypeVar

from fasciculum.model.choices import Remedy, Severity

ERROR, WARNING, INFO = Severity
LOCATE, ALLOW = Remedy.LOCATE, Remedy.ALLOW
SEVERITIES = tuple(Severity)

Item = TypeVar("Item")


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
    #: where it is about several objects, all of them, and the square texels that it costs
    objects: tuple[str, ...] = ()
    texels: int = 0

    @property
    def asks(self) -> bool:
        """Whether there is something to look at or to do."""
        return asks(self.severity, self.remedy)

    @property
    def kind(self) -> tuple[str, str]:
        """What findings of one kind have in common: their code and how bad they are."""
        return self.code, str(self.severity)


def asks(severity: str, remedy: str) -> bool:
    """Tell whether a finding asks for something to be looked at or done: all do but notes without a remedy."""
    return severity != INFO or bool(remedy)


#: findings of one kind that are told one by one; more are one matter
MOST_ALIKE = 3


def matters_of(findings: Iterable[Item], kind: Callable[[Item], object]) -> list[tuple[Item, ...]]:
    """Group findings into matters, in the order in which each matter is met first.

    Parameters
    ----------
    findings : iterable
        Findings, or a report's entries of them.
    kind : callable
        What findings of one kind have in common. More than `MOST_ALIKE` of one kind are one matter.
    """
    findings = list(findings)
    alike: dict[object, list[Item]] = {}
    for finding in findings:
        alike.setdefault(kind(finding), []).append(finding)
    matters: list[tuple[Item, ...]] = []
    for finding in findings:
        result = alike[kind(finding)]
        if len(result) <= MOST_ALIKE:
            matters.append((finding,))
        elif finding is result[0]:
            matters.append(tuple(result))
    return matters
