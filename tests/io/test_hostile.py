"""Files that are meant to do harm, or that are merely broken: each is read right or refused with a place and a word."""

import json
import os
import resource
import struct
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import numpy as np

from fasciculum.errors import FasciculumError, MalformedFile, MissingFile, OutsideFolder, UnsupportedInput
from fasciculum.io.pixels import PixelStore
from fasciculum.model.lookup import Lookup
from fasciculum.operations.gather.gather import gather
from tests.builders import SQUARE, SQUARE_TRIANGLES, Glb, smooth_image, square_uvs, textured_square
from tests.io.fuzz import Fuzz, png_of
from tests.io.seeds import rich_glb, write_seeds

ROOT = Path(__file__).resolve().parents[2]


class Case(unittest.TestCase):
    def setUp(self):
        self.folder = Path(tempfile.mkdtemp())
        self.store = PixelStore(self.folder / "pixels")

    def gather(self, path, **more):
        return gather([str(path)], self.store, **more)

    def refused(self, path, kind, words):
        with self.assertRaises(kind) as caught:
            self.gather(path)
        message = str(caught.exception)
        self.assertIn(words, message)
        self.assertTrue(caught.exception.hint, message)
        self.assertNotIn("\n", message)
        self.assertLess(len(message), 600)


#: name, what is done to the JSON of a file with a bit of everything, the words of the refusal
REFUSED = (
    ("index of an accessor", lambda j: j["meshes"][0]["primitives"][0]["attributes"].update(POSITION=999), "accessors"),
    ("negative index", lambda j: j["nodes"][1].update(mesh=-1), "nodes[1].mesh"),
    ("mesh", lambda j: j["nodes"][1].update(mesh=99), "no mesh 99"),
    ("skin", lambda j: j["nodes"][1].update(skin=99), "no skin 99"),
    ("camera", lambda j: j["nodes"][2].update(camera=9), "no camera 9"),
    ("joint", lambda j: j["skins"][0].update(joints=[77]), "skins[0]"),
    ("no joints", lambda j: j["skins"][0].update(joints=[]), "no joints"),
    ("bind matrices", lambda j: j["skins"][0].update(inverseBindMatrices=0), "inverse bind"),
    ("animated node", lambda j: j["animations"][0]["channels"][0]["target"].update(node=99), "animations[0]"),
    ("animation sampler", lambda j: j["animations"][0]["channels"][0].update(sampler=9), "no sampler 9"),
    ("animation input", lambda j: j["animations"][0]["samplers"][0].update(input=0), "one number a key"),
    ("light", lambda j: j["nodes"][2]["extensions"]["KHR_lights_punctual"].update(light=5), "no light 5"),
    ("lights", lambda j: j["extensions"].update(KHR_lights_punctual=3), "lights"),
    ("material", lambda j: j["meshes"][0]["primitives"][0].update(material=99), "no material 99"),
    ("material of lines", lambda j: j["meshes"][1]["primitives"][1].update(material=99), "no material 99"),
    ("mode", lambda j: j["meshes"][0]["primitives"][0].update(mode=7), "mode 7"),
    ("component type", lambda j: j["accessors"][0].update(componentType=5124), "5124"),
    ("accessor type", lambda j: j["accessors"][0].update(type="VEC7"), "VEC7"),
    ("count", lambda j: j["accessors"][0].update(count=2**40), "past the end"),
    ("offset", lambda j: j["accessors"][0].update(byteOffset=2**40), "past the end"),
    ("no stride", lambda j: j["bufferViews"][j["accessors"][0]["bufferView"]].update(byteStride=0), "stride"),
    ("stride", lambda j: j["bufferViews"][j["accessors"][0]["bufferView"]].update(byteStride=2), "stride"),
    ("view", lambda j: j["bufferViews"][1].update(byteLength=2**40), "bufferViews[1]"),
    ("buffer", lambda j: j["bufferViews"][1].update(buffer=3), "buffer"),
    ("buffer length", lambda j: j["buffers"][0].update(byteLength=2**40), "buffers[0]"),
    ("two parents", lambda j: j["nodes"][2].update(children=[1]), "reached twice"),
    ("own child", lambda j: j["nodes"][2].update(children=[2]), "reached twice"),
    ("child", lambda j: j["nodes"][2].update(children=[5000]), "no node 5000"),
    ("root twice", lambda j: j["scenes"][0].update(nodes=[0, 0]), "named twice"),
    ("default scene", lambda j: j.update(scene=9), "no scene 9"),
    ("matrix", lambda j: j["nodes"][0].update(matrix=[1, 2, 3]), "16 numbers"),
    ("scale", lambda j: j["nodes"][1].update(scale=[1e300, 1e300, 1e300]), "not finite"),
    ("texture", lambda j: j["materials"][0]["normalTexture"].update(index=9), "no texture 9"),
    ("image", lambda j: j["textures"][0].update(source=9), "no image 9"),
    ("sampler", lambda j: j["textures"][0].update(sampler=9), "no sampler 9"),
    ("wrap", lambda j: j["samplers"][0].update(wrapS=1), "wrap mode"),
    ("alpha mode", lambda j: j["materials"][0].update(alphaMode="SOME"), "SOME"),
    (
        "look",
        lambda j: j["materials"][0]["extensions"].update(KHR_materials_clearcoat={"clearcoatFactor": "x"}),
        "clea",
    ),
    ("version", lambda j: j["asset"].update(version="1.0"), "1.0"),
    ("least version", lambda j: j["asset"].update(minVersion="2.1"), "2.1"),
    ("required", lambda j: j.update(extensionsRequired=["EXT_unheard_of"]), "EXT_unheard_of"),
    ("sparse index", lambda j: j["accessors"][-3]["sparse"].update(count=9), "past the end"),
    ("copies", lambda j: j["nodes"][3]["extensions"]["EXT_mesh_gpu_instancing"].update(attributes={}), "attributes"),
    ("copies' accessor", lambda j: _copies(j).update(SCALE=0, TRANSLATION=1), "finite numbers"),
    ("morph target", lambda j: j["meshes"][0]["primitives"][0].update(targets=[{"POSITION": 999}]), "accessors[999]"),
    ("wrong kind", lambda j: j.update(nodes={}), "nodes"),
    ("text for a number", lambda j: j["accessors"][0].update(count="4"), "accessors[0].count"),
    ("deep nesting", lambda j: j.update(extras=_nested(200)), "nested"),
    ("unsized zeros", lambda j: j["accessors"].append(_zeros(2**27)) or _read_it(j), "far more data"),
    ("many nodes", lambda j: j.update(nodes=[{}] * 200_001), "nodes"),
    ("indices without data", lambda j: _bare_indices(j), "without data"),
)


def _nested(depth):
    value = []
    for _ in range(depth):
        value = [value]
    return value


def _zeros(count):
    return {"componentType": 5126, "count": count, "type": "VEC3"}


def _read_it(json_):
    json_["meshes"][0]["primitives"][0]["attributes"] = {"POSITION": len(json_["accessors"]) - 1}


def _bare_indices(json_):
    json_["accessors"].append({"componentType": 5121, "count": 2**22, "type": "SCALAR"})
    json_["meshes"][2]["primitives"][0]["indices"] = len(json_["accessors"]) - 1


def _copies(json_):
    return json_["nodes"][3]["extensions"]["EXT_mesh_gpu_instancing"]["attributes"]


class Structures(Case):
    def test_each_broken_structure_is_refused_with_its_place(self):
        for name, change, words in REFUSED:
            with self.subTest(name):
                glb = rich_glb()
                data = glb.bytes()
                (size,) = struct.unpack_from("<I", data, 12)
                document = json.loads(data[20 : 20 + size])
                change(document)
                text = json.dumps(document).encode()
                text += b" " * (-len(text) % 4)
                chunks = struct.pack("<II", len(text), 0x4E4F534A) + text + data[20 + size :]
                path = self.folder / "broken.glb"
                path.write_bytes(struct.pack("<III", 0x46546C67, 2, 12 + len(chunks)) + chunks)
                self.refused(path, (MalformedFile, UnsupportedInput), words)

    def test_the_whole_file_is_read(self):
        scene, findings = self.gather(rich_glb().write(self.folder / "rich.glb"))
        # the skinned node has two looks, the copies four, the second scene one, and the sparse one
        self.assertEqual(len(scene.objects), 2 + 4 + 1 + 1)
        self.assertIn("more_scenes", {finding.code for finding in findings})

    def test_numbers_that_are_none(self):
        for value in (np.nan, np.inf, 1e30):
            broken = SQUARE.copy()
            broken[1, 1] = value
            glb = Glb()
            glb.node("n", glb.mesh(glb.primitive(broken, SQUARE_TRIANGLES)))
            for entry in glb.json["accessors"]:
                entry.pop("min", None), entry.pop("max", None)
            self.refused(glb.write(self.folder / "n.glb"), MalformedFile, "position")
        normals = np.full((4, 3), np.nan)
        glb = Glb()
        glb.node("n", glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES, None, None, NORMAL=normals)))
        for entry in glb.json["accessors"]:
            entry.pop("min", None), entry.pop("max", None)
        scene, findings = self.gather(glb.write(self.folder / "normals.glb"))
        self.assertIn("broken_attribute", {finding.code for finding in findings})
        self.assertTrue(np.isfinite(scene.meshes[0].primitives[0].normals).all())

    def test_joints_beyond_the_skin(self):
        glb = rich_glb()
        number = glb.json["meshes"][0]["primitives"][0]["attributes"]["JOINTS_0"]
        start = glb.json["bufferViews"][glb.json["accessors"][number]["bufferView"]]["byteOffset"]
        glb.binary[start] = 9
        self.refused(glb.write(self.folder / "joints.glb"), MalformedFile, "joint 9")

    def test_many_accessors_on_the_same_bytes(self):
        glb = Glb()
        view = glb.view(bytes(1 << 20))
        for _ in range(3000):
            number = glb.add("accessors", {"bufferView": view, "componentType": 5121, "count": 1 << 18, "type": "VEC4"})
            glb.json["accessors"][number]["normalized"] = True
        primitive = glb.primitive(SQUARE, SQUARE_TRIANGLES)
        primitive["targets"] = [{"POSITION": index} for index in range(3000)]
        glb.node("n", glb.mesh(primitive))
        self.refused(glb.write(self.folder / "many.glb"), FasciculumError, "")

    def test_far_too_many_objects(self):
        glb = Glb()
        mesh = glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES))
        for number in range(20_050):
            glb.node(f"{number}", mesh)
        self.refused(glb.write(self.folder / "objects.glb"), UnsupportedInput, "20000 objects")

    def test_far_too_many_triangles_by_copies(self):
        glb = Glb()
        primitive = glb.primitive(SQUARE, None)
        primitive["indices"] = glb.accessor(np.tile(SQUARE_TRIANGLES.ravel(), 15_000), "u2")
        places = {"TRANSLATION": glb.accessor(np.zeros((2000, 3)))}
        glb.node("n", glb.mesh(primitive), extensions={"EXT_mesh_gpu_instancing": {"attributes": places}})
        self.refused(glb.write(self.folder / "copies.glb"), UnsupportedInput, "50000000 triangles")

    def test_copies_are_measured_once(self):
        """A thousand copies of one mesh."""
        from fasciculum.operations import report

        glb = Glb()
        primitive = glb.primitive(SQUARE, None, glb.material(), [square_uvs()])
        primitive["indices"] = glb.accessor(np.tile(SQUARE_TRIANGLES.ravel(), 1_500), "u2")
        places = {"TRANSLATION": glb.accessor(np.arange(3000.0).reshape(1000, 3))}
        glb.node("n", glb.mesh(primitive), extensions={"EXT_mesh_gpu_instancing": {"attributes": places}})
        scene, findings = self.gather(glb.write(self.folder / "copies.glb"))
        with mock.patch.object(report, "_uv_sets", wraps=report._uv_sets) as measuring:
            result = report.inspection_of(scene, findings)
        self.assertEqual(measuring.call_count, 1)
        self.assertEqual(len(result["objects"]), 1000)
        self.assertAlmostEqual(result["objects"][999]["area_m2"], 1_500)

    def test_a_file_without_triangles_says_so(self):
        for change in (lambda j: j["nodes"][0].pop("mesh"), lambda j: j["scenes"][0].update(nodes=[])):
            glb = textured_square(smooth_image(8))
            change(glb.json)
            scene, findings = self.gather(glb.write(self.folder / "empty.glb"))
            self.assertFalse(scene.objects)
            self.assertIn("no_objects", {finding.code for finding in findings if finding.severity == "error"})


class Images(Case):
    def image(self, data=None, uri=None):
        glb = textured_square(smooth_image(8))
        glb.json["images"][0] = {"uri": uri} if uri else {"bufferView": glb.view(data), "mimeType": "image/png"}
        scene, findings = self.gather(glb.write(self.folder / "image.glb"))
        return scene.images[0], [f for f in findings if f.image and f.code != "unread_texture"]

    def test_claims_are_judged_before_anything_is_decoded(self):
        for width, height in ((65535, 65535), (16384, 16384), (1, 2**31 - 1), (0, 0)):
            image, findings = self.image(png_of(width, height))
            self.assertTrue(image.missing, (width, height))
            self.assertTrue(findings[0].message and findings[0].remedy)

    def test_what_is_no_image(self):
        for data in (b"", b"\x89PNG\r\n\x1a\n", b"RIFF\0\0\0\0WEBP", b"\xff\xd8\xff", b"GIF89a" * 9, bytes(100)):
            self.assertTrue(self.image(data)[0].missing, data[:8])

    def test_places_that_must_not_be_read(self):
        (self.folder.parent / "secret.png").write_bytes(png_of(1, 1))
        outside = ("../secret.png", "%2e%2e/secret.png", "/etc/passwd", "file:///etc/passwd", "http://example.org/x.png",
                   "//example.org/share/x.png", "C:\\secret.png", "..\\secret.png")  # fmt: skip
        for uri in outside:
            image, findings = self.image(uri=uri)
            self.assertTrue(image.missing, uri)
            self.assertIn(findings[0].act, ("allow", "locate"), uri)
        os.symlink(self.folder.parent / "secret.png", self.folder / "link.png")
        image, findings = self.image(uri="link.png")
        self.assertTrue(image.missing)
        self.assertEqual(findings[0].code, "outside_folder")

    def test_pipes_and_devices_are_not_waited_for(self):
        os.mkfifo(self.folder / "pipe.png")
        os.mkdir(self.folder / "folder.png")
        for uri in ("pipe.png", "folder.png", "\0", "a" * 5000, "."):
            self.assertTrue(self.image(uri=uri)[0].missing, uri[:20])
        os.mkfifo(self.folder / "pipe.glb")
        self.refused(self.folder / "pipe.glb", UnsupportedInput, "not a regular file")

    def test_an_allowed_folder_may_be_read(self):
        beside = Path(tempfile.mkdtemp())
        from PIL import Image

        Image.fromarray(smooth_image(8)).save(beside / "board.png")
        glb = textured_square(smooth_image(8))
        glb.json["images"][0] = {"uri": f"../{beside.name}/board.png"}
        path = glb.write(self.folder / "m.glb")
        self.assertEqual(self.gather(path)[1][0].code, "outside_folder")
        scene, _ = self.gather(path, lookup=Lookup((str(beside),)))
        self.assertFalse(scene.images[0].missing)
        # a missing file is looked for by its name alone
        glb.json["images"][0] = {"uri": "textures/BOARD.png"}
        scene, _ = self.gather(glb.write(self.folder / "m.glb"), lookup=Lookup((str(beside),)))
        self.assertEqual(scene.images[0].path, str((beside / "board.png").resolve()))


class Lines(Case):
    def test_broken_obj_files_are_refused_by_line(self):
        good = "v 0 0 0\nv 1 0 0\nv 0 1 0\n"
        for text, words in (
            (good + "f 1 2 4\n", "line 4"),
            (good + "f 1 2 -4\n", "line 4"),
            (good + "f 1 2 0\n", "line 4"),
            (good + "f 1 2\n", "fewer than three"),
            (good + "f 1/1 2/1 3/1\n", "no UV 1"),
            (good + "f 1//9 2//9 3//9\n", "no normal 9"),
            (good + "f 1 2 x\n", "line 4"),
            (good + "f 1/2/3/4 2 3\n", "line 4"),
            (good + "f 99999999999999999999 2 3\n", "line 4"),
            (good + "v 1 2\nf 1 2 3\n", "line 4"),
            (good + "v nan 0 0\nf 1 2 3\n", "line 4"),
            (good + "v 1e999 0 0\nf 1 2 3\n", "line 4"),
            (good + "v 1e20 0 0\nf 1 2 3\n", "away"),
            ("v a b c\n", "line 1"),
            (good + "f " + "1 2 3 " * 2000 + "\n", "more than 4096"),
        ):
            with self.subTest(words=words, text=text[-40:]):
                path = self.folder / "b.obj"
                path.write_text(text)
                self.refused(path, MalformedFile, words)

    def test_rubbish_yields_no_silent_scene(self):
        for data in (b"", b"\0" * 1000, b"# nothing\n", bytes(range(256)) * 10, b"v 0 0 0\n", b"g\no\ns\nusemtl\n"):
            path = self.folder / "r.obj"
            path.write_bytes(data)
            scene, findings = self.gather(path)
            self.assertFalse(scene.objects)
            self.assertEqual([f.severity for f in findings if f.code == "no_objects"], ["error"])

    def test_libraries_are_read_from_the_models_folder_only(self):
        path = self.folder / "m.obj"
        path.write_text("mtllib ../../etc/passwd\nmtllib /dev/zero\nv 0 0 0\nv 1 0 0\nv 0 1 0\nusemtl x\nf 1 2 3\n")
        _, findings = self.gather(path)
        self.assertEqual(sum(finding.code == "missing_library" for finding in findings), 2)


class Folders(Case):
    def test_a_folder_stands_for_its_models_and_a_broken_one_is_a_finding(self):
        (self.folder / "models" / "deep").mkdir(parents=True)
        image = smooth_image(8)
        textured_square(image).write(self.folder / "models" / "a.glb")
        textured_square(image).write(self.folder / "models" / "deep" / "b.glb")
        (self.folder / "models" / "c.glb").write_bytes(b"glTF nonsense")
        (self.folder / "models" / "readme.txt").write_text("not a model")
        scene, findings = self.gather(self.folder / "models")
        self.assertEqual([item.key for item in scene.objects], ["Square", "Square 2"])
        self.assertEqual([f.severity for f in findings if f.code == "unreadable"], ["error"])
        # the same image in both files is one image
        self.assertEqual(len(scene.images), 1)
        self.assertEqual(scene.materials[0].base_color.image, scene.materials[1].base_color.image)
        self.refused(self.folder / "pixels", MissingFile, "no model")


class Fuzzed(Case):
    def test_three_hundred_changed_files(self):
        import random
        import warnings

        fuzz = Fuzz(self.folder, write_seeds(self.folder))
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            for seed in range(300):
                with self.subTest(seed=seed):
                    fuzz.deep = seed % 30 == 0
                    fuzz.once(random.Random(seed))
        # the mutations are worth something when neither side is rare
        self.assertGreater(fuzz.counts["read"], 40)
        self.assertGreater(fuzz.counts["refused"], 40)

    def test_small_files_stay_small_in_memory(self):
        """A bomb of an image, a crowd of zeros and a crowd of materials, in a process of their own."""
        glb = textured_square(smooth_image(8))
        glb.json["images"] = [{"bufferView": glb.view(png_of(8192, 8192)), "mimeType": "image/png"} for _ in range(20)]
        glb.json["materials"] += [{}] * 60_000
        glb.json["extras"] = [[]] * 500_000
        path = glb.write(self.folder / "crowd.glb")
        code = (
            "import sys, re, tempfile; from pathlib import Path\n"
            "from fasciculum.io.pixels import PixelStore; from fasciculum.operations.gather.gather import gather\n"
            "gather([sys.argv[1]], PixelStore(Path(tempfile.mkdtemp())))\n"
            # its own peak: what getrusage tells begins at that of the process that started it
            "print(int(re.search('VmHWM:\\\\s+(\\\\d+)', Path('/proc/self/status').read_text())[1]) >> 10)"
        )
        out = subprocess.run(
            [sys.executable, "-c", code, path], capture_output=True, text=True, check=True, timeout=120
        )
        self.assertLess(int(out.stdout), 2048)
        self.assertLess(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss >> 10, 4096)


class Outside(Case):
    def test_a_reference_outside_is_its_own_kind_of_refusal(self):
        glb = textured_square(smooth_image(8))
        glb.write_gltf(self.folder / "m.gltf")
        document = json.loads((self.folder / "m.gltf").read_text())
        document["buffers"][0]["uri"] = "../outside.bin"
        (self.folder / "m.gltf").write_text(json.dumps(document))
        self.refused(self.folder / "m.gltf", OutsideFolder, "outside its folder")


if __name__ == "__main__":
    unittest.main()
