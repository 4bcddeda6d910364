"""Older projects made new: one function for each schema version, from it to the next."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

#: the version that is written
VERSION = 6


def _to_2(project: dict[str, Any]) -> dict[str, Any]:
    """Version 2 keeps a delivery's title and convention, the objects' shapes, and where missing files were found."""
    delivery = dict(project.get("delivery") or {})
    delivery.setdefault("title", "Packed, green up")
    return project | {"delivery": delivery, "shapes": {}, "deliveries": [], "lookup": {}, "accepted": []}


def _to_3(project: dict[str, Any]) -> dict[str, Any]:
    """Version 3 keeps tiles, pins, shares of islands, twin rules and layout versions; all of them may be missing."""
    return dict(project)


def _to_4(project: dict[str, Any]) -> dict[str, Any]:
    """Version 4 keeps how surfaces are unwrapped and what was said of single objects; all of it may be missing."""
    return dict(project)


def _to_5(project: dict[str, Any]) -> dict[str, Any]:
    """Version 5 has a figure for each map, a word for joining, and each map's digest (filled in later)."""
    deliveries = [dict(entry) for entry in [project.get("delivery") or {}, *(project.get("deliveries") or [])]]
    for entry in deliveries:
        entry["combine"] = "bundle" if entry.get("combine") else "none"
    bundles = []
    for bundle in project.get("bundles") or []:
        check = bundle.get("check") if isinstance(bundle, dict) else None
        if isinstance(check, dict) and isinstance(check.get("fidelity"), list):
            bundle = bundle | {"check": check | {"fidelity": [_figures(entry) for entry in check["fidelity"]]}}
        bundles.append(bundle)
    return project | {"delivery": deliveries[0], "deliveries": deliveries[1:], "bundles": bundles}


def _figures(entry: Any) -> Any:
    if not isinstance(entry, dict):
        return entry
    old = {"base_color": "base_color", "orm": "orm", "emissive": "emissive", "normal_p95": "normal"}
    figures = {new: entry[name] for name, new in old.items() if entry.get(name) is not None}
    return {"object": entry.get("object"), "yield_": entry.get("yield_"), "figures": figures}


def _to_6(project: dict[str, Any]) -> dict[str, Any]:
    """Version 6 calls a map's member ``pixels``, and has ``inf`` for what has no end."""
    bundles = []
    for bundle in project.get("bundles") or []:
        bundle = dict(bundle) if isinstance(bundle, dict) else bundle
        made = bundle.get("texturing") if isinstance(bundle, dict) else None
        if isinstance(made, dict) and isinstance(made.get("maps"), list):
            maps = [one | {"pixels": one.get("file")} if isinstance(one, dict) else one for one in made["maps"]]
            bundle["texturing"] = made | {"maps": maps}
        if isinstance(bundle, dict) and isinstance(bundle.get("check"), dict):
            bundle["check"] = _endless(bundle["check"])
        bundles.append(bundle)
    return project | {"bundles": bundles}


def _endless(value: Any) -> Any:
    """Return JSON with ``inf`` in the place of the number that stood for it."""
    if isinstance(value, dict):
        return {name: _endless(part) for name, part in value.items()}
    if isinstance(value, list):
        return [_endless(part) for part in value]
    return "inf" if isinstance(value, float) and value >= 1e9 else value


UPGRADES: dict[int, Callable[[dict[str, Any]], dict[str, Any]]] = {1: _to_2, 2: _to_3, 3: _to_4, 4: _to_5, 5: _to_6}


def upgraded(project: dict[str, Any]) -> dict[str, Any]:
    """Return a project's JSON as this version writes it."""
    version = project.get("schema")
    while isinstance(version, int) and version < VERSION and version in UPGRADES:
        project = UPGRADES[version](project)
        version += 1
        project["schema"] = version
    return project
