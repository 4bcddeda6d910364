"""What is measured for checks, and running the checks of a scope with it."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any

from fasciculum.checks.check import Facts, Measure, Scope
from fasciculum.checks.registry import checks_of, run_checks
from fasciculum.model.bundle import Bundle
from fasciculum.model.finding import Finding
from fasciculum.model.scene import Scene
from fasciculum.uv.sets import reads_badly


def badly_read(scene: Scene) -> dict[str, tuple[int, int]]:
    """Return, for each object whose material reads an unsuitable UV set, that set and a better one."""
    results: dict[str, tuple[int, int]] = {}
    known: dict[tuple[int, tuple[int, ...], str], tuple[int, int] | None] = {}
    for item in scene.objects:
        alike = scene.instance_key(item)
        if alike not in known:
            known[alike] = reads_badly(scene, item)
        better = known[alike]
        if better is not None:
            results[item.key] = better
    return results


#: what can be measured of a scene itself; other measures come from whoever has what they are taken from
OF_SCENE: dict[Measure, Callable[[Scene], Any]] = {Measure.READING: badly_read}


def scene_findings(scene: Scene, only: Iterable[str] | None = None) -> tuple[Finding, ...]:
    """Return what the checks of gathered scenes say, all or those of the given ids."""
    checks = checks_of(Scope.SCENE, only)
    needed = {measure for check in checks for measure in check.needs}
    return run_checks(checks, Facts(scene, measured={measure: OF_SCENE[measure](scene) for measure in needed}))


def findings_of(scene: Scene, bundle: Bundle) -> list[Finding]:
    """Return what stands to be said about a bundle as it is now."""
    return list(run_checks(checks_of(Scope.BUNDLE), Facts(scene, bundle)))
