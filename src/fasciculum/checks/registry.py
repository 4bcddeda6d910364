"""All checks, found among the modules of this folder: a check is added by adding its file."""

from __future__ import annotations

import importlib
import pkgutil
from collections.abc import Iterable
from functools import cache

from fasciculum import checks
from fasciculum.checks.check import Check, Facts, Scope
from fasciculum.model.finding import Finding


@cache
def all_checks() -> tuple[Check, ...]:
    """Return every check that a module of this folder lists under ``CHECKS``, in the order in which they are told."""
    results: list[Check] = []
    for module in pkgutil.iter_modules(checks.__path__):
        results += getattr(importlib.import_module(f"{checks.__name__}.{module.name}"), "CHECKS", ())
    return tuple(sorted(results, key=lambda check: (check.rank, check.id)))


def checks_of(scope: Scope, only: Iterable[str] | None = None) -> tuple[Check, ...]:
    """Return the checks of a scope, all or those of the given ids."""
    names = None if only is None else set(only)
    return tuple(check for check in all_checks() if check.scope is scope and (names is None or check.id in names))


def run_checks(checks: Iterable[Check], facts: Facts) -> tuple[Finding, ...]:
    """Return what checks have to say."""
    return tuple(finding for check in checks for finding in check.run(facts))
