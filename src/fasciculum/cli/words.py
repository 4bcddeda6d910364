"""Reports as plain text for people."""

from __future__ import annotations

from operator import itemgetter
from typing import Any

from fasciculum.model.counting import counted
from fasciculum.model.finding import asks, matters_of
from fasciculum.model.output import MeshLosses
from fasciculum.units import MIB


def _mib(size: float) -> str:
    return f"{size / MIB:.1f} MiB"


def _findings(entries: list[dict[str, str]]) -> list[str]:
    """Return a line for each finding that asks for something; many of one code are one line that says how many."""
    lines = []
    asking = [entry for entry in entries if asks(entry["severity"], entry.get("remedy", ""))]
    for matter in matters_of(asking, itemgetter("severity", "code")):
        entry = matter[0]
        line = f"  {entry['severity']:<8} {entry['message']}" + (f" {entry['remedy']}" if "remedy" in entry else "")
        more = f" ({len(matter) - 1} more like this one; --json lists them.)" if len(matter) > 1 else ""
        lines.append(line + more)
    if quiet := len(entries) - len(asking):
        lines.append(f"  {counted(quiet, 'note that asks', 'notes that ask')} for nothing: --json lists them.")
    return lines


def report_words(report: dict[str, Any]) -> str:
    """Return a report as text."""
    before, after = report["ledger"]["before"], report["ledger"]["after"]
    lines = [
        f"{report['name']}",
        f"  draw calls      {before['draw_calls']} -> {after['draw_calls']}",
        f"  materials       {before['materials']} -> {after['materials']}",
        f"  textures        {before['textures']} -> {after['textures']}",
        f"  texture memory  {_mib(before['texture_bytes'])} -> {_mib(after['texture_bytes'])}",
    ]
    for bundle in report["bundles"]:
        lines.append(f"{bundle['name']}: {counted(len(bundle['objects']), 'object')}, {bundle['alpha_mode'].lower()}")
        if "sheet" in bundle:
            sheet, density = bundle["sheet"], bundle["density"]
            gap = sheet["min_gap_px"]
            lines.append(
                f"  {sheet['width']} x {sheet['height']} px, {counted(sheet['islands'], 'island')}, "
                f"fill {sheet['fill']:.0%}"
                + (f", gap {gap} px" if gap is not None and gap >= 0 else "")
                + f", margin {sheet['margin_px']} px"
                + (f", {density['median']} px/m ({density['p05']}-{density['p95']})" if density["median"] else "")
                + (f", bleed-free to {sheet['clean_down_to_px']} px" if sheet["clean_down_to_px"] else "")
            )
        for baked in bundle.get("maps", []):
            lines.append(f"  {baked['name']:<12} {baked['file']}")
    if "compression" in report:
        lines.append(MeshLosses(**report["compression"]).words())
    lines += _budget(report)
    if report["findings"]:
        lines.append("findings")
        lines += _findings(report["findings"])
    if report["seconds"]:
        lines.append("seconds: " + ", ".join(f"{name} {value:.1f}" for name, value in report["seconds"].items()))
    return "\n".join(lines)


def compared_words(new: str, old: str, report: dict[str, Any]) -> str:
    """Return the comparison of two deliveries as text."""
    told = report["against"]
    calls, memory, match = told["draw_calls"], told["texture_bytes"], told["match_db"]
    worst = "the same" if match["worst"] is None else f"{match['worst']} dB ({match['object']})"
    median = "the same" if match["median"] is None else f"{match['median']} dB"
    lines = [
        f"{new} against {old}",
        f"  draw calls      {calls[0]} -> {calls[1]}",
        f"  texture memory  {_mib(memory[0])} -> {_mib(memory[1])}",
        f"  base colour     worst {worst}, median {median}",
    ]
    for what in ("added", "removed", "changed"):
        names = told["objects"][what]
        lines.append(f"  {what:<15} {len(names)}" + (f": {', '.join(names[:8])}" if names else ""))
    lines += _budget(report)
    return "\n".join(lines)


def _budget(report: dict[str, Any]) -> list[str]:
    """Return a line for each limit of a report."""
    lines = []
    for one in report.get("budget", []):
        value = "unknown" if one["value"] is None else f"{one['value']:g}"
        lines.append(f"  {one['name']:<15} {value} of {one['limit']:g}{'' if one['ok'] else '  EXCEEDED'}")
    return ["budget", *lines] if lines else []


def inspection_words(inspection: dict[str, Any]) -> str:
    """Return what `inspect` found as text."""
    lines = [
        f"{', '.join(inspection['sources'])}: {counted(len(inspection['objects']), 'object')}, "
        f"{counted(inspection['triangles'], 'triangle')}, "
        f"{counted(inspection['draw_calls'], 'draw call')}, {_mib(inspection['texture_bytes'])} of textures",
        "objects",
    ]
    for item in inspection["objects"]:
        density = item["source_density_px_m"]
        sets = (
            ", ".join(
                f"UV {uv['set']}: {uv['islands']} islands, span {uv['span_u']} x {uv['span_v']}"
                for uv in item["uv_sets"]
            )
            or "no UVs"
        )
        lines.append(
            f"  {item['name']:<28} {item['triangles']:>7} triangles  {item['alpha_mode'].lower():<7}"
            f"{f'{density} px/m' if density else 'no texture':>14}  {', '.join(item['materials'])}  ({sets})"
        )
    lines.append("textures")
    for image in inspection["textures"]:
        state = "missing" if image["missing"] else f"{image['width']} x {image['height']}, {image['bits']} bits"
        wrong = f"  ({'; '.join(image['looks_wrong'])})" if image["looks_wrong"] and not image["missing"] else ""
        lines.append(f"  {image['name']:<28} {state}, {image['color_space']}{wrong}")
    if inspection["findings"]:
        lines.append("findings")
        lines += _findings(inspection["findings"])
    return "\n".join(lines)
