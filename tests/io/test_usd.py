"""USD: stages that the library itself made, read, delivered and delivered upon, judged by the library."""

import contextlib
import io
import json
import random
import resource
import sys
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import numpy as np
from PIL import Image
from pxr import Gf, Sdf, Usd, UsdGeom, UsdLux, UsdShade, UsdValidation, Vt

from fasciculum.cli.main import main
from fasciculum.errors import FasciculumError, OutsideFolder, UnsupportedInput
from fasciculum.io.formats.gltf.reader import read_gltf
from fasciculum.io.formats.usd.reader import read_usd
from fasciculum.io.formats.usd.stage import LEAST_BOUND, bounded
from fasciculum.io.pixels import PixelStore
from fasciculum.model.lookup import Lookup
from tests.builders import smooth_image
from tests.io.fuzz import mutate_bytes
from tests.reference import bilinear

TYPES = Sdf.ValueTypeNames
FACES = [[0, 1, 3, 2], [4, 6, 7, 5], [0, 4, 5, 1], [2, 3, 7, 6], [0, 2, 6, 4], [1, 5, 7, 3]]
SQUARE = ((0.1, 0.2), (0.9, 0.2), (0.9, 0.7), (0.1, 0.7))


class Stages(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.stage = Usd.Stage.CreateNew(str(self.folder / "hut.usda"))
        UsdGeom.SetStageUpAxis(self.stage, UsdGeom.Tokens.z)
        UsdGeom.SetStageMetersPerUnit(self.stage, 0.01)
        self.stage.SetDefaultPrim(UsdGeom.Xform.Define(self.stage, "/World").GetPrim())

    def picture(self, name, seed, mode="RGB"):
        pixels = smooth_image(64, seed=seed)
        Image.fromarray(pixels).convert(mode).save(self.folder / name)
        return pixels

    def material(self, name, file="", *, transform=None, stage=None, **constants):
        stage = stage or self.stage
        path = f"/World/Looks/{name}"
        look = UsdShade.Material.Define(stage, path)
        surface = UsdShade.Shader.Define(stage, f"{path}/surface")
        surface.CreateIdAttr("UsdPreviewSurface")
        look.CreateSurfaceOutput().ConnectToSource(surface.ConnectableAPI(), "surface")
        for key, (kind, value) in constants.items():
            surface.CreateInput(key, kind).Set(value)
        if file:
            self.texture(surface, "diffuseColor", file, "rgb", "sRGB", transform=transform, stage=stage)
        return look, surface

    def texture(self, surface, name, file, output, space, *, transform=None, stage=None, **inputs):
        stage, path = stage or self.stage, f"{surface.GetPath().GetParentPath()}"
        reader = UsdShade.Shader.Define(stage, f"{path}/reader")
        reader.CreateIdAttr("UsdPrimvarReader_float2")
        reader.CreateInput("varname", TYPES.String).Set("st")
        source = reader
        if transform:
            source = UsdShade.Shader.Define(stage, f"{path}/placed")
            source.CreateIdAttr("UsdTransform2d")
            source.CreateInput("in", TYPES.Float2).ConnectToSource(reader.ConnectableAPI(), "result")
            source.CreateInput("scale", TYPES.Float2).Set(Gf.Vec2f(*transform[0]))
            source.CreateInput("rotation", TYPES.Float).Set(transform[1])
            source.CreateInput("translation", TYPES.Float2).Set(Gf.Vec2f(*transform[2]))
        one = UsdShade.Shader.Define(stage, f"{path}/{name}")
        one.CreateIdAttr("UsdUVTexture")
        one.CreateInput("file", TYPES.Asset).Set(file)
        one.CreateInput("sourceColorSpace", TYPES.Token).Set(space)
        for key in ("wrapS", "wrapT"):
            one.CreateInput(key, TYPES.Token).Set("repeat")
        for key, value in inputs.items():
            one.CreateInput(key, TYPES.Float4).Set(Gf.Vec4f(*value))
        one.CreateInput("st", TYPES.Float2).ConnectToSource(source.ConnectableAPI(), "result")
        kind = TYPES.Color3f if output == "rgb" else TYPES.Float
        surface.CreateInput(name, kind).ConnectToSource(one.ConnectableAPI(), output)

    def box(self, path, look=None, size=100.0, uvs=SQUARE, stage=None, **more):
        mesh = UsdGeom.Mesh.Define(stage or self.stage, path)
        ends = (-1, 1)
        points = np.array([[x, y, z] for x in ends for y in ends for z in ends], np.float32) * size / 2
        mesh.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(points))
        mesh.CreateFaceVertexCountsAttr([4] * 6)
        mesh.CreateFaceVertexIndicesAttr([corner for face in FACES for corner in face])
        mesh.CreateSubdivisionSchemeAttr("none")
        primvar = UsdGeom.PrimvarsAPI(mesh).CreatePrimvar("st", TYPES.TexCoord2fArray, "faceVarying")
        # each face reads a strip of its own
        primvar.Set([Gf.Vec2f(u, (v + face) / 6) for face in range(6) for u, v in uvs])
        if look is not None:
            UsdShade.MaterialBindingAPI.Apply(mesh.GetPrim()).Bind(look)
        UsdGeom.XformCommonAPI(mesh).SetTranslate(more.get("at", (0, 0, 0)))
        return mesh

    def subset(self, mesh, name, faces, look):
        part = UsdGeom.Subset.CreateGeomSubset(mesh, name, "face", faces, "materialBind", "nonOverlapping")
        UsdShade.MaterialBindingAPI.Apply(part.GetPrim()).Bind(look)

    def read(self, name="hut.usda", **more):
        self.stage.GetRootLayer().Save()
        self.store = PixelStore(self.folder / "pixels")
        return read_usd(self.folder / name, self.store, **more)

    def placed(self, scene, item):
        """Return the corners of an object's triangles in the world, (T, 3, 3)."""
        world = scene.nodes[item.node].world
        (primitive,) = scene.primitives_of(item)
        return (primitive.positions @ world[:3, :3].T + world[:3, 3])[primitive.triangles]

    def run_make(self, *more, name="hut.usda", out="out"):
        self.stage.GetRootLayer().Save()
        words = ["make", str(self.folder / name), "--out", str(self.folder / out), "--seconds", "0", *more]
        with contextlib.redirect_stdout(io.StringIO()), contextlib.redirect_stderr(io.StringIO()) as errors:
            code = main(words)
        self.assertEqual(code, 0, errors.getvalue())
        return json.loads((self.folder / out / "hut_report.json").read_text())


class Read(Stages):
    def test_units_axes_and_handedness(self):
        self.box("/World/Hut", at=(300, 0, 50))
        self.box("/World/Crate", at=(0, 200, 50)).CreateOrientationAttr("leftHanded")
        scene, _ = self.read()
        middles = {}
        for item in scene.objects:
            corners = self.placed(scene, item)
            middles[item.key] = corners.reshape(-1, 3).mean(axis=0)
            out = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
            outside = (out * (corners.mean(axis=1) - middles[item.key])).sum(axis=1) > 0
            # the box is wound inwards as the stage has it, so that handedness alone turns it
            self.assertEqual(set(outside.tolist()), {item.key == "Crate"} if self.inwards() else {item.key == "Hut"})
            self.assertAlmostEqual(np.ptp(corners.reshape(-1, 3), axis=0).max(), 1.0, places=5)
        # z up in centimetres: (x, y, z) stands at (x, z, -y) metres
        np.testing.assert_allclose(middles["Hut"], [3, 0.5, 0], atol=1e-5)
        np.testing.assert_allclose(middles["Crate"], [0, 0.5, -2], atol=1e-5)

    @staticmethod
    def inwards():
        ends = (-1, 1)
        points = np.array([[x, y, z] for x in ends for y in ends for z in ends], float)
        a, b, c, _ = points[FACES[0]]
        return bool(np.cross(b - a, c - a) @ (a + b + c) < 0)

    def test_every_interpolation_says_the_same(self):
        for kind, count in (("constant", 1), ("uniform", 6), ("vertex", 8), ("varying", 8), ("faceVarying", 24)):
            mesh = self.box(f"/World/{kind}")
            values = np.random.default_rng(count).uniform(0, 1, (count, 2)).astype(np.float32)
            primvar = UsdGeom.PrimvarsAPI(mesh).GetPrimvar("st")
            primvar.SetInterpolation(kind)
            primvar.Set(Vt.Vec2fArray.FromNumpy(values))
        indexed = UsdGeom.PrimvarsAPI(self.box("/World/indexed")).GetPrimvar("st")
        indexed.Set([Gf.Vec2f(0.25, 0.5), Gf.Vec2f(0.75, 0.5)])
        indexed.SetIndices(Vt.IntArray([0, 1] * 12))
        scene, _ = self.read()
        for item in scene.objects:
            (primitive,) = scene.primitives_of(item)
            mesh = UsdGeom.Mesh(self.stage.GetPrimAtPath(f"/World/{item.key}"))
            primvar = UsdGeom.PrimvarsAPI(mesh).GetPrimvar("st")
            flat, kind = np.array(primvar.ComputeFlattened()), primvar.GetInterpolation()
            corner = np.concatenate([[4 * f, 4 * f + 1, 4 * f + 2, 4 * f, 4 * f + 2, 4 * f + 3] for f in range(6)])
            vertex = np.array([corner for face in FACES for corner in face])
            number = {"constant": corner * 0, "uniform": corner // 4, "faceVarying": corner}.get(kind, vertex[corner])
            points = np.array(mesh.GetPointsAttr().Get(), float)[vertex[corner]]
            read = flat[number].astype(float) * [1, -1] + [0, 1]
            wanted = {tuple(row) for row in np.round(np.concatenate([points, read], axis=1), 4).tolist()}
            given = primitive.triangles.reshape(-1)
            told = np.concatenate([primitive.positions[given], primitive.uv_sets[0][given]], axis=1)
            self.assertEqual({tuple(row) for row in np.round(told.astype(float), 4).tolist()}, wanted, item.key)

    def test_subsets_instances_and_copies(self):
        self.picture("wood.png", 1)
        self.picture("steel.png", 2)
        wood, _ = self.material("wood", "./wood.png")
        steel, _ = self.material("steel", "./steel.png")
        self.subset(self.box("/World/Hut", wood), "door", [0, 1], steel)
        self.box("/Lib/Post", wood, 30.0)
        for number in range(3):
            post = UsdGeom.Xform.Define(self.stage, f"/World/Post{number}")
            post.GetPrim().GetReferences().AddInternalReference("/Lib")
            post.GetPrim().SetInstanceable(True)
            UsdGeom.XformCommonAPI(post).SetTranslate((0, 100.0 * number, 0))
        self.stage.GetPrimAtPath("/Lib").SetSpecifier(Sdf.SpecifierClass)
        scatter = UsdGeom.PointInstancer.Define(self.stage, "/World/Scatter")
        self.box("/World/Scatter/Stone", steel, 10.0)
        scatter.CreatePrototypesRel().SetTargets(["/World/Scatter/Stone"])
        scatter.CreateProtoIndicesAttr([0, 0])
        scatter.CreatePositionsAttr([Gf.Vec3f(0, 0, 0), Gf.Vec3f(500, 0, 0)])
        scatter.CreateOrientationsAttr([Gf.Quath(1, 0, 0, 0), Gf.Quath(0.7071, 0, 0, 0.7071)])
        scene, _ = self.read()
        nodes = [scene.nodes[item.node] for item in scene.objects]
        self.assertEqual(len(scene.objects), 6)
        self.assertEqual(len({node.mesh for node in nodes}), 3)
        hut = next(item for item in scene.objects if item.key == "Hut")
        counts = {scene.material_name(p.material): len(p.triangles) for p in scene.primitives_of(hut)}
        self.assertEqual(counts, {"wood": 8, "steel": 4})
        stones = sorted((self.placed(scene, item) for item in scene.objects if "Stone" in item.key), key=np.sum)
        np.testing.assert_allclose(stones[1].reshape(-1, 3).mean(axis=0), [5, 0, 0], atol=1e-3)
        posts = [self.placed(scene, item).reshape(-1, 3).mean(axis=0) for item in scene.objects if "Post" in item.key]
        np.testing.assert_allclose(sorted(row[2] for row in posts), [-2, -1, 0], atol=1e-5)

    def test_surfaces_as_glTF_has_them(self):
        self.picture("wood.png", 1)
        rough = self.picture("rough.png", 2)
        metal = self.picture("metal.png", 3)
        look, surface = self.material(
            "wood", "./wood.png", transform=((2.0, 3.0), 30.0, (0.25, 0.5)), ior=(TYPES.Float, 1.33),
            opacity=(TYPES.Float, 0.5), emissiveColor=(TYPES.Color3f, Gf.Vec3f(2, 4, 0)),
        )  # fmt: skip
        self.texture(surface, "roughness", "./rough.png", "r", "raw", scale=(0.5,) * 4, bias=(0.25,) * 4)
        self.texture(surface, "metallic", "./metal.png", "b", "raw")
        self.box("/World/Hut", look)
        cut, _ = self.material("cut", opacity=(TYPES.Float, 0.9), opacityThreshold=(TYPES.Float, 0.25))
        self.box("/World/Leaf", cut)
        scene, _ = self.read()
        wood, leaf = (next(one for one in scene.materials if one.name == name) for name in ("wood", "cut"))
        self.assertEqual((wood.alpha_mode, wood.base_color_factor[3]), ("BLEND", 0.5))
        self.assertEqual((leaf.alpha_mode, leaf.alpha_cutoff), ("MASK", 0.25))
        self.assertEqual(wood.extensions["KHR_materials_ior"], {"ior": float(np.float32(1.33))})
        np.testing.assert_allclose(np.array(wood.emissive_factor) * wood.emissive_strength, [2, 4, 0])
        packed = self.store.get(scene.images[wood.metallic_roughness.image].pixels)
        np.testing.assert_allclose(packed[..., 1], np.round(rough[..., 0] * 0.5 + 63.75), atol=1)
        np.testing.assert_array_equal(packed[..., 2], metal[..., 2])
        # what is read at a place: scaled, turned, moved with v up, as the library's specification says
        st = np.array([0.3, 0.8])
        turn = np.radians(30)
        wanted = np.array([[np.cos(turn), -np.sin(turn)], [np.sin(turn), np.cos(turn)]]) @ (st * [2, 3]) + [0.25, 0.5]
        got = wood.base_color.matrix() @ [st[0], 1 - st[1], 1]
        np.testing.assert_allclose([got[0], 1 - got[1]], wanted, atol=1e-6)

    def test_green_down_and_linear_colours_are_turned(self):
        normal = self.picture("n.png", 4)
        color = self.picture("linear.png", 5)
        look, surface = self.material("wood")
        self.texture(surface, "diffuseColor", "./linear.png", "rgb", "raw")
        down = {"scale": (2, -2, 2, 1), "bias": (-1, 1, -1, 0)}
        self.texture(surface, "normal", "./n.png", "rgb", "raw", **down)
        self.box("/World/Hut", look)
        scene, _ = self.read()
        (material,) = scene.materials
        pixels = self.store.get(scene.images[material.normal.image].pixels)
        np.testing.assert_array_equal(pixels[..., 1], 255 - normal[..., 1])
        linear = color / 255
        srgb = np.where(linear <= 0.0031308, 12.92 * linear, 1.055 * linear ** (1 / 2.4) - 0.055)
        pixels = self.store.get(scene.images[material.base_color.image].pixels)
        np.testing.assert_allclose(pixels, srgb * 255, atol=0.6)

    def test_vertex_colours_cages_lights_and_what_is_hidden(self):
        mesh = self.box("/World/Rock")
        UsdGeom.PrimvarsAPI(mesh).CreatePrimvar("displayColor", TYPES.Color3fArray, "uniform").Set(
            [Gf.Vec3f(face / 5, 0.5, 0) for face in range(6)]
        )
        mesh.CreateSubdivisionSchemeAttr("catmullClark")
        UsdGeom.Imageable(self.box("/World/Hidden")).MakeInvisible()
        self.box("/World/Guide").CreatePurposeAttr("guide")
        sun = UsdLux.DistantLight.Define(self.stage, "/World/Sun")
        sun.CreateIntensityAttr(4000.0)
        sun.CreateExposureAttr(1.0)
        bulb = UsdLux.SphereLight.Define(self.stage, "/World/Bulb")
        bulb.CreateRadiusAttr(10.0)
        bulb.CreateIntensityAttr(1000.0)
        scene, findings = self.read()
        self.assertEqual([item.key for item in scene.objects], ["Rock"])
        (primitive,) = scene.primitives_of(scene.objects[0])
        self.assertEqual({round(float(row[0]), 4) for row in primitive.colors}, {0, 0.2, 0.4, 0.6, 0.8, 1})
        # smooth over a cube's corner: along its diagonal
        np.testing.assert_allclose(np.abs(primitive.normals), 3**-0.5, atol=1e-5)
        lights = {light.name: light for light in scene.sources[0].tree.lights}
        self.assertEqual((lights["Sun"].kind, lights["Sun"].intensity), ("directional", 8000.0))
        # nits times the disc that is seen of a ball of ten centimetres
        self.assertAlmostEqual(lights["Bulb"].intensity, 1000 * np.pi * 0.01, places=3)
        told = " ".join(finding.message for finding in findings)
        self.assertIn("Hidden", told)
        self.assertIn("cages", told)

    def test_what_is_damaged_missing_or_outside_is_refused(self):
        self.box("/World/Hut")
        self.stage.GetRootLayer().Save()
        text = (self.folder / "hut.usda").read_text()
        outside = Path(self.enterContext(tempfile.TemporaryDirectory())) / "far.usda"
        outside.write_text(text)
        cases = {
            "cut.usda": text[: len(text) // 2],
            "not.usdc": "PXR-USDC" + "x" * 90,
            "none.usdz": "PK",
            "corner.usda": text.replace("[0, 1, 3, 2,", "[0, 1, 3, 99,"),
            "counts.usda": text.replace("int[] faceVertexCounts = [4,", "int[] faceVertexCounts = [5,"),
            "far.usda": f"#usda 1.0\n(\n subLayers = [@{outside}@]\n)\n",
            "nan.usda": text.replace("point3f[] points = [(-50,", "point3f[] points = [(nan,"),
        }
        for name, content in cases.items():
            with self.subTest(name):
                (self.folder / name).write_text(content)
                with self.assertRaises(FasciculumError) as caught:
                    self.read(name)
                self.assertTrue(caught.exception.hint)
        self.assertIsInstance(caught.exception, FasciculumError)
        with self.assertRaises(OutsideFolder):
            self.read("far.usda")

    def test_without_the_library_the_line_to_type_is_told(self):
        self.box("/World/Hut")
        self.stage.GetRootLayer().Save()
        with mock.patch.dict(sys.modules, {"pxr": None}):
            with self.assertRaises(UnsupportedInput) as caught:
                self.read()
            self.assertIn("pip install usd-core", caught.exception.hint)
            with contextlib.redirect_stderr(io.StringIO()) as errors:
                self.assertEqual(main(["inspect", str(self.folder / "hut.usda")]), 3)
            self.assertIn("pip install usd-core", errors.getvalue())


class Mutated(Stages):
    def test_changed_stages_are_read_or_refused(self):
        self.picture("wood.png", 1)
        self.subset(
            self.box("/World/Hut", self.material("wood", "./wood.png")[0]), "door", [0], self.material("grey")[0]
        )
        self.stage.GetRootLayer().Save()
        text = (self.folder / "hut.usda").read_bytes()
        self.stage.Export(str(self.folder / "crate.usdc"))
        crate = (self.folder / "crate.usdc").read_bytes()
        for kind, data in (("usda", text), ("usdc", crate)):
            counts = {True: 0, False: 0}
            for seed in range(120):
                # each under a name of its own: the library keeps what it has opened
                path = self.folder / f"m{seed}.{kind}"
                path.write_bytes(mutate_bytes(random.Random(seed), data))
                with self.subTest(kind, seed=seed):
                    try:
                        read_usd(path, PixelStore(self.folder / "pixels"))
                        counts[True] += 1
                    except FasciculumError as error:
                        self.assertTrue(error.hint)
                        counts[False] += 1
            self.assertGreater(min(counts.values()), 2, (kind, counts))

    def test_what_a_file_claims_does_not_take_all_memory(self):
        soft = resource.getrlimit(resource.RLIMIT_AS)
        with bounded(1), self.assertRaises(MemoryError):
            np.ones(LEAST_BOUND + (1 << 30), np.uint8)
        self.assertEqual(resource.getrlimit(resource.RLIMIT_AS), soft)


class Delivered(Stages):
    def station(self):
        """A stage with two huts, a subset, instances and a left-handed crate."""
        self.pictures = {"wood": self.picture("wood.png", 1), "steel": self.picture("steel.png", 2)}
        wood, _ = self.material("wood", "./wood.png")
        steel, _ = self.material("steel", "./steel.png")
        self.subset(self.box("/World/Hut", wood, at=(300, 0, 50)), "door", [0, 1], steel)
        self.box("/World/Crate", steel, at=(0, 200, 50)).CreateOrientationAttr("leftHanded")
        self.box("/Lib/Post", wood, 30.0)
        for number in range(2):
            post = UsdGeom.Xform.Define(self.stage, f"/World/Post{number}")
            post.GetPrim().GetReferences().AddInternalReference("/Lib")
            post.GetPrim().SetInstanceable(True)
            UsdGeom.XformCommonAPI(post).SetTranslate((-200, 100.0 * number, 0))
        self.stage.GetPrimAtPath("/Lib").SetSpecifier(Sdf.SpecifierClass)

    @staticmethod
    def faults(stage):
        """Return what the library's own validators find."""
        every = UsdValidation.ValidationRegistry().GetOrLoadAllValidators()
        return [str(one.GetMessage()) for one in UsdValidation.ValidationContext(every).Validate(stage)]

    def looks(self, stage, primvar):
        """Return the colour in the middle of each face of each mesh, as the stage's own bindings say, by its path."""
        results = {}
        for prim in stage.Traverse(Usd.TraverseInstanceProxies()):
            if not prim.IsA(UsdGeom.Mesh):
                continue
            values = UsdGeom.PrimvarsAPI(prim).GetPrimvar(primvar).ComputeFlattened()
            uvs = np.array(values, float).reshape(6, 4, 2).mean(axis=1)
            faces = {}
            for part in (prim, *(one.GetPrim() for one in UsdGeom.Subset.GetAllGeomSubsets(UsdGeom.Imageable(prim)))):
                material = UsdShade.MaterialBindingAPI(part).ComputeBoundMaterial()[0]
                surface = material.ComputeSurfaceSource("")[0]
                shader = UsdShade.Shader(surface.GetInput("diffuseColor").GetValueProducingAttributes()[0].GetPrim())
                file = shader.GetInput("file").Get().resolvedPath
                chosen = range(6) if part == prim else UsdGeom.Subset(part).GetIndicesAttr().Get()
                faces |= dict.fromkeys(chosen, file)
            colors = []
            for face in range(6):
                image = np.asarray(Image.open(faces[face]).convert("RGB"), float)
                colors.append(bilinear(image, np.array([[uvs[face, 0], 1 - uvs[face, 1]]]))[0])
            results[str(prim.GetPath())] = np.array(colors)
        return results

    def test_a_layer_upon_the_source_says_uvs_and_materials_alone(self):
        self.station()
        before = self.stage.Flatten().ExportToString()
        report = self.run_make("--usd", "--size", "256", "--combine", "bundle", "--page")
        self.assertTrue((self.folder / "out" / "hut_page.html").is_file())
        self.assertNotIn("left_as_it_was", {finding["code"] for finding in report["findings"]})
        layer = Sdf.Layer.FindOrOpen(str(self.folder / "out" / "hut.usd"))
        stage = Usd.Stage.Open(layer)
        self.assertEqual(UsdGeom.GetStageUpAxis(stage), "Z")
        self.assertEqual(UsdGeom.GetStageMetersPerUnit(stage), 0.01)
        self.assertEqual(str(stage.GetDefaultPrim().GetPath()), "/World")
        with self.subTest("nothing but UVs, materials and bindings"):
            told = set()
            layer.Traverse("/", lambda path: told.add(str(path)))
            inside = ("/World/SheetLooks",)
            others = [path for path in told if not path.startswith(inside) and "." in path]
            self.assertTrue(others)
            for path in others:
                self.assertRegex(path, r"\.(primvars:sheetUV|material:binding)")
            for path in told:
                prim = layer.GetPrimAtPath(path) if "." not in path and "[" not in path else None
                if prim and not path.startswith(inside) and path != "/":
                    self.assertEqual(prim.specifier, Sdf.SpecifierOver, path)
        self.assertEqual(self.faults(stage), self.faults(self.stage))
        with self.subTest("each face shows what it showed"):
            was, now = self.looks(self.stage, "st"), self.looks(stage, "sheetUV")
            self.assertEqual(set(was), set(now))
            for path, colors in was.items():
                self.assertLess(np.abs(colors - now[path]).max(), 4, path)
        with self.subTest("without the layer the stage is what it was"):
            self.assertEqual(Usd.Stage.Open(str(self.folder / "hut.usda")).Flatten().ExportToString(), before)
        with self.subTest("it is read back"):
            allowed = Lookup((str(self.folder),))
            scene, _ = read_usd(self.folder / "out" / "hut.usd", PixelStore(self.folder / "more"), lookup=allowed)
            self.assertEqual({scene.material_name(i) for o in scene.objects for i in scene.materials_of(o)}, {"Opaque"})

    def test_a_stage_of_its_own_and_a_package(self):
        self.station()
        self.run_make("--usdz", "--glb", "--size", "256")
        package = self.folder / "out" / "hut.usdz"
        stage = Usd.Stage.Open(str(package))
        self.assertEqual(self.faults(stage), [])
        cache = UsdGeom.BBoxCache(Usd.TimeCode.Default(), ["default"])
        box = cache.ComputeWorldBound(stage.GetPseudoRoot()).ComputeAlignedRange()
        self.assertEqual((UsdGeom.GetStageUpAxis(stage), UsdGeom.GetStageMetersPerUnit(stage)), ("Y", 1.0))
        source = UsdGeom.BBoxCache(Usd.TimeCode.Default(), ["default"])
        low = source.ComputeWorldBound(self.stage.GetPseudoRoot()).ComputeAlignedRange()
        one, two = low.GetMin(), low.GetMax()
        # centimetres with z up become metres with y up
        np.testing.assert_allclose(box.GetMin(), [one[0] / 100, one[2] / 100, -two[1] / 100], atol=1e-5)
        np.testing.assert_allclose(box.GetMax(), [two[0] / 100, two[2] / 100, -one[1] / 100], atol=1e-5)
        with self.subTest("it is read back as the model file is"):
            store = PixelStore(self.folder / "more")
            packed, plain = read_usd(package, store)[0], read_gltf(self.folder / "out" / "hut.glb", store)[0]
            self.assertEqual(len(packed.objects), len(plain.objects))
            self.assertEqual(packed.images[0].width, 256)
            corners = [
                np.sort(np.concatenate([self.placed(scene, item).reshape(-1, 3) for item in scene.objects]), axis=0)
                for scene in (packed, plain)
            ]
            np.testing.assert_allclose(*corners, atol=1e-4)

    def test_what_is_unlit_shines_and_light_maps_are_told(self):
        self.station()
        self.run_make("--usdz", "--glb", "--size", "64", "--lit-only", "--maps", "lit", "--light-rays", "4", out="lit")
        stage = Usd.Stage.Open(str(self.folder / "lit" / "hut.usdz"))
        prim = next(prim for prim in stage.Traverse() if prim.IsA(UsdGeom.Mesh))
        surface = UsdShade.MaterialBindingAPI(prim).ComputeBoundMaterial()[0].ComputeSurfaceSource("")[0]
        self.assertEqual(tuple(surface.GetInput("diffuseColor").Get()), (0, 0, 0))
        self.assertFalse(surface.GetInput("diffuseColor").HasConnectedSource())
        self.assertTrue(surface.GetInput("emissiveColor").HasConnectedSource())
        light = ("--maps", "auto,light", "--light-uv", "--light-size", "64", "--light-rays", "4")
        report = self.run_make("--usd", "--size", "64", *light, out="light")
        told = {finding["code"]: finding["message"] for finding in report["findings"]}
        self.assertIn("light maps", told["usd_loses"])
        self.assertNotIn("skins", told["usd_loses"])

    def test_a_model_of_another_kind_becomes_a_stage(self):
        self.station()
        self.run_make("--glb", "--size", "128")
        self.run_make("--usd", "--size", "128", name="out/hut.glb", out="two")
        stage = Usd.Stage.Open(str(self.folder / "two" / "hut.usd"))
        self.assertEqual(len(stage.GetLayerStack()), 2)
        meshes = [prim for prim in stage.Traverse() if prim.IsA(UsdGeom.Mesh)]
        self.assertEqual(len(meshes), 4)
        for prim in meshes:
            shader = UsdShade.MaterialBindingAPI(prim).ComputeBoundMaterial()[0].ComputeSurfaceSource("")[0]
            texture = UsdShade.Shader(shader.GetInput("diffuseColor").GetValueProducingAttributes()[0].GetPrim())
            self.assertTrue(Path(texture.GetInput("file").Get().resolvedPath).is_file())


if __name__ == "__main__":
    unittest.main()
