"""The page that sums a batch up: one HTML file, with pictures of before and after, ledgers and findings."""

from __future__ import annotations

import base64
import html
import json
import tempfile
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from fasciculum.cli.jobs import Ended, Job
from fasciculum.errors import FasciculumError
from fasciculum.io.codecs import encode_png
from fasciculum.io.pixels import PixelStore
from fasciculum.operations.gather.gather import gather
from fasciculum.rendering.camera import Camera
from fasciculum.rendering.draws import source_draws
from fasciculum.rendering.previews import Shown, mip_chain
from fasciculum.rendering.renderer import NoGraphics, Renderer, View
from fasciculum.units import MIB

#: px of a picture, and texels along an edge of what is shown on it
WIDE, HIGH, EDGE = 320, 220, 512
STYLE = """
:root { color-scheme: dark; --ground: #232624; --panel: #2b2f2d; --text: #e6e6e0; --quiet: #a8ada6; --line: #3a3f3c;
  --accent: #d8b45a; --good: #8fb39a; --broken: #e08a72; }
body { background: var(--ground); color: var(--text); font: 15px/1.5 system-ui, sans-serif; margin: 0 auto;
  padding: 32px; max-width: 1080px; }
h1 { font-size: 22px; margin: 0 0 4px; } h2 { font-size: 17px; margin: 0; }
.quiet { color: var(--quiet); } .good { color: var(--good); } .broken { color: var(--broken); }
section { background: var(--panel); border: 1px solid var(--line); border-radius: 6px; margin: 18px 0; padding: 16px; }
.pictures { display: flex; gap: 12px; margin: 12px 0; } figure { margin: 0; } figcaption { color: var(--quiet); }
img { border-radius: 4px; display: block; }
table { border-collapse: collapse; margin: 8px 0; } th, td { padding: 2px 18px 2px 0; text-align: right; }
th:first-child, td:first-child { text-align: left; } th { color: var(--quiet); font-weight: normal; }
ul { margin: 8px 0; padding-left: 20px; } details summary { cursor: pointer; color: var(--quiet); }
"""


def summary_page(title: str, jobs: Sequence[Job], ended: Sequence[Ended]) -> str:
    """Return the page as text; what cannot be drawn here has no pictures."""
    by_name = {job.name: job for job in jobs}
    done = sum(one.done for one in ended)
    failed = len(ended) - done
    words = f"{done} done" + (f", <span class=broken>{failed} failed</span>" if failed else "")
    seconds = sum(one.seconds for one in ended)
    with tempfile.TemporaryDirectory() as folder:
        camera = _Pictures(Path(folder))
        parts = [_section(one, by_name.get(one.name), camera) for one in ended]
    return (
        f"<!doctype html><html lang=en><meta charset=utf-8><title>{html.escape(title)}</title><style>{STYLE}</style>"
        f"<h1>{html.escape(title)}</h1><div class=quiet>{words} · {seconds:.0f} s of work</div>"
        f"{''.join(parts)}</html>\n"
    )


def _section(one: Ended, job: Job | None, camera: _Pictures) -> str:
    state = "<span class=good>done</span>" if one.exit == 0 else "done, with findings" if one.done else ""
    if not one.done:
        state = "<span class=broken>cancelled</span>" if one.exit == 5 else "<span class=broken>failed</span>"
    head = f"<h2>{html.escape(one.name)}</h2><div>{state} <span class=quiet>· {one.seconds:.1f} s</span></div>"
    if one.error is not None:
        where = f"{one.error['file']}: " if one.error["file"] else ""
        return f"<section>{head}<p class=broken>{html.escape(where + one.error['message'])}</p></section>"
    if one.report is None:
        return f"<section>{head}</section>"
    report = json.loads(Path(one.report).read_text())
    pictures = camera.of(job, Path(one.report).parent, report) if job is not None else ""
    page = next((name for name in report["files"] if name.endswith("_page.html")), None)
    place = (Path(one.report).parent / page).resolve().as_uri() if page else ""
    link = f"<p><a href='{html.escape(place)}'>Show the model before and after</a></p>" if page else ""
    return f"<section>{head}{link}{pictures}{_ledger(report)}{_findings(report['findings'])}</section>"


def _ledger(report: dict[str, Any]) -> str:
    before, after = report["ledger"]["before"], report["ledger"]["after"]
    rows = [("Draw calls", "draw_calls"), ("Materials", "materials"), ("Textures", "textures")]
    cells = "".join(f"<tr><td>{words}<td>{before[key]}<td>{after[key]}" for words, key in rows)
    cells += (
        f"<tr><td>Texture memory<td>{before['texture_bytes'] / MIB:.1f} MiB<td>{after['texture_bytes'] / MIB:.1f} MiB"
    )
    return f"<table><tr><th><th>before<th>after{cells}</table>"


def _findings(findings: Sequence[dict[str, str]]) -> str:
    loud = [one for one in findings if one["severity"] != "info"]
    quiet = len(findings) - len(loud)
    lines = "".join(
        f"<li><span class={'broken' if one['severity'] == 'error' else 'text'}>{html.escape(one['message'])}</span> "
        f"<span class=quiet>{html.escape(one.get('remedy', ''))}</span>"
        for one in loud[:12]
    )
    more = f"<div class=quiet>{quiet} notes in the report.</div>" if quiet else ""
    return (f"<ul>{lines}</ul>" if lines else "<div class=good>No warnings.</div>") + more


class _Pictures:
    """Draws models, before and after, as long as there is anything to draw with."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._count = 0
        self._here = True

    def of(self, job: Job, out: Path, report: dict[str, Any]) -> str:
        """Return pictures of a job's models, and of what was delivered."""
        delivered = next((name for name in report["files"] if name.endswith((".glb", ".gltf"))), None)
        figures = []
        for words, models in (("before", job.models), ("after", (str(out / delivered),) if delivered else ())):
            data = self._draw(models) if models else None
            if data is not None:
                shown = base64.b64encode(data).decode()
                figures.append(
                    f"<figure><img width={WIDE} height={HIGH} alt='{words}' src='data:image/png;base64,{shown}'>"
                    f"<figcaption>{words}</figcaption></figure>"
                )
        return f"<div class=pictures>{''.join(figures)}</div>" if figures else ""

    def _draw(self, models: Sequence[str]) -> bytes | None:
        if not self._here:
            return None
        self._count += 1
        store = PixelStore(self._folder / str(self._count))
        try:
            scene, _ = gather(list(models), store)
            renderer = Renderer()
        except NoGraphics:
            self._here = False
            return None
        except FasciculumError:
            return None
        try:
            draws = [draw for item in scene.objects for draw in source_draws(scene, item)]
            renderer.set_side("source", draws)
            for draw in draws:
                for role, (key, _, _) in draw.textures.items():
                    shown = Shown(light=role in ("base_color", "emissive"))
                    renderer.add_texture(key, mip_chain(store.get(key), EDGE, shown))
            while renderer.uploading:
                renderer.upload()
            corners = renderer.corners()
            if corners is None:
                return None
            camera = Camera().framing(corners, WIDE / HIGH)
            pixels = renderer.render(camera, WIDE, HIGH, [View("source")])
            return encode_png(pixels[..., :3].copy())
        finally:
            renderer.release()
