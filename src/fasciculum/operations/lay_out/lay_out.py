"""Lay out: a bundle's objects into islands, islands into places on its sheet, and the exact check of the result."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from fasciculum.kernels.packing.texels import claim
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import Grows, Treatment, Turns
from fasciculum.model.digests import digest_of, digest_text
from fasciculum.model.layout import Layout
from fasciculum.model.scene import Scene
from fasciculum.model.settings import rules_of, settings_of
from fasciculum.model.sheet import SheetSettings
from fasciculum.model.unwrapping import UnwrapSettings
from fasciculum.operations.check.surroundings import with_parted
from fasciculum.operations.lay_out.onto import given_rules, lay_onto
from fasciculum.operations.lay_out.pieces import Pieces, apply_affine, flat_area, has_upright, pieces_of
from fasciculum.packing.engine import Packed, Packer, pack
from fasciculum.packing.outlines import first_on_places
from fasciculum.packing.shapes import Rules
from fasciculum.packing.verify import verify
from fasciculum.progress import SILENT, Progress
from fasciculum.treatments.resolved import ResolvedBundle
from fasciculum.treatments.resolving import resolve_bundle

#: places kept on a changed layout must have the size they are wished to have, to this
SAME_SIZE = 1e-6
#: what is new is made smaller than its density asks for, down to this part of it, before anything else is moved
LEAST_DENSITY_SCALE = 0.5
#: more places than this, and nobody waits to hear what a fresh layout would gain
MOST_COMPARED = 600
#: edges of sheets that a wanted density may lead to, texels
EDGES = (64, 128, 256, 512, 1024, 2048, 4096, 8192, 16384)
MOST_TILES = 16


def sheet_rules(sheet: SheetSettings) -> str:
    """Return the settings of a sheet that its layout depends on, as one text."""
    unwrap = ", ".join(
        f"{entry.name}={getattr(sheet.unwrap, entry.name)!r}"
        for entry in settings_of(UnwrapSettings)
        if entry.setting.first or getattr(sheet.unwrap, entry.name) != entry.default
    )
    return f"({', '.join([*map(repr, rules_of(sheet)), f'UnwrapSettings({unwrap})'])})"


def layout_digest(scene: Scene, bundle: Bundle) -> str:
    """Return a digest of all that a bundle's layout is made from."""
    if bundle.given is not None:
        told = given_rules(bundle.given), bundle.objects, bundle.sheet.turns, bundle.sheet.uv
        shaped = tuple((key, one.digest) for key, one in bundle.shapings if key in bundle.objects)
        colors = scene.surfaces if bundle.given.is_palette else {}
        surfaces = [scene.shapes[key] + colors.get(key, "") for key in bundle.objects]
        return digest_of(digest_text((told, shaped)), *surfaces)
    work = resolve_bundle(scene, with_parted(scene, bundle))
    scene, bundle = work.scene, work.bundle
    patches = tuple((patch.key, patch.row, *(["upright"] if patch.upright else [])) for patch in work.patches)
    made = (
        sheet_rules(bundle.sheet_in_force),
        bundle.objects,
        tuple(bundle.share(key) for key in bundle.objects),
        tuple(rule for rule in bundle.twin_rules if rule[0] in bundle.objects),
        tuple((key, told.digest) for key, told in bundle.shapings if key in bundle.objects),
        *((patches,) if patches else ()),
        *(
            (pairs,)
            if (pairs := [(key, scene.partners[key]) for key in bundle.objects if key in scene.partners])
            else ()
        ),
    )
    # said where it is so only, so that layouts of earlier projects stay in order
    upright = ["upright"] if has_upright(scene, bundle) else []
    return digest_of(digest_text(made), *upright, *(scene.shapes[key] for key in bundle.objects))


def lay_out(scene: Scene, bundle: Bundle, *, fresh: bool = False, progress: Progress = SILENT) -> Layout:
    """Lay out a bundle.

    Where there is a layout by the same settings already, what need not move stays where it is, unless ``fresh``. Pinned
    islands stay in any case.

    Parameters
    ----------
    scene : Scene
    bundle : Bundle
        Its sheet settings say how.
    fresh : bool

    Returns
    -------
    Layout
        With scale 0 when nothing fits.
    """
    digest = layout_digest(scene, bundle)
    if bundle.given is not None:
        return replace(lay_onto(scene, bundle, fresh=fresh, progress=progress), made_from=digest)
    on = resolve_bundle(scene, with_parted(scene, bundle))
    scene, bundle = on.scene, on.bundle
    sheet = bundle.sheet_in_force
    pieces = pieces_of(scene, bundle, progress.part(0, 0.1))
    before = bundle.layout if bundle.layout is not None and bundle.layout.scale > 0 else None
    work = _Laying(pieces, sheet, before, on, progress.part(0.1, 0.95))
    made = None
    if before is not None and before.rules == sheet_rules(sheet) and not fresh:
        made = work.calm()
    if made is None:
        made = work.fresh()
    progress.update(0.96, "Verifying the layout")
    return measured(replace(made, made_from=digest, rules=sheet_rules(sheet)))


class _Laying:
    """The ways to a layout of pieces."""

    def __init__(
        self,
        pieces: Pieces,
        sheet: SheetSettings,
        before: Layout | None,
        on: ResolvedBundle,
        progress: Progress,
    ) -> None:
        self.pieces, self.sheet, self.before, self.progress = pieces, sheet, before, progress
        self.numbers = pieces.earlier
        known = {patch.key: patch for patch in on.patches}
        self.slices, self.tiles = on.slices, on.tiles
        #: patches that lie where they must, slices among them; the scale at which blocks have their textures' texels
        self.fixed: dict[int, NDArray[np.float64]] = {}
        self.sliced: set[int] = set()
        self.blocks = 0.0
        first = 0
        for surface in pieces.surfaces:
            patch = known.get(surface.objects[0])
            if patch is not None and patch.row is not None:
                self.fixed[first] = np.array(patch.row)
                self.sliced |= set() if patch.held else {first}
            elif patch is not None and patch.way is Treatment.BAKE:
                self.blocks = patch.density
            if patch is not None and patch.upright:
                self.pieces.upright[first] = True
                self.sheet = replace(sheet, turns=_straight(sheet.turns), mirror=False, align=max(sheet.align, 1))
            first += surface.count

    def rules(self, sheet: SheetSettings, which: NDArray[np.int64]) -> Rules:
        """Return the rules for packing some of the islands."""
        # a block ends on the grid, where it touches one texel more
        more = 1 if self.blocks > 0 else 0
        padding, margin = sheet.padding + more, sheet.border + more
        upright = self.pieces.upright[which]
        return Rules(
            sheet.width,
            sheet.height,
            padding,
            margin,
            sheet.turns,
            sheet.mirror,
            sheet.tiles,
            sheet.align,
            tuple(upright.tolist()) if upright.any() else (),
        )

    def _old_places(self, wanted: NDArray[np.bool_]) -> dict[int, NDArray[np.float64]]:
        """Return the maps of leading islands that an earlier layout gives, through any island of their kind."""
        before, pieces = self.before, self.pieces
        results: dict[int, NDArray[np.float64]] = {}
        if before is None:
            return results
        for index in np.flatnonzero((self.numbers >= 0) & wanted).tolist():
            leader = int(pieces.twins.leader[index])
            if leader in results:
                continue
            row = before.placements[self.numbers[index]]
            if leader != index:
                row = (_square(row) @ np.linalg.inv(_square(pieces.twins.maps[index])))[:2].ravel()
            results[leader] = row
        return results

    def _lying(self, held: dict[int, NDArray[np.float64]]) -> list[NDArray[np.float64]]:
        """Return the triangles of islands that lie on the sheet, in texels."""
        return [
            apply_affine(self.pieces.islands[index], row) for index, row in held.items() if index not in self.sliced
        ]

    def calm(self) -> Layout | None:
        """Keep what may stay, and put the rest around it at the same density; None when that cannot be done."""
        before, pieces = self.before, self.pieces
        if before is None:
            return None
        old = self._old_places(np.ones(len(pieces.islands), np.bool_))
        known = self.numbers >= 0
        density_scale = np.ones(len(pieces.islands))
        density_scale[pieces.twins.leader[known]] = before.density_scale[self.numbers[known]]
        held, taken = {}, set()
        for index, row in old.items():
            fits = abs(_size(row) / (before.scale * pieces.sizes[index] * density_scale[index]) - 1) < SAME_SIZE
            # what were twins and are none any more lay on one place: the first of them stays there
            if fits and tuple(row) not in taken:
                held[index] = row
                taken.add(tuple(row))
        held = {index: row for index, row in held.items() if index not in self.fixed} | self.fixed
        rest = np.array([index for index in pieces.leaders.tolist() if index not in held], np.int64)
        same = len(held) == int(before.places.max(initial=-1)) + 1
        if not held or (same and not len(rest)):
            # nothing is new and nothing is gone: whoever packs again wants better
            return None
        own = max(before.own_tiles, 1)
        sheet = replace(self.sheet, width=before.width, height=before.height, tiles=own)
        rows = dict(held)
        if len(rest):
            packed = self._around(held, rest, before.scale, sheet)
            if packed.scale <= 0:
                return None
            density_scale[rest] = packed.scale / before.scale
            rows |= dict(zip(rest.tolist(), _plain(packed.placements, pieces.sizes[rest]), strict=True))
        made = self._layout(rows, before.scale, sheet)
        return replace(made, density_scale=density_scale[pieces.twins.leader], gain=self._gain(sheet, before.scale))

    def _around(
        self, held: dict[int, NDArray[np.float64]], rest: NDArray[np.int64], scale: float, sheet: SheetSettings
    ) -> Packed:
        """Put islands around those that lie already: at the same density, or less if not much less will do."""
        packer = Packer(
            self.pieces.sized(rest),
            self.rules(sheet, rest),
            smallest=sheet.smallest,
            held=self._lying(held),
            seed=sheet.seed,
            progress=self.progress.part(0, 0.6),
        )
        return packer.construct_near(scale, LEAST_DENSITY_SCALE)

    def _gain(self, sheet: SheetSettings, scale: float) -> float:
        """Return how much denser a first fresh layout would be."""
        if len(self.pieces.leaders) > MOST_COMPARED or sheet.wanted:
            return math.nan
        self.progress.update(0.7, "Comparing with a fresh layout")
        packer = Packer(
            self.pieces.sized(self.pieces.leaders),
            self.rules(sheet, self.pieces.leaders),
            smallest=sheet.smallest,
            progress=self.progress.part(0.7, 1.0),
        )
        return packer.construct().scale / scale - 1

    def fresh(self) -> Layout:
        """Lay everything out but what is pinned."""
        sheet, pieces = self.sheet, self.pieces
        held: dict[int, NDArray[np.float64]] = {}
        before = self.before
        if before is not None and (before.width, before.height, before.own_tiles) == (
            sheet.width,
            sheet.height,
            sheet.tiles,
        ):
            pinned = np.zeros(len(pieces.islands), np.bool_)
            known = self.numbers >= 0
            pinned[known] = before.pinned[self.numbers[known]]
            held = self._old_places(pinned)
        held |= self.fixed
        if not self._fixed_fit(sheet):
            return self._layout(held | dict.fromkeys(pieces.leaders.tolist(), np.zeros(6)), 0.0, sheet)
        rest = np.array([index for index in pieces.leaders.tolist() if index not in held], np.int64)
        islands, sizes = pieces.sized(rest), pieces.sizes[rest]
        if not len(rest) and held:
            return self._layout(held, before.scale if before is not None else 1.0, sheet)
        lying = self._lying(held)

        def layout_of(packed: Packed, sheet: SheetSettings) -> Layout:
            rows = held | dict(zip(rest.tolist(), _plain(packed.placements, sizes), strict=True))
            return self._layout(rows, packed.scale, sheet)

        packed = Packed(0.0, np.zeros((len(islands), 6)))
        if sheet.wanted > 0:
            packed, sheet = self._at_density(rest, lying)
        elif self.blocks > 0:
            packed = self._texel_for_texel(rest, lying, sheet)
        if packed.scale <= 0 and sheet.wanted <= 0:
            packed = pack(
                islands,
                self.rules(sheet, rest),
                seconds=sheet.seconds,
                seed=sheet.seed,
                smallest=sheet.smallest,
                held=lying,
                show=lambda packed: self.progress.show(shown_layout(layout_of(packed, sheet))),
                stop_early=self.progress.stop_early,
                progress=self.progress,
            )
        return layout_of(packed, sheet)

    def _fixed_fit(self, sheet: SheetSettings) -> bool:
        """Tell whether what must lie at its place does so within the sheet."""
        return all(
            apply_affine(self.pieces.islands[index], row)[..., 1].max() <= sheet.height - sheet.border
            and apply_affine(self.pieces.islands[index], row)[..., 0].max() <= sheet.width
            for index, row in self.fixed.items()
            if index not in self.sliced
        )

    def _texel_for_texel(
        self, which: NDArray[np.int64], held: list[NDArray[np.float64]], sheet: SheetSettings
    ) -> Packed:
        """Pack blocks at the size of their textures; with scale 0 where the sheet is too small for that."""
        islands, rules = self.pieces.sized(which), self.rules(sheet, which)
        packed = pack(islands, rules, scale=self.blocks, seed=sheet.seed, held=held, progress=self.progress)
        if packed.scale <= 0:
            return packed
        rows = packed.placements.copy()
        for row, island in zip(rows, islands, strict=True):
            corner = apply_affine(island, row).reshape(-1, 2).min(axis=0)
            row[[2, 5]] += np.round(corner) - corner
        return Packed(packed.scale, rows)

    def _at_density(self, which: NDArray[np.int64], held: list[NDArray[np.float64]]) -> tuple[Packed, SheetSettings]:
        """Find the smallest sheet, or the fewest tiles, that hold all at the wanted density."""
        islands = self.pieces.sized(which)
        area = sum(flat_area(island) for island in islands) * self.sheet.wanted**2
        packed, sheet = Packed(0.0, np.zeros((len(islands), 6))), self.sheet
        for sheet in self._sheets():
            if sheet.width * sheet.height * sheet.tiles < area:
                continue
            packed = pack(
                islands,
                self.rules(sheet, which),
                scale=sheet.wanted,
                seed=sheet.seed,
                smallest=sheet.smallest,
                held=held,
                progress=self.progress,
            )
            if packed.scale > 0:
                break
        return packed, sheet

    def _sheets(self) -> list[SheetSettings]:
        if self.sheet.grows == Grows.TILES:
            return [replace(self.sheet, tiles=tiles) for tiles in range(1, MOST_TILES + 1)]
        sizes = sorted(
            ((wide, high) for wide in EDGES for high in EDGES if high in (wide, wide // 2)),
            key=lambda size: size[0] * size[1],
        )
        return [replace(self.sheet, width=wide, height=high) for wide, high in sizes]

    def _layout(self, rows: dict[int, NDArray[np.float64]], scale: float, sheet: SheetSettings) -> Layout:
        pieces, before = self.pieces, self.before
        placements = pieces.spread(np.array([rows[index] for index in pieces.leaders.tolist()]).reshape(-1, 6))
        count = len(placements)
        pinned, moved = np.zeros(count, np.bool_), np.ones(count, np.bool_)
        known = self.numbers >= 0
        if before is not None:
            old = before.placements[self.numbers[known]]
            mask = np.abs(placements[known] - old) <= 1e-9 * np.maximum(np.abs(old).max(axis=1, initial=1)[:, None], 1)
            # what stayed keeps its numbers to the last bit
            stayed = np.flatnonzero(known)[mask.all(axis=1)]
            placements[stayed] = before.placements[self.numbers[stayed]]
            moved[stayed] = False
            pinned[known] = before.pinned[self.numbers[known]]
        made = Layout(
            pieces.surfaces,
            placements,
            scale,
            sheet.width,
            sheet.height,
            sheet.padding,
            sheet.border,
            -1,
            -1,
            0.0,
            0.0,
            "",
            tiles=sheet.tiles - self.sheet.tiles + self.tiles if self.slices else sheet.tiles,
            slices=self.slices,
            places=pieces.places,
            pinned=pinned,
            moved=moved,
            shares=pieces.shares,
        )
        return paged(made)


def _straight(turns: Turns) -> Turns:
    """Return the turns that keep texels on the grid."""
    return turns if turns in (Turns.NONE, Turns.HALF) else Turns.QUARTER


def _square(row: NDArray[np.float64]) -> NDArray[np.float64]:
    return np.vstack([row.reshape(2, 3), [0.0, 0.0, 1.0]])


def _size(row: NDArray[np.float64]) -> float:
    return math.sqrt(abs(float(row[0] * row[4] - row[1] * row[3])))


def _plain(placements: NDArray[np.float64], sizes: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return maps from plain metres: islands were packed in metres times share."""
    plain = placements.copy()
    plain[:, [0, 1, 3, 4]] *= sizes[:, None]
    return plain


def shown_layout(layout: Layout) -> Layout:
    """Return a layout with its fill told, though nothing is verified."""
    return replace(layout, fill=fill_of(layout))


def island_labels(layout: Layout) -> NDArray[np.int32]:
    """Return the place of each triangle of a layout, surfaces in order; twins have one."""
    parts = [layout.places[layout.islands_of(index)] for index in range(len(layout.surfaces))]
    return np.concatenate(parts).astype(np.int32) if parts else np.zeros(0, np.int32)


def sheet_triangles(layout: Layout) -> NDArray[np.float64]:
    """Return all corners of a layout, shape (T, 3, 2), in texels, tiles side by side."""
    parts = [layout.sheet_corners(index) for index in range(len(layout.surfaces))]
    return np.concatenate(parts) if parts else np.zeros((0, 3, 2))


def claimed(layout: Layout, labels: NDArray[np.int32], width: int, height: int) -> NDArray[np.int32]:
    """Return the label of the triangle that touches each texel of a map over all tiles, -1 for none, (height, width).

    ``labels`` has one for each triangle of the layout, surfaces in order.
    """
    owners = np.full((height, width), -1, np.int32)
    scale = np.array([width / layout.across, height / layout.height])
    claim(np.ascontiguousarray(sheet_triangles(layout) * scale), labels, 0.0, owners)
    return owners


def paged(layout: Layout, which: NDArray[np.bool_] | None = None) -> Layout:
    """Return the layout with the page told that islands, all or those marked, lie on: where their left end is."""
    if layout.tiles == 1:
        return layout
    low = np.full(len(layout.placements), np.inf)
    for index in range(len(layout.surfaces)):
        np.minimum.at(low, layout.islands_of(index), layout.sheet_corners(index)[..., 0].min(axis=1))
    result = np.clip(np.nan_to_num(low + 1e-6, posinf=0.0) // layout.width, 0, layout.tiles - 1).astype(np.int32)
    return replace(layout, pages=result if which is None else np.where(which, result, layout.pages))


def triangle_pages(layout: Layout) -> NDArray[np.int64]:
    """Return the tile that each triangle of a layout lies on, surfaces in order."""
    parts = [layout.pages[layout.islands_of(index)] for index in range(len(layout.surfaces))]
    return np.concatenate(parts).astype(np.int64) if parts else np.zeros(0, np.int64)


def leading_triangles(layout: Layout) -> NDArray[np.bool_]:
    """Return which triangles belong to the first island on each place."""
    leads = np.zeros(len(layout.places), np.bool_)
    leads[first_on_places(layout)] = True
    parts = [leads[layout.islands_of(index)] for index in range(len(layout.surfaces))]
    return np.concatenate(parts) if parts else np.zeros(0, np.bool_)


def fill_of(layout: Layout) -> float:
    """Return the islands' area, twins once, over that of the sheet."""
    corners = sheet_triangles(layout)[leading_triangles(layout)]
    return flat_area(corners) / (layout.across * layout.height)


def measured(layout: Layout, *, progress: Progress = SILENT) -> Layout:
    """Return the layout with its gap, border gap, overlap and fill measured."""
    progress.update(0.0, "Verifying the layout")
    if layout.scale <= 0:
        return layout
    if layout.on_given:
        # islands lie on each other there on purpose
        return replace(layout, gap=0, border_gap=0, overlap=0.0)
    corners, labels = sheet_triangles(layout), island_labels(layout)
    pages = triangle_pages(layout)
    result = verify(corners, labels, layout.width, layout.height, pages=pages)
    border = result.border_gap
    lanes = np.concatenate([layout.lanes[layout.islands_of(index)] for index in range(len(layout.surfaces))])
    if lanes.any() and result.overlap <= 0 and not result.outside:
        # a lane goes on beyond the sheet's sides: it keeps its distance above and below
        rest = verify(corners[~lanes], labels[~lanes], layout.width, layout.height, pages=pages[~lanes]).border_gap
        touched = corners[lanes][..., 1]
        # a slice is a whole tile, and has no border to keep from
        whole = (touched.min() <= 0) & (touched.max() >= layout.height)
        if layout.slices:
            strips = touched[pages[lanes] < layout.own_tiles]
            touched, whole = strips, np.bool_(not len(strips))
        own = -1 if whole else min(int(np.floor(touched.min())), layout.height - int(np.ceil(touched.max())))
        found_gaps = [gap for gap in (own, rest) if gap >= 0]
        border = min(found_gaps, default=layout.margin)
    return replace(layout, gap=result.gap, border_gap=border, overlap=result.overlap, fill=fill_of(layout))
