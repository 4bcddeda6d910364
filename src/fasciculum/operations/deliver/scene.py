"""A delivery put together: meshes in their sheet UVs, one material for each page of a sheet, and the sources' tree."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum import __version__
from fasciculum.io.parts import joined, moved
from fasciculum.io.pixels import PixelStore
from fasciculum.model.attributes import Attribute
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import Combine, Fallback, FileFormat, TextureFormat
from fasciculum.model.document import Document
from fasciculum.model.finding import INFO, WARNING, Finding
from fasciculum.model.given import TrimRepeats
from fasciculum.model.maps import AO, KINDS, LIT, Role
from fasciculum.model.output import (
    Drawn,
    MeshLosses,
    MeshStorage,
    OutputImage,
    OutputMaterial,
    OutputMesh,
    OutputScene,
    Part,
    SourceStage,
)
from fasciculum.model.scene import CLAMP, REPEAT, Material, Object, Primitive, TextureSlot
from fasciculum.model.tree import NOTHING, Further, Place, Tree, TreeNode
from fasciculum.operations.deliver.conventions import (
    TextureFile,
    conforming,
    conforms,
    delivery_name,
    embedded_texture,
    encoded_source,
    tile_name,
)
from fasciculum.operations.deliver.instances import instance_groups, placed
from fasciculum.operations.deliver.joining import groups_of, middle_of, moving_objects, rounded_origin
from fasciculum.operations.deliver.lights import (
    LIGHT_UVS,
    light_is_baked,
    light_map_of,
    reads_second_set,
    with_light_places,
)
from fasciculum.operations.deliver.mesh_parts import Dress, build_mesh_parts, by_material, dress_reader, tinted
from fasciculum.operations.deliver.trees import extensions_in, merged_tree
from fasciculum.progress import SILENT, Progress
from fasciculum.treatments.apart import apart_materials
from fasciculum.treatments.resolving import resolve_bundle

#: magnifying and minifying filters of a sheet's textures, as glTF numbers them: none, linear, and linear between levels
NEAREST, LINEAR, TRILINEAR = 9728, 9729, 9987


def ready_bundles(document: Document) -> list[Bundle]:
    """Return the bundles that have a layout and maps."""
    return [
        bundle
        for bundle in document.bundles
        if bundle.layout is not None and bundle.layout.scale > 0 and bundle.texturing is not None
    ]


def bare_bundles(document: Document) -> list[Bundle]:
    """Return the bundles whose materials are all kept apart, so that they need no sheet."""
    scene = document.scene
    return [bundle for bundle in document.bundles if bundle.objects and resolve_bundle(scene, bundle).bare]


def pages_of(bundle: Bundle) -> int:
    """Return how many pages a bundle's sheet has; each has a material of its own."""
    return bundle.layout.tiles if bundle.layout is not None else 1


class SceneBuilder:
    """Puts one delivery together, for all kinds of model files.

    Parameters
    ----------
    document : Document
    store : PixelStore
    textures : dict
        The texture files of each bundle, by its name.

    Attributes
    ----------
    findings : list of Finding
    losses : MeshLosses
        What storing meshes more compactly has changed, once a writer has done so.
    """

    def __init__(
        self,
        document: Document,
        store: PixelStore,
        textures: dict[str, list[TextureFile]],
        progress: Progress = SILENT,
    ) -> None:
        self.document, self.settings = document, document.delivery
        self.scene = with_light_places(document.scene, document.bundles)
        self.store, self.textures, self.progress = store, textures, progress
        self.name = delivery_name(document)
        self.ready = ready_bundles(document)
        bare = bare_bundles(document)
        #: with those that have no sheet
        self.every = [bundle for bundle in document.bundles if bundle in self.ready or bundle in bare]
        self.on = {bundle.name: resolve_bundle(self.scene, bundle) for bundle in self.every}
        for work in self.on.values():
            work.demand_fit()
        self.apart = apart_materials(self.scene, {one for work in self.on.values() for one in work.apart})
        self.findings: list[Finding] = []
        self.losses = MeshLosses()
        self.bundle_of = self._bundles_by_object()
        self.groups = self._joined_keys()
        self.inside = {key for groups in self.groups.values() for _, keys in groups for key in keys}
        self.mirrored = self._mirrored_meshes()
        self._dressed: dict[tuple[object, ...], list[Part]] = {}

    # -- who is where -----------------------------------------------------------------------------------------

    def _bundles_by_object(self) -> dict[str, Bundle]:
        """Return the bundle of each object that is on its bundle's layout; others go along as they came."""
        results: dict[str, Bundle] = {}
        for bundle in self.every:
            wanted = set(self.on[bundle.name].bundle.objects)
            placed = set(bundle.layout.surface_numbers) if bundle.layout is not None else set()
            light = bundle.texturing.light_layout if bundle.texturing is not None else None
            if light is not None and reads_second_set(bundle):
                placed &= set(light.surface_numbers)
            left = [key for key in bundle.objects if key in wanted and key not in placed]
            results |= {key: bundle for key in bundle.objects if key not in left}
            if left:
                self.findings.append(
                    Finding(
                        "not_placed",
                        WARNING,
                        f"{bundle.name}: {', '.join(left[:5])} had no place on the sheet and were delivered unchanged.",
                        "Pack and bake the bundle again.",
                        bundle=bundle.name,
                    )
                )
        return results

    def _joined_keys(self) -> dict[str, list[tuple[str, tuple[str, ...]]]]:
        """Return for each bundle the groups of objects that become one mesh."""
        results: dict[str, list[tuple[str, tuple[str, ...]]]] = {}
        if self.settings.combine != Combine.BUNDLE:
            return results
        moving = moving_objects(self.scene)
        for bundle in self.every:
            groups, apart = groups_of(self.scene, bundle.objects, self.settings, name=bundle.name, moving=moving)
            results[bundle.name] = [
                (group.name, tuple(key for key in group.objects if key in self.bundle_of)) for group in groups
            ]
            if apart:
                self.findings.append(
                    Finding(
                        "not_joined",
                        INFO,
                        f"{bundle.name}: {', '.join(apart[:5])} move by themselves and were not joined.",
                        bundle=bundle.name,
                    )
                )
        return results

    def _instanced(self) -> list[tuple[str, ...]]:
        """Return the objects that are drawn as one, copies of one mesh each."""
        if self.settings.combine != Combine.INSTANCES:
            return []
        moving = moving_objects(self.scene)
        groups = [group for bundle in self.every for group in instance_groups(self.scene, bundle, moving)]
        delivered = [tuple(key for key in group if key in self.bundle_of) for group in groups]
        return [group for group in delivered if len(group) > 1]

    def _mirrored_meshes(self) -> set[int]:
        """Return the meshes that some mirrored node draws."""
        return {
            self.scene.nodes[item.node].mesh
            for item in self.scene.objects
            if item.key not in self.inside and np.linalg.det(self.scene.nodes[item.node].world[:3, :3]) < 0
        }

    # -- meshes -----------------------------------------------------------------------------------------------

    def _key_of(self, item: Object, bundle: Bundle) -> tuple[object, ...]:
        """Return what objects have in common that are delivered as the same parts."""
        numbers = bundle.layout.surface_numbers if bundle.layout is not None else {}
        return bundle.name, numbers.get(item.key, -1), self.scene.nodes[item.node].mesh, item.primitives

    def _parts_of(self, item: Object, bundle: Bundle) -> list[Part]:
        key = self._key_of(item, bundle)
        if key not in self._dressed:
            mesh = self.scene.nodes[item.node].mesh
            wishes = Dress(
                self.settings.keep_source_uvs,
                made_tangents=self.settings.tangents,
                no_tangents=mesh in self.mirrored,
            )
            self._dressed[key] = self._dress(item, bundle, wishes)
            if wishes.no_tangents and self._wants_tangents(item, bundle):
                self._tell_mirrored(item, bundle)
        return self._dressed[key]

    def _dress(self, item: Object, bundle: Bundle, wishes: Dress) -> list[Part]:
        """Return an object's parts: islands, what reads patches, and what is kept apart."""
        work, parts = self.on[bundle.name], []
        if bundle.layout is not None and bundle.texturing is not None:
            number = self.numbers[bundle.name]
            if item.key in bundle.layout.surface_numbers:
                parts += build_mesh_parts(work.scene, bundle, work.scene.object(item.key), number, wishes)
            for reader in work.readers_of(self.scene, item.key):
                corners = work.sheet_corners(bundle.layout, reader)
                which = work.slice_of(reader)
                parts += dress_reader(bundle, reader.primitive, corners, number, wishes, which)
        for primitive in work.apart_of(self.scene, item.key):
            material, tint = self.apart[primitive.material]
            number = self._loose_material(material, white=tint is not None, bundle=bundle.name)
            parts.append(tinted(loose_part(primitive, number), tint))
        return [part for alike in by_material(parts) for part in alike]

    def _wants_tangents(self, item: Object, bundle: Bundle) -> bool:
        if bundle.texturing is None:
            return False
        given = any(primitive.tangents is not None for primitive in self.scene.primitives_of(item))
        return bundle.texturing.map("normal") is not None and (given or self.settings.tangents)

    def _tell_mirrored(self, item: Object, bundle: Bundle) -> None:
        self.findings.append(
            Finding(
                "no_tangents",
                INFO,
                f"{item.key} is drawn mirrored too: it goes without tangents, which renderers read in two ways there.",
                "Let the engine derive them.",
                object=item.key,
                bundle=bundle.name,
            )
        )

    def _join(self, keys: tuple[str, ...], bundle: Bundle, origin: NDArray[np.float64]) -> tuple[Part, ...]:
        parts = []
        for key in keys:
            item = self.scene.object(key)
            world = self.scene.nodes[item.node].world
            parts += [moved(part, world, origin) for part in self._parts_of(item, bundle)]
        materials = sorted({part.material for part in parts})
        return tuple(joined([part for part in parts if part.material == material]) for material in materials)

    # -- materials --------------------------------------------------------------------------------------------

    def _begin(self, files: dict[str, bytes], refer: bool) -> None:
        """Start over with the sheets' images and materials."""
        self.images: list[OutputImage] = []
        self.materials: list[OutputMaterial] = []
        self.numbers: dict[str, int] = {}
        self._light_maps = {
            bundle.name: told
            for bundle in self.ready
            if (told := light_map_of(bundle, {one.map: one.file for one in self.textures[bundle.name][::-1]}))
        }
        self._loose_images: dict[int, int] = {}
        self._loose_materials: dict[tuple[int, bool, str], int] = {}
        self._sheet_images: dict[str, int] = {}
        for bundle in self.ready:
            self.numbers[bundle.name] = len(self.materials)
            for page in range(pages_of(bundle)):
                self.materials.append(self._sheet_material(bundle, page, files, refer))
        # in the same order for every format, since parts know them by their numbers
        for name, work in self.on.items():
            for index, tint in sorted({(self.apart[one][0], self.apart[one][1] is not None) for one in work.apart}):
                self._loose_material(index, white=tint, bundle=name)

    def _sheet_material(self, bundle: Bundle, page: int, files: dict[str, bytes], refer: bool) -> OutputMaterial:
        """Return the one material of a page of a bundle's sheet."""
        made = bundle.texturing
        assert made is not None
        slots: dict[str, TextureSlot] = {}
        strength = 1.0
        glows = False
        # a lane goes on beyond the sheet's sides
        layout = bundle.layout
        sliced = layout is not None and page >= layout.own_tiles
        wrap = REPEAT if sliced or (layout is not None and layout.lanes.any()) else CLAMP
        down = REPEAT if sliced else CLAMP
        filters = LINEAR, TRILINEAR
        if bundle.given is not None:
            ways = {trim.repeats for trim in bundle.given.trims}
            wrap = REPEAT if TrimRepeats.U in ways else CLAMP
            down = REPEAT if TrimRepeats.V in ways else CLAMP
            # a smaller level of a palette would mix its cells
            filters = (NEAREST, NEAREST) if bundle.given.is_palette else filters
        shown = [
            texture
            for texture in self.textures[bundle.name]
            if texture.packed is None
            and (texture.tile == page or texture.baked.tex_coord)
            and not (texture.light is not None and texture.floats)
            and not texture.level
            and not texture.fallback
        ]
        for texture in shown:
            fills = self._fills(bundle, texture.baked.name, {other.baked.name for other in shown})
            roles = [role for role in fills if role not in slots]
            if not roles:
                continue
            apart = texture.baked.tex_coord > 0
            slot = TextureSlot(
                self._sheet_image(texture, files, refer),
                texture.baked.tex_coord,
                CLAMP if apart else wrap,
                CLAMP if apart else down,
                filters=filters,
            )
            slots |= dict.fromkeys(roles, slot)
            if KINDS[texture.baked.name].scaled:
                strength, glows = texture.baked.strength, True
            self.progress.check()
        level = min(strength, 1.0) if glows else 0.0
        color, emission = (1.0, 1.0, 1.0, 1.0), (level, level, level)
        # a texture that is there holds the whole value: what it is multiplied by is 1
        written = Role.METALLIC_ROUGHNESS in slots
        metallic, roughness = (1.0, 1.0) if written else (made.metallic, made.roughness)
        for constant in made.constants:
            if constant.name == "base_color":
                red, green, blue, *alpha = constant.values
                color = red, green, blue, (alpha or [1.0])[0]
            elif constant.name == "orm":
                _, roughness, metallic = constant.values
            elif constant.name == "emissive" and max(constant.values) > 0:
                strength = constant.strength * max(constant.values)
                part = min(strength, 1.0) / max(constant.values)
                emission = tuple(value * part for value in constant.values)  # type: ignore[assignment]
        told = light_map_of(bundle, {texture.map: texture.file for texture in shown})
        material = Material(
            tile_name(bundle.name, page, pages_of(bundle), layout.slices if layout is not None else 0),
            base_color_factor=color,
            metallic_factor=metallic,
            roughness_factor=roughness,
            emissive_factor=emission,
            emissive_strength=max(strength, 1.0),
            alpha_mode=bundle.alpha_mode,
            alpha_cutoff=made.alpha_cutoff,
            double_sided=made.double_sided,
            unlit=made.unlit or bundle.bake.lit_only,
            extensions={} if made.unlit or bundle.bake.lit_only else made.extensions,
            further=NOTHING if told is None else Further({"light_map": told}),
            **slots,  # type: ignore[arg-type]
        )
        texels = max((max(texture.baked.width, texture.baked.height) for texture in shown), default=0)
        named = {texture.map: _readable(texture, files) for texture in shown}
        return OutputMaterial(material, named, texels, is_sheet=True)

    def _sheet_image(self, texture: TextureFile, files: dict[str, bytes], refer: bool) -> int:
        """Return the number of a sheet's image; pages that share one have it once."""
        if texture.file not in self._sheet_images:
            self._sheet_images[texture.file] = len(self.images)
            self.images.append(self._image(texture, files, refer))
        return self._sheet_images[texture.file]

    def _fills(self, bundle: Bundle, name: str, there: set[str]) -> tuple[Role, ...]:
        """Return the textures of the material that a map becomes.

        Computed occlusion is that of the material where no source material has one. Where the look is all in the lit
        map, that is the only one.
        """
        if bundle.bake.lit_only and LIT.name in there:
            return (Role.BASE_COLOR,) if name == LIT.name else ()
        fills = KINDS[name].fills
        scene = self.on[bundle.name].scene
        used = scene.materials_among(self.on[bundle.name].bundle.objects)
        own = any(one.occlusion is not None and not scene.images[one.occlusion.image].missing for one in used)
        computed = AO.name in there and bundle.bake.ao_as_occlusion and not own
        if name == AO.name:
            return fills if computed else ()
        return tuple(role for role in fills if role is not Role.OCCLUSION or not computed)

    def _image(self, texture: TextureFile, files: dict[str, bytes], refer: bool) -> OutputImage:
        name = texture.file.rpartition(".")[0]
        if texture.contained:
            return self._contained_image(texture, name, files, refer)
        held = texture.baked.source and texture.file.lower().endswith((".png", ".jpg", ".jpeg"))
        if held or (conforms(self.settings) and texture.file.endswith((f".{FileFormat.PNG}", f".{FileFormat.WEBP}"))):
            return OutputImage(name, b"" if refer else files[texture.file], texture.file if refer else "")
        plain, settings = conforming(texture, self.settings)
        return OutputImage(name, embedded_texture(self.store, plain, settings))

    def _contained_image(self, texture: TextureFile, name: str, files: dict[str, bytes], refer: bool) -> OutputImage:
        """Return the image of a texture that is delivered in a container: as PNG, with the DDS beside it."""
        plain, settings = conforming(texture, self.settings)
        beside = conforms(self.settings) and texture.file.endswith(f".{TextureFormat.DDS}")
        dds = {"dds": b"" if refer else files[texture.file], "dds_uri": texture.file if refer else ""} if beside else {}
        if beside and self.settings.fallback is Fallback.NO:
            return OutputImage(name, b"", **dds)  # type: ignore[arg-type]
        png = _readable(texture, files)
        if refer and png != texture.file:
            return OutputImage(name, b"", png, **dds)  # type: ignore[arg-type]
        return OutputImage(name, embedded_texture(self.store, plain, settings), **dds)  # type: ignore[arg-type]

    def _loose_material(self, index: int, *, white: bool = False, bundle: str = "") -> int:
        """Return the output number of a material that is delivered as it came; white for vertex colours to tint.

        On a bundle with a light map it says so, and reads other UV sets than the second.
        """
        if index < 0:
            return -1
        told = self._light_maps.get(bundle)
        key = index, white, bundle if told is not None else ""
        if key not in self._loose_materials:
            material = self.scene.materials[index]
            if white:
                material = replace(material, base_color_factor=(1.0, 1.0, 1.0, 1.0))
            if told is not None:
                material = _beneath(material, told)
            slots = {role: self._loose_slot(slot) for role, slot in material.slots().items()}
            extensions = {name: self._with_images(value) for name, value in material.further.extensions.items()}
            self._loose_materials[key] = len(self.materials)
            further = replace(material.further, extensions=extensions)
            loose = replace(material, further=further, extensions={}, **slots)  # type: ignore[arg-type]
            read = [self.scene.images[slot.image] for slot in material.slots().values()]
            texels = max((max(image.width, image.height) for image in read), default=0)
            self.materials.append(OutputMaterial(loose, texels=texels))
        return self._loose_materials[key]

    def _loose_slot(self, slot: TextureSlot) -> TextureSlot | None:
        image = self.scene.images[slot.image]
        if image.missing:
            return None
        if slot.image not in self._loose_images:
            self._loose_images[slot.image] = len(self.images)
            self.images.append(OutputImage(image.name, encoded_source(self.store, image)))
        return replace(slot, image=self._loose_images[slot.image])

    def _with_images(self, value: object) -> object:
        """Return a part of an extension with its textures' images numbered anew; missing ones are left out."""
        if isinstance(value, TextureSlot):
            return self._loose_slot(value)
        if isinstance(value, dict):
            parts = {key: self._with_images(part) for key, part in value.items()}
            return {key: part for key, part in parts.items() if part is not None or value[key] is None}
        return value

    # -- the whole --------------------------------------------------------------------------------------------

    def scene_with(self, files: dict[str, bytes], *, refer: bool, upon: SourceStage | None = None) -> OutputScene:
        """Return all that is delivered as a model.

        Parameters
        ----------
        files : dict
            The texture files, encoded, by their names.
        refer : bool
            Refer to texture files instead of holding them.
        upon : SourceStage, optional
            The stage that the model is written upon as a layer.
        """
        self._begin(files, refer and conforms(self.settings))
        self.meshes: list[OutputMesh] = []
        self._mesh_numbers: dict[tuple[object, ...], int] = {}
        by_node: dict[int, list[Object]] = {}
        for item in self.scene.objects:
            by_node.setdefault(item.node, []).append(item)
        numbers: dict[int, int] = {}
        drawn: list[Drawn] = []
        for index, node in enumerate(self.scene.nodes):
            if index % 64 == 0:
                self.progress.check()
            numbers[index] = self._mesh(index, by_node.get(index, []))
            if numbers[index] >= 0:
                drawn.append(Drawn(node.name, node.world, numbers[index]))
        roots = []
        for bundle in self.every:
            for name, keys in self.groups.get(bundle.name, []):
                if keys:
                    origin = rounded_origin(middle_of(self.scene, keys))
                    place = Place(translation=tuple(origin.tolist()) if origin.any() else None)
                    roots.append(TreeNode(name, place, mesh=len(self.meshes)))
                    world = np.eye(4)
                    world[:3, 3] = origin
                    drawn.append(Drawn(name, world, len(self.meshes)))
                    self.meshes.append(OutputMesh(name, self._join(keys, bundle, origin)))
        bare = {item.node for item in self.scene.objects if item.key in self.inside}
        for keys in self._instanced():
            nodes = [self.scene.object(key).node for key in keys]
            number = numbers[nodes[0]]
            name = f"{self.meshes[number].name or keys[0]} copies"
            roots.append(TreeNode(name, mesh=number, copies=placed(self.scene.nodes[node].world for node in nodes)))
            numbers |= dict.fromkeys(nodes, -1)
            bare |= set(nodes)
        tree = merged_tree(
            self.scene,
            lambda node: numbers[node],
            bare=frozenset(bare),
            joined=roots,
            lights=self.settings.lights and not light_is_baked(self.ready),
        )
        self._tell_lost_extensions(tree)
        return OutputScene(
            self.name,
            f"Fasciculum {__version__}",
            tree,
            tuple(self.meshes),
            tuple(self.materials),
            tuple(self.images),
            tuple(drawn),
            MeshStorage(self.settings.mesh_compression, self.settings.quantize, self.losses),
            upon,
        )

    def _tell_lost_extensions(self, tree: Tree) -> None:
        """Tell of extensions that were to go along, and cannot among several models or where nodes are left out."""
        told = {finding.code for finding in self.findings}
        carried = {name for source in self.scene.sources for name in extensions_in(source.tree)}
        lost = sorted(carried - extensions_in(tree))
        if lost and "extensions_left_out" not in told:
            self.findings.append(
                Finding(
                    "extensions_left_out",
                    WARNING,
                    f"{', '.join(lost[:6])} had to be left out: nodes have other numbers in this delivery.",
                    "Deliver each model by itself, without merging meshes, where they are needed.",
                )
            )

    def _mesh(self, index: int, items: list[Object]) -> int:
        """Return the output mesh of a node; nodes that draw the same share one."""
        node = self.scene.nodes[index]
        if node.mesh < 0:
            return -1
        mesh = self.scene.meshes[node.mesh]
        keys: list[object] = [node.mesh]
        parts: list[Part] = []
        for item in items:
            if item.key in self.inside:
                continue
            bundle = self.bundle_of.get(item.key)
            if bundle is None:
                keys.append(("loose", item.primitives))
                parts += [
                    loose_part(primitive, self._loose_material(primitive.material))
                    for primitive in self.scene.primitives_of(item)
                ]
            else:
                keys.append(self._key_of(item, bundle))
                parts += self._parts_of(item, bundle)
        if len(keys) == 1 and not mesh.aside:
            return -1
        key = tuple(keys)
        if key not in self._mesh_numbers:
            aside = tuple(replace(part, material=self._loose_material(part.material)) for part in mesh.aside)
            more = (mesh.weights, mesh.further) if parts else ()
            self._mesh_numbers[key] = len(self.meshes)
            self.meshes.append(OutputMesh(mesh.name, tuple(parts), aside, *more))
        return self._mesh_numbers[key]


def _readable(texture: TextureFile, files: dict[str, bytes]) -> str:
    """Return the file that any program can read: the PNG that lies beside a container, else the texture's own."""
    png = f"{texture.file.rpartition('.')[0]}.{FileFormat.PNG}"
    return png if texture.contained and png in files else texture.file


def _beneath(material: Material, told: dict[str, Any]) -> Material:
    """Return a material as it lies beneath a light map."""
    extras = material.further.extras
    kept = extras if isinstance(extras, dict) else ({} if extras is None else {"source": extras})
    further = replace(material.further, extras=kept | {"light_map": told})
    if not told["tex_coord"]:
        return replace(material, further=further)
    slots = {
        role: replace(slot, uv_set=slot.uv_set + (slot.uv_set > 0), further=slot.further)
        for role, slot in material.slots().items()
    }
    return replace(material, further=further, **slots)  # type: ignore[arg-type]


def loose_part(primitive: Primitive, material: int) -> Part:
    """Return a primitive as it came, for an object that is in no bundle."""
    attributes = {"POSITION": Attribute(primitive.positions, "VEC3", False)}
    if primitive.normals is not None:
        attributes["NORMAL"] = Attribute(primitive.normals, "VEC3", False)
    if primitive.tangents is not None:
        attributes["TANGENT"] = Attribute(primitive.tangents, "VEC4", False)
    # a place on a light sheet takes that of the second set
    lit = LIGHT_UVS in primitive.extra
    for number, uvs in enumerate(primitive.uv_sets):
        if len(uvs):
            attributes[f"TEXCOORD_{number + (lit and number > 0)}"] = Attribute(uvs, "VEC2", False)
    if primitive.colors is not None:
        attributes["COLOR_0"] = Attribute(primitive.colors, "VEC4", False)
    return Part(attributes | primitive.extra, primitive.triangles, material, primitive.targets)
