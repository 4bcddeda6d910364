"""Sort what a bundle shows by how it is treated: onto patches, kept apart, or left as islands."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import ObjectPolicy, PieceRule, Treatment, TwinRule
from fasciculum.model.scene import Mesh, Node, Object, Primitive, Scene
from fasciculum.model.unwrapping import HandFlat, Shaping
from fasciculum.treatments import regions as patches
from fasciculum.treatments.cutting import cut_at_repeats
from fasciculum.treatments.flats import flat_values, is_tinted
from fasciculum.treatments.reading import SLACK, Read, held_meshes, read_of, strip_of, texels_of, users
from fasciculum.treatments.regions import METRES_PER_TEXEL, MIDDLE, TOUCHED, AtlasRegion, lane_size, swatch_edge
from fasciculum.treatments.resolved import RegionUser, ResolvedBundle
from fasciculum.uv.corners import signed_uv_areas, surface_areas

#: texels along an edge of the least sheet that a wanted density leads to
LEAST_SHEET = 64
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
            self.readers[place] = RegionUser(primitive, len(self.patches) - 1, flat)

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
        texels = np.array(texels_of(self.scene, self.scene.materials[index]), np.float64)
        low = np.min([uvs.min(axis=(0, 1)) for _, uvs in laid.values()], axis=0)
        high = np.max([uvs.max(axis=(0, 1)) for _, uvs in laid.values()], axis=0)
        first = np.floor(low * texels + SLACK)
        size = np.maximum(np.ceil(high * texels - SLACK) - first, 1.0)
        metres = 1 / self._density(index, way)
        uvs = np.array([[1 / (texels[0] * metres), 0, first[0] / texels[0]], [0, 1 / (texels[1] * metres), 0]])
        uvs[1, 2] = first[1] / texels[1]
        name = self.scene.material_name(index)
        flat = (float(size[0] * metres), float(size[1] * metres))
        word = "cut" if way is Treatment.CUT else "block"
        self.patches.append(AtlasRegion(self._key(name, word), index, way, flat, uvs, _inverse(uvs), 1 / metres))
        for place, (primitive, corners) in laid.items():
            read_at = patches.transform_uvs(corners, self.patches[-1].inverse)
            self.readers[place] = RegionUser(primitive, len(self.patches) - 1, read_at)

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
                        self.readers[mesh, place] = RegionUser(primitive, len(self.patches) - 1, flat)

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
                self.readers[place] = RegionUser(primitive, len(self.patches) - 1, flat)
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
            flat = HandFlat((0, 1), tuple(patches.corners(patch).ravel().tolist()))
            shapings[patch.key] = Shaping(ObjectPolicy.KEEP, hand=(flat,), count=2)
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


def _inverse(matrix: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return the 2 x 3 map that takes back what another does."""
    linear = np.linalg.inv(matrix[:, :2])
    return np.column_stack([linear, -linear @ matrix[:, 2]])
