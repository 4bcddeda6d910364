"""A page to show a result: one HTML file with the model before and after, its figures, maps, findings and plan."""

from __future__ import annotations

import base64
import html
import json
import zlib
from collections.abc import Sequence
from importlib import resources
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from fasciculum.baking.shading import corner_normals
from fasciculum.io.pixels import PixelStore
from fasciculum.model.document import Document
from fasciculum.model.finding import asks
from fasciculum.model.lookup import Lookup
from fasciculum.model.scene import MASK, OPAQUE, Material, Primitive, Scene, TextureSlot
from fasciculum.operations.gather.gather import gather
from fasciculum.operations.ledger import ledger_of
from fasciculum.progress import SILENT, Progress
from fasciculum.units import MIB

#: texels along an edge of a texture on the page, and of a picture of a map, at most
EDGE, SMALL = 1024, 256
#: of 100, for lossy pictures of textures
QUALITY = 90
#: directions in which the furthest points of a scene are looked for
TO_ALL_SIDES = np.array([place for place in np.ndindex(3, 3, 3) if place != (1, 1, 1)], np.float64) - 1


class _Blob:
    """Arrays one after the other, each at a multiple of four bytes."""

    def __init__(self) -> None:
        self._parts: list[bytes] = []
        self._length = 0

    def add(self, array: NDArray[Any]) -> int:
        """Add an array and return where it begins, bytes."""
        data = np.ascontiguousarray(array).tobytes()
        first = self._length
        self._parts.append(data)
        self._length += len(data)
        return first

    @property
    def text(self) -> str:
        """All of it, deflated, as base64."""
        return base64.b64encode(zlib.compress(b"".join(self._parts), 9)).decode()


class _Textures:
    """Textures of both sides as pictures, each once."""

    def __init__(self, store: PixelStore) -> None:
        self._store = store
        self.entries: list[dict[str, Any]] = []
        self._known: dict[tuple[str, bool, int, int], int] = {}

    def number(self, scene: Scene, slot: TextureSlot | None, *, color: bool) -> int:
        """Return the number of what a slot reads, -1 where there is nothing."""
        if slot is None or scene.images[slot.image].missing:
            return -1
        pixels = scene.images[slot.image].pixels
        key = pixels, color, slot.wrap_u, slot.wrap_v
        if key not in self._known:
            self._known[key] = len(self.entries)
            picture = picture_of(self._store.get(pixels), EDGE)
            self.entries.append({"data": picture, "color": color, "wrap": [slot.wrap_u, slot.wrap_v]})
        return self._known[key]


def picture_of(pixels: NDArray[Any], edge: int) -> str:
    """Return stored values, no larger than an edge, as the address of a WebP picture of 8 bits."""
    values = np.asarray(pixels)
    if values.dtype.kind == "f":
        values = np.clip(values * 255, 0, 255).astype(np.uint8)
    elif values.dtype == np.uint16:
        values = (values >> 8).astype(np.uint8)
    if values.shape[2] == 2:
        values = values[..., [0, 0, 0, 1]]
    elif values.shape[2] == 1:
        values = np.repeat(values, 3, axis=2)
    most = max(values.shape[:2])
    if most > edge:
        size = max(round(values.shape[1] * edge / most), 1), max(round(values.shape[0] * edge / most), 1)
        values = cv2.resize(values, size, interpolation=cv2.INTER_AREA)
    order = [2, 1, 0, 3][: values.shape[2]]
    _, data = cv2.imencode(".webp", np.ascontiguousarray(values[..., order]), [cv2.IMWRITE_WEBP_QUALITY, QUALITY])
    return f"data:image/webp;base64,{base64.b64encode(data.tobytes()).decode()}"


def _material(scene: Scene, material: Material, textures: _Textures) -> dict[str, Any]:
    lead = next(iter(material.slots().values()), None)

    def beside(slot: TextureSlot | None) -> TextureSlot | None:
        """Return a slot that reads through the same coordinates as the first one, or None."""
        alike = slot is not None and lead is not None and _through(slot) == _through(lead)
        return slot if alike else None

    surface, occlusion = material.metallic_roughness, material.occlusion
    one_image = surface is not None and occlusion is not None and surface.image == occlusion.image
    glow = [part * material.emissive_strength for part in material.emissive_factor]
    return {
        "base": list(material.base_color_factor),
        "base_map": textures.number(scene, beside(material.base_color), color=True),
        "normal_map": textures.number(scene, beside(material.normal), color=False),
        "relief": material.normal_scale,
        "orm_map": textures.number(scene, beside(surface), color=False),
        "roughness": material.roughness_factor,
        "metallic": material.metallic_factor,
        "occlusion": material.occlusion_strength if one_image else 0.0,
        "emissive": glow,
        "emissive_map": textures.number(scene, beside(material.emissive), color=True),
        "mode": 0 if material.alpha_mode == OPAQUE else 1 if material.alpha_mode == MASK else 2,
        "cutoff": material.alpha_cutoff,
        "double": material.double_sided,
        "unlit": material.unlit,
    }


def _through(slot: TextureSlot) -> tuple[int, bytes]:
    return slot.uv_set, slot.matrix().round(6).tobytes()


def _vertices(
    primitive: Primitive, slot: TextureSlot | None
) -> tuple[NDArray[np.float32], NDArray[np.uint32], tuple[int, int, int]]:
    """Return a primitive's distinct vertices as rows, its triangles, and how wide the parts of a row are.

    Parts are the place and the normal, then coordinates and colours where there are any.
    """
    corners = primitive.triangles.reshape(-1)
    parts = [
        primitive.positions.astype(np.float32)[corners],
        corner_normals(primitive).reshape(-1, 3).astype(np.float32),
    ]
    uvs = colors = 0
    if slot is not None and primitive.has_uv(slot.uv_set):
        plain = primitive.uv_sets[slot.uv_set].astype(np.float64)[corners]
        matrix = slot.matrix()
        parts.append((plain @ matrix[:, :2].T + matrix[:, 2]).astype(np.float32))
        uvs = 2
    if primitive.colors is not None:
        tint = np.ones((len(corners), 4), np.float32)
        tint[:, : primitive.colors.shape[1]] = primitive.colors.astype(np.float32)[corners]
        parts.append(tint)
        colors = 4
    rows, index = np.unique(np.concatenate(parts, axis=1), axis=0, return_inverse=True)
    return rows, index.reshape(-1).astype(np.uint32), (6, uvs, colors)


def _side(scene: Scene, textures: _Textures, blob: _Blob) -> dict[str, Any]:
    """Return one side's materials and meshes; copies of a mesh are drawn at once."""
    materials: list[dict[str, Any]] = []
    numbers: dict[int, int] = {}
    drawn: dict[tuple[int, int, bool], list[NDArray[np.float64]]] = {}
    for item in scene.objects:
        node = scene.nodes[item.node]
        for number in item.primitives:
            mirrored = bool(np.linalg.det(node.world[:3, :3]) < 0)
            drawn.setdefault((node.mesh, number, mirrored), []).append(node.world)
    meshes = []
    for (mesh, number, mirrored), places in drawn.items():
        primitive = scene.meshes[mesh].primitives[number]
        material = scene.material_of(primitive)
        if primitive.material not in numbers:
            numbers[primitive.material] = len(materials)
            materials.append(_material(scene, material, textures))
        rows, index, (first, uvs, colors) = _vertices(primitive, next(iter(material.slots().values()), None))
        if not len(index):
            continue
        world = np.stack(places).transpose(0, 2, 1).astype(np.float32)
        meshes.append(
            {
                "material": numbers[primitive.material],
                "vertices": len(rows),
                "triangles": len(index) // 3,
                "positions": blob.add(rows[:, :3]),
                "normals": blob.add(rows[:, 3:6]),
                "uvs": blob.add(rows[:, first : first + uvs]) if uvs else -1,
                "colors": blob.add(rows[:, first + uvs :]) if colors else -1,
                "indices": blob.add(index),
                "places": blob.add(world),
                "count": len(places),
                "mirrored": mirrored,
            }
        )
    return {"materials": materials, "meshes": meshes}


def _extent(scene: Scene) -> dict[str, Any]:
    """Return the middle of a scene, the radius about it, and the points that reach furthest to all sides, metres."""
    parts = [np.zeros((0, 3))]
    for item in scene.objects:
        world = scene.nodes[item.node].world
        for primitive in scene.primitives_of(item):
            places = primitive.positions[np.unique(primitive.triangles)].astype(np.float64)
            far = places[np.unique((places @ TO_ALL_SIDES.T).argmax(axis=0))] if len(places) else places
            parts.append(far @ world[:3, :3].T + world[:3, 3])
    whole = np.concatenate(parts)
    whole = whole if len(whole) else np.zeros((1, 3))
    reach = whole[np.unique((whole @ TO_ALL_SIDES.T).argmax(axis=0))]
    low, high = whole.min(axis=0), whole.max(axis=0)
    radius = float(np.linalg.norm(high - low) / 2) or 1.0
    return {"middle": ((low + high) / 2).tolist(), "radius": radius, "reach": reach.round(6).tolist()}


def page_bytes(
    document: Document,
    report: dict[str, Any],
    delivered: Path,
    pictures: dict[str, NDArray[Any]],
    store: PixelStore,
    *,
    progress: Progress = SILENT,
) -> bytes:
    """Return the page of a delivery.

    Parameters
    ----------
    document : Document
    report : dict
        What was reported of the delivery.
    delivered : Path
        The delivered model, which is read again: what is shown is what was written.
    pictures : dict of ndarray
        The delivered maps by the names of their files.
    store : PixelStore

    Raises
    ------
    InputError
        When the delivered model cannot be read.
    """
    # a layer upon a stage refers to where that lies
    lookup = Lookup(tuple(str(Path(source.path).parent) for source in document.scene.sources))
    result, _ = gather([str(delivered)], store, lookup=lookup, progress=progress.part(0.0, 0.4))
    blob, textures = _Blob(), _Textures(store)
    sides = [_side(scene, textures, blob) for scene in (document.scene, result)]
    progress.update(0.8, "Writing the page")
    scene = {**_extent(document.scene), "sides": sides, "textures": textures.entries}
    parts = {
        "title": html.escape(report["name"]),
        "summary": _summary(document, report),
        "style": _part("page.css"),
        "script": _part("page.js"),
        "tables": _tables(report, pictures),
        # nothing in it may end the element that it stands in
        "scene": json.dumps(scene, separators=(",", ":")).replace("<", "\\u003c"),
        "geometry": blob.text,
    }
    page = _part("page.html")
    for name, text in parts.items():
        page = page.replace("{{" + name + "}}", text)
    return page.encode()


def _part(name: str) -> str:
    return resources.files("fasciculum.page").joinpath(name).read_text(encoding="utf-8")


def _summary(document: Document, report: dict[str, Any]) -> str:
    ledger = ledger_of(document)
    before, after = ledger.before, ledger.after
    plan = f"Plan: {html.escape(report['plan'])}. " if report.get("plan") else ""
    return (
        f"{plan}{before.draw_calls} → {after.draw_calls} draw calls, "
        f"{before.texture_bytes / MIB:.1f} → {after.texture_bytes / MIB:.1f} MiB of textures."
    )


def _table(head: tuple[str, ...], rows: Sequence[tuple[str, ...]]) -> str:
    """Return a table; cells are HTML already."""
    cells = "".join(f"<th scope=col>{cell}</th>" for cell in head)
    body = "".join(f"<tr>{''.join(f'<td>{cell}</td>' for cell in row)}</tr>" for row in rows)
    return f"<table><tr>{cells}</tr>{body}</table>"


def _tables(report: dict[str, Any], pictures: dict[str, NDArray[Any]]) -> str:
    before, after = report["ledger"]["before"], report["ledger"]["after"]
    figures = [
        ("Draw calls", str(before["draw_calls"]), str(after["draw_calls"])),
        ("Materials", str(before["materials"]), str(after["materials"])),
        ("Textures", str(before["textures"]), str(after["textures"])),
        ("Texture memory", *(f"{side['texture_bytes'] / MIB:.1f} MiB" for side in (before, after))),
    ]
    parts = ["<h2>Figures</h2>", _table(("", "Before", "After"), figures)]
    if report.get("budget"):
        limits = [
            (
                html.escape(one["name"].replace("_", " ")),
                "unknown" if one["value"] is None else f"{one['value']:g}",
                f"{one['limit']:g}",
                "<span class=good>kept</span>" if one["ok"] else "<span class=error>exceeded</span>",
            )
            for one in report["budget"]
        ]
        parts += ["<h2>Budget</h2>", _table(("", "Value", "Limit", ""), limits)]
    bundles = []
    for bundle in report["bundles"]:
        sheet, matches = bundle.get("sheet"), [one.get("base_color_db") for one in bundle.get("fidelity", [])]
        known = [one for one in matches if one is not None]
        bundles.append(
            (
                html.escape(bundle["name"]),
                str(len(bundle["objects"])),
                f"{sheet['width']} × {sheet['height']} px" if sheet else "no sheet",
                f"{sheet['fill']:.0%}" if sheet else "",
                f"{min(known):.1f} dB" if known else "",
            )
        )
    parts += ["<h2>Bundles</h2>", _table(("Bundle", "Objects", "Sheet", "Fill", "Match at worst"), bundles)]
    shown = "".join(
        f'<figure><img width=180 alt="{html.escape(name)}" src="{picture_of(pixels, SMALL)}">'
        f"<figcaption>{html.escape(name)}</figcaption></figure>"
        for name, pixels in pictures.items()
    )
    if shown:
        parts += ["<h2>Maps</h2>", f"<div class=maps>{shown}</div>"]
    told = [one for one in report["findings"] if asks(one["severity"], one.get("remedy", ""))]
    rows = [
        (
            f"<span class={html.escape(one['severity'])}>{html.escape(one['severity'])}</span>",
            html.escape(one["message"]),
            html.escape(one.get("remedy", "")),
        )
        for one in told
    ]
    parts += ["<h2>Findings</h2>", _table(("", "What", "What to do"), rows) if rows else "<p>No findings.</p>"]
    return "\n".join(parts)
