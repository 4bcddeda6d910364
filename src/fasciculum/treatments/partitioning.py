"""Sort what a bundle shows by how it is treated: onto patches, kept apart, or left as islands."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import ObjectPolicy, PieceRule, Treatment, TwinRule
from fasciculum.model.scene import Mesh, Node, Object, Primitive, Scene
from fasciculum.model.unwrapping import HandFlat, Shaping
from fasciculum.treatments import regions as patches
from fasciculum.treatments.apart import alike_materials
from fasciculum.treatments.cutting import cut_at_repeats
from fasciculum.treatments.flats import flat_values, is_tinted
from fasciculum.treatments.reading import SLACK, Read, held_meshes, read_of, strip_of, texels_of, users
from fasciculum.treatments.regions import METRES_PER_TEXEL, MIDDLE, TOUCHED, AtlasRegion, lane_size, swatch_edge
from fasciculum.treatments.resolved import RegionUser, ResolvedBundle
from fasciculum.treatments.sharing import Shared, SharedRegion, share_texels, shareable, whole_region
from fasciculum.uv.corners import signed_uv_areas, surface_areas
from fasciculum.uv.stretch import metric

#: texels along an edge of the least sheet that a wanted density leads to
LEAST_SHEET = 64
#: cosine between u and v on a surface from which on it counts as sheared, and the part of it that is enough
SKEW, SKEWED_PART = 0.02, 0.01
#: texels across all tiles
MOST_ACROSS = 16384


class MaterialPartitioner:
    """Sorts a bundle's primitives by what is done with them."""

    def __init__(self, scene: Scene, bundle: Bundle) -> None:
        self.scene, self.bundle = scene, bundle
        #: meshes of what is read from high-poly objects: they need texels of their own, whatever their materials are
        self.held = held_meshes(scene, bundle.objects)
        self.used = {
            index: free
            for index, uses in users(scene, bundle.objects).items()
            if (free := [use for use in uses if scene.nodes[use[0].node].mesh not in self.held])
        }
        self.patches: list[AtlasRegion] = []
        self.readers: dict[tuple[int, int], RegionUser] = {}
        self.apart: set[int] = set()
        self.slices, self.laid = 0, True
        sheet = bundle.sheet_in_force
        self.width = LEAST_SHEET if sheet.wanted > 0 else sheet.width
        #: texels from the top that are taken by patches that lie where they must
        self.top = float(sheet.border)
        self.taken = set(bundle.objects)

    def found(self) -> ResolvedBundle:
        """Return the bundle as it is laid out."""
        ways = {index: self.bundle.way(self.scene.material_name(index)) for index in self.used}
        blocks = self.bundle.sheet.pieces is PieceRule.BLOCKS
        for index, way in ways.items():
            if way is Treatment.APART:
                self.apart.add(index)
            elif way is Treatment.LANE and self.bundle.sheet.wanted <= 0:
                self._lane(index)
            elif way is Treatment.CUT:
                self._block(index, Treatment.CUT)
            elif way is Treatment.BAKE and blocks:
                self._block(index, Treatment.BAKE)
        for indices in alike_materials(self.scene, [index for index, way in ways.items() if way is Treatment.BLOCK]):
            self._share(indices)
        self._swatches([index for index, way in ways.items() if way is Treatment.SWATCH])
        self._slices([index for index, way in ways.items() if way is Treatment.SLICE])
        return self._put_together()

    # -- patches ----------------------------------------------------------------------------------------------

    def _key(self, name: str, way: str) -> str:
        key, number = f"{name} · {way}", 2
        while key in self.taken:
            key, number = f"{name} · {way} {number}", number + 1
        self.taken.add(key)
        return key

    def _plain(self, index: int) -> bool:
        """Tell whether no vertex colour changes what a material shows."""
        tint = self.bundle.bake.vertex_colors
        return not any(is_tinted(primitive, tint) for _, _, primitive in self.used[index])

    def _computed(self) -> bool:
        """Tell whether some map is made of where surfaces are, so that every surface needs texels."""
        return bool(self.bundle.bake.computed)

    def _reads(self, index: int) -> dict[tuple[int, int], tuple[Primitive, Read]] | None:
        """Return how a material's primitives read its textures, by mesh and number; None when some cannot be told."""
        results: dict[tuple[int, int], tuple[Primitive, Read]] = {}
        for item, number, primitive in self.used[index]:
            place = self.scene.nodes[item.node].mesh, number
            if place not in results:
                read = read_of(self.scene, primitive)
                if read is None or not (read.repeats or read.inside):
                    return None
                results[place] = primitive, read
        return results

    def _lane(self, index: int) -> None:
        """Lay a material on a strip across the sheet."""
        reads = self._reads(index) if self._plain(index) and not self._computed() else None
        strip = strip_of([read for _, read in reads.values()]) if reads else None
        if not reads or strip is None:
            return
        along, low, high = strip
        across = 1 - along
        texels = texels_of(self.scene, self.scene.materials[index])
        repeats, height = lane_size(self.width, high - low, (texels[along], texels[across]))
        wide, tall = self.width * METRES_PER_TEXEL, height * METRES_PER_TEXEL
        uvs = np.zeros((2, 3))
        # turned, not mirrored, where the texture repeats downwards
        uvs[along, 0] = (1 if along == 0 else -1) * repeats / wide
        uvs[across, 1] = (high - low) / tall
        uvs[across, 2] = low
        top = int(np.ceil(self.top))
        name = self.scene.material_name(index)
        self.patches.append(
            AtlasRegion(
                self._key(name, "lane"),
                index,
                Treatment.LANE,
                (wide, tall),
                uvs,
                _inverse(uvs),
                1 / METRES_PER_TEXEL,
                (1 / METRES_PER_TEXEL, 0.0, 0.0, 0.0, 1 / METRES_PER_TEXEL, float(top)),
                (0, top, self.width, top + height),
            )
        )
        # its lower edge touches one texel more
        self.top = top + height + 1 + self.bundle.sheet_in_force.padding
        for place, (primitive, read) in reads.items():
            flat = patches.transform_uvs(read.laid(), self.patches[-1].inverse)
            self.readers[place] = RegionUser(primitive, _all_of(len(self.patches) - 1, primitive), flat)

    def _block(self, index: int, way: Treatment) -> None:
        """Lay the used part of a material's textures down as one block; ``cut`` cuts surfaces at the repeats first."""
        if index < 0 or not self._plain(index) or self._computed():
            return
        reads = self._reads(index)
        if not reads:
            return
        laid: dict[tuple[int, int], tuple[Primitive, NDArray[np.float64]]] = {}
        for place, (primitive, read) in reads.items():
            if way is Treatment.CUT:
                laid[place] = cut_at_repeats(primitive, read.uvs)
            else:
                laid[place] = primitive, read.laid()
        texels = texels_of(self.scene, self.scene.materials[index])
        region = whole_region([uvs for _, uvs in laid.values()], texels, SLACK)
        number = self._add_region(index, way, region, self._density(index, way))
        for place, (primitive, uvs) in laid.items():
            read_at = patches.transform_uvs(uvs, self.patches[number].inverse)
            self.readers[place] = RegionUser(primitive, _all_of(number, primitive), read_at)

    def _add_region(
        self, index: int, way: Treatment, region: SharedRegion, density: float, *, upright: bool = False
    ) -> int:
        """Add a part of a material's texture that is laid out as it is; return its number.

        Parameters
        ----------
        density : float
            By how many texels a metre it is taken to be read.
        """
        texels = texels_of(self.scene, self.scene.materials[index])
        metres = 1 / density
        left, top, right, bottom = region.box
        uvs = np.array(
            [[1 / (texels[0] * metres), 0, left / texels[0]], [0, 1 / (texels[1] * metres), top / texels[1]]]
        )
        parts = None if len(region.parts) == 1 else (region.parts - np.array([left, top, left, top])) * metres
        name = self.scene.material_name(index)
        self.patches.append(
            AtlasRegion(
                self._key(name, "cut" if way is Treatment.CUT else "block"),
                index,
                way,
                ((right - left) * metres, (bottom - top) * metres),
                uvs,
                _inverse(uvs),
                density,
                parts=parts,
                upright=upright,
            )
        )
        return len(self.patches) - 1

    def _share(self, indices: list[int]) -> None:
        """Lay what surfaces of equal materials read down once, as regions that hold what overlaps."""
        if not self.bundle.sheet_in_force.twins or self._computed():
            return
        uses = [use for index in indices for use in self.used[index]]
        reads = shareable(self.scene, self.bundle, uses)
        if not reads:
            return
        texels = texels_of(self.scene, self.scene.materials[indices[0]])
        shared = share_texels([read for _, read in reads.values()], texels)
        regions = dict(zip(reads, shared.region, strict=True))
        densities = self._densities(uses, regions, shared, texels)
        bumpy = self.scene.materials[indices[0]].normal is not None
        sheared = self._sheared(uses, regions, shared) if bumpy else np.zeros(len(shared.regions), np.bool_)
        first = len(self.patches)
        for region, density, upright in zip(shared.regions, densities.tolist(), sheared.tolist(), strict=True):
            self._add_region(indices[0], Treatment.BLOCK, region, density, upright=upright)
        inverse = np.array([patch.inverse for patch in self.patches[first:]])
        for (place, (primitive, _)), numbers, uvs in zip(reads.items(), shared.region, shared.uvs, strict=True):
            rows = inverse[numbers]
            flat = np.einsum("tij,tcj->tci", rows[:, :, :2], uvs) + rows[:, None, :, 2]
            self.readers[place] = RegionUser(primitive, numbers + np.int32(first), flat)

    def _densities(
        self,
        uses: list[tuple[Object, int, Primitive]],
        regions: dict[tuple[int, int], NDArray[np.int32]],
        shared: Shared,
        texels: tuple[int, int],
    ) -> NDArray[np.float64]:
        """Return by how many texels a metre each region is read, on the mean over all surfaces that do, copies too."""
        count = len(shared.regions)
        read_at = dict(zip(regions, shared.uvs, strict=True))
        covered, area = np.zeros(count), np.zeros(count)
        for item, number, primitive in uses:
            node = self.scene.nodes[item.node]
            place = node.mesh, number
            if place not in regions:
                continue
            corners = primitive.positions.astype(np.float64)[primitive.triangles] @ node.world[:3, :3].T
            part = surface_areas(corners) * self.bundle.share(item.key) ** 2
            area += np.bincount(regions[place], part, count)
            flat = np.abs(signed_uv_areas(read_at[place])) * texels[0] * texels[1]
            covered += np.bincount(regions[place], flat, count)
        densities: NDArray[np.float64] = np.sqrt(covered / np.maximum(area, 1e-300))
        known = (covered > 0) & (area > 0) & np.isfinite(densities)
        usual = math.sqrt(covered[known].sum() / area[known].sum()) if known.any() else 1.0
        return np.maximum(np.where(known, densities, usual), 1e-3)

    def _sheared(
        self,
        uses: list[tuple[Object, int, Primitive]],
        regions: dict[tuple[int, int], NDArray[np.int32]],
        shared: Shared,
    ) -> NDArray[np.bool_]:
        """Tell for each region whether some of its surface is drawn with u and v not at right angles.

        Renderers square up the frame of a normal map along u, so that such surfaces read it rightly only where u keeps
        its direction.
        """
        count = len(shared.regions)
        skewed, whole = np.zeros(count), np.zeros(count)
        read_at = dict(zip(regions, shared.uvs, strict=True))
        seen = set()
        for item, number, primitive in uses:
            node = self.scene.nodes[item.node]
            place = node.mesh, number
            linear = node.world[:3, :3]
            form = linear.T @ linear
            known = place, np.round(form / max(float(np.trace(form)), 1e-300), 4).tobytes()
            if place not in regions or known in seen:
                continue
            seen.add(known)
            world = primitive.positions.astype(np.float64)[primitive.triangles] @ linear.T
            forms = np.nan_to_num(metric(world, read_at[place]), nan=0.0, posinf=0.0)
            areas = surface_areas(world)
            bent = np.abs(forms[:, 1]) > SKEW * np.sqrt(np.maximum(forms[:, 0] * forms[:, 2], 1e-300))
            skewed += np.bincount(regions[place], areas * bent, count)
            whole += np.bincount(regions[place], areas, count)
        result: NDArray[np.bool_] = skewed > SKEWED_PART * whole
        return result

    def _density(self, index: int, way: Treatment) -> float:
        """Return by how many texels a metre a block is taken to be: its own density, or that of all blocks alike."""
        # what is moved texel for texel has one size for all
        which = [index] if way is Treatment.CUT else [one for one in self.used if one >= 0]
        texels = area = 0.0
        for number in which:
            width, height = texels_of(self.scene, self.scene.materials[number])
            for item, _, primitive in self.used[number]:
                read = read_of(self.scene, primitive)
                if read is None:
                    continue
                corners = primitive.positions.astype(np.float64)[primitive.triangles]
                area += float(surface_areas(corners @ self.scene.nodes[item.node].world[:3, :3].T).sum())
                texels += float(np.abs(signed_uv_areas(read.uvs)).sum()) * width * height
        return max(float(np.sqrt(texels / area)), 1e-3) if area > 0 and texels > 0 else 1.0

    def _swatches(self, wanted: list[int]) -> None:
        """Give each set of flat values a small cell, and the surfaces of that colour its middle."""
        if self._computed():
            return
        sets: dict[tuple[float, ...], list[int]] = {}
        for index in wanted:
            values = flat_values(self.scene, self.scene.materials[index]) if index >= 0 else None
            plain = any(not is_tinted(one, self.bundle.bake.vertex_colors) for _, _, one in self.used[index])
            if values is not None and plain:
                sets.setdefault(values, []).append(index)
        if not sets:
            return
        sheet = self.bundle.sheet_in_force
        edge = swatch_edge(sheet.padding)
        inset = (edge - TOUCHED) // 2
        start = (edge - MIDDLE) / 2
        # its middle keeps the margin; whole blocks keep the colours of compressed formats apart
        left = max(-(-(sheet.border - inset) // 4) * 4, 0)
        top = max(-(-int(np.ceil(self.top) - inset) // 4) * 4, 0)
        row_length = max((self.width - 2 * left) // edge, 1)
        size = MIDDLE * METRES_PER_TEXEL
        uvs = np.array([[0.0, 0.0, 0.5], [0.0, 0.0, 0.5]])
        middle = np.array([[0.0, 0.0, size / 2], [0.0, 0.0, size / 2]])
        for number, indices in enumerate(sets.values()):
            x, y = left + number % row_length * edge, top + number // row_length * edge
            row = (1 / METRES_PER_TEXEL, 0.0, x + start, 0.0, 1 / METRES_PER_TEXEL, y + start)
            key = self._key(self.scene.material_name(indices[0]), "swatch")
            box = (x, y, x + edge, y + edge)
            self.patches.append(
                AtlasRegion(
                    key, indices[0], Treatment.SWATCH, (size, size), uvs, middle, 1 / METRES_PER_TEXEL, row, box
                )
            )
            for index in indices:
                for item, place, primitive in self.used[index]:
                    if not is_tinted(primitive, self.bundle.bake.vertex_colors):
                        flat = np.full((len(primitive.triangles), 3, 2), size / 2)
                        mesh = self.scene.nodes[item.node].mesh
                        regions = _all_of(len(self.patches) - 1, primitive)
                        self.readers[mesh, place] = RegionUser(primitive, regions, flat)

    def _slices(self, wanted: list[int]) -> None:
        """Give each material a tile of its own behind the sheet's, which its textures fill."""
        sheet = self.bundle.sheet
        reads = {}
        for index in wanted if not self._computed() and sheet.wanted <= 0 else ():
            result = self._reads(index) if index >= 0 and self._plain(index) else None
            if result and all(read.repeats for _, read in result.values()):
                reads[index] = result
        rest = sum(len(uses) for index, uses in self.used.items() if index not in reads and index not in self.apart)
        own = sheet.tiles if rest else 0
        most = max(MOST_ACROSS // sheet.width - own, 0)
        wide, high = sheet.width * METRES_PER_TEXEL, sheet.height * METRES_PER_TEXEL
        uvs = np.array([[1 / wide, 0.0, 0.0], [0.0, 1 / high, 0.0]])
        for index, result in list(reads.items())[:most]:
            name = self.scene.material_name(index)
            left = float((own + self.slices) * sheet.width)
            row = (1 / METRES_PER_TEXEL, 0.0, left, 0.0, 1 / METRES_PER_TEXEL, 0.0)
            key = self._key(name, "slice")
            self.patches.append(
                AtlasRegion(key, index, Treatment.SLICE, (wide, high), uvs, _inverse(uvs), 1 / METRES_PER_TEXEL, row)
            )
            self.slices += 1
            for place, (primitive, read) in result.items():
                flat = patches.transform_uvs(read.uvs, self.patches[-1].inverse)
                self.readers[place] = RegionUser(primitive, _all_of(len(self.patches) - 1, primitive), flat)
        self.laid = bool(own) or not self.slices or len(reads) > most

    # -- the whole --------------------------------------------------------------------------------------------

    def _put_together(self) -> ResolvedBundle:
        scene, bundle = self.scene, self.bundle
        objects: list[Object] = []
        shapings = dict(bundle.shapings)
        for key in bundle.objects:
            item = scene.object(key)
            mesh = scene.nodes[item.node].mesh
            stays = [
                mesh in self.held
                or (
                    (mesh, number) not in self.readers
                    and scene.meshes[mesh].primitives[number].material not in self.apart
                )
                for number in item.primitives
            ]
            primitives = tuple(number for number, own in zip(item.primitives, stays, strict=True) if own)
            if key in shapings and primitives and not all(stays):
                counts = [len(primitive.triangles) for primitive in scene.primitives_of(item)]
                shapings[key] = shapings[key].of_triangles(np.repeat(stays, counts))
            if primitives:
                objects.append(replace(item, primitives=primitives))
        nodes, meshes = list(scene.nodes), list(scene.meshes)
        rules = dict(bundle.twin_rules)
        for patch in self.patches:
            nodes.append(Node(patch.key, -1, np.eye(4), len(meshes), 0, -1))
            meshes.append(Mesh(patch.key, (patches.quad(patch, scene.materials[patch.material]),)))
            objects.append(Object(patch.key, len(nodes) - 1, (0,), bundle.alpha_mode))
            corners = patches.corners(patch)
            flat = HandFlat(tuple(range(len(corners))), tuple(corners.ravel().tolist()))
            shapings[patch.key] = Shaping(ObjectPolicy.KEEP, hand=(flat,), count=len(corners))
            rules[patch.key] = TwinRule.APART
        keys = tuple(item.key for item in objects)
        return ResolvedBundle(
            replace(scene, nodes=tuple(nodes), meshes=tuple(meshes), objects=tuple(objects)),
            replace(
                bundle,
                objects=keys,
                shapings=tuple(sorted((key, told) for key, told in shapings.items() if key in keys)),
                twin_rules=tuple(sorted((key, rule) for key, rule in rules.items() if key in keys)),
                ways=(),
                sheet=replace(bundle.sheet, pieces=PieceRule.ISLANDS),
            ),
            tuple(self.patches),
            self.readers,
            frozenset(self.apart),
            self.slices,
            self.laid,
            self.held,
        )


def _all_of(number: int, primitive: Primitive) -> NDArray[np.int32]:
    """Return one region's number for each triangle of a primitive."""
    return np.full(len(primitive.triangles), number, np.int32)


def _inverse(matrix: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return the 2 x 3 map that takes back what another does."""
    linear = np.linalg.inv(matrix[:, :2])
    return np.column_stack([linear, -linear @ matrix[:, 2]])
