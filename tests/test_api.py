"""The Python API: every example of docs/api.md, steps against one pass, threads, types, and no window."""

import hashlib
import os
import re
import subprocess
import sys
import tempfile
import threading
import unittest
from pathlib import Path

import fasciculum as fa
from tests.builders import SQUARE, SQUARE_NORMALS, SQUARE_TRIANGLES, Glb, smooth_image, square_uvs

ROOT = Path(__file__).parents[1]
EXAMPLES = re.findall(r"```python\n(.*?)```", (ROOT / "docs" / "api.md").read_text(), re.DOTALL)


def plates(path):
    """Four squares, one of them glass."""
    glb = Glb()
    wood = glb.material(glb.texture(smooth_image(32)))
    glass = glb.material(pbr={"baseColorFactor": [0.2, 0.5, 0.4, 0.5]}, alphaMode="BLEND")
    for number in range(4):
        part = glb.primitive(
            SQUARE, SQUARE_TRIANGLES, glass if number == 3 else wood, [square_uvs()], NORMAL=SQUARE_NORMALS
        )
        glb.node(f"Plate {number + 1}", glb.mesh(part), translation=[1.2 * number, 0, 0])
    return glb.write(path)


def digests(folder):
    """Digests of what was written, the project and the report aside, which hold times."""
    return {
        path.name: hashlib.sha256(path.read_bytes()).hexdigest()
        for path in sorted(Path(folder).iterdir())
        if path.suffix in (".png", ".glb")
    }


class ApiCase(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        before = os.getcwd()
        os.chdir(self.folder)
        self.addCleanup(os.chdir, before)
        plates(self.folder / "plates.glb")


class Examples(ApiCase):
    def test_every_example_of_the_page_runs(self):
        self.assertGreater(len(EXAMPLES), 6)
        for example in EXAMPLES:
            with self.subTest(example.splitlines()[2][:60]):
                exec(compile(example, "docs/api.md", "exec"), {"print": lambda *_: None})

    def test_own_rules_checks_and_names_are_followed(self):
        grouped = fa.make(
            "plates.glb", out="a", size=128, seconds=0, bundle=lambda objects: {"Both": ["Plate 1", "Plate 2"]}
        )
        self.assertEqual(
            [(one["name"], one["objects"]) for one in grouped["bundles"]], [("Both", ["Plate 1", "Plate 2"])]
        )
        seen = []
        fa.make("plates.glb", out="b", size=128, seconds=0, checks=[lambda report: seen.append(report["name"]) or []])
        self.assertEqual(seen, ["plates"])
        named = fa.make("plates.glb", out="c", size=128, seconds=0, bundle="one", delivery=lambda p, b, m: f"T_{b}_{m}")
        self.assertIn("T_all_base_color.png", named["files"])


OPTIONS = {"size": 128, "padding": 2, "seconds": 0, "bundle": "alpha", "maps": ["auto", "ao"], "rays": 8}


class Steps(ApiCase):
    def test_steps_make_what_one_pass_makes_and_change_nothing_they_were_given(self):
        report = fa.make("plates.glb", out="whole", **OPTIONS)
        gathered = fa.gather("plates.glb")
        bundled = fa.bundle(gathered, bundle="alpha")
        laid = fa.lay_out(bundled, size=128, padding=2, seconds=0)
        baked = fa.bake(laid, maps=["auto", "ao"], rays=8)
        checked = fa.check(baked)
        delivered = fa.deliver(checked, out="steps")
        self.assertEqual(digests("whole"), digests("steps"))
        self.assertEqual((gathered.bundles, len(bundled.bundles)), ((), 2))
        self.assertIsNone(bundled.document.bundles[0].layout)
        self.assertIsNone(laid.document.bundles[0].texturing)
        self.assertEqual(checked.report["files"], [])
        mine = delivered.report
        for key in ("bundles", "ledger", "findings"):
            self.assertEqual(mine[key], report[key], key)

    def test_a_project_is_saved_and_loaded_in_the_middle(self):
        laid = fa.lay_out(fa.bundle(fa.gather("plates.glb"), "alpha"), size=128, seconds=0)
        fa.save(laid, "half.fasc")
        again = fa.bake(fa.load("half.fasc"))
        self.assertEqual(again.bundles, laid.bundles)
        self.assertTrue(all(one.texturing is not None for one in again.document.bundles))

    def test_wrong_options_and_files_are_told(self):
        with self.assertRaises(fa.FasciculumError) as caught:
            fa.make("plates.glb", out="x", paddin=3)
        self.assertIn("padding", str(caught.exception))
        for wrong in ({"padding": -1}, {"turns": "sometimes"}, {"maps": ["normals"]}, {"size": "huge"}):
            with self.assertRaises(fa.FasciculumError):
                fa.make("plates.glb", out="x", **wrong)
        with self.assertRaises(fa.FasciculumError) as caught:
            fa.gather("gone.glb")
        self.assertIn("gone.glb", str(caught.exception))
        self.assertFalse(Path("x").exists())

    def test_threads_make_the_same_and_leave_nothing_behind(self):
        wrong = []

        def work(number):
            try:
                fa.make("plates.glb", out=f"t{number}", **OPTIONS)
            except Exception as error:
                wrong.append(error)

        threads = [threading.Thread(target=work, args=(number,)) for number in range(3)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual(wrong, [])
        self.assertEqual(digests("t0"), digests("t1"))
        self.assertEqual(digests("t1"), digests("t2"))


class Apart(ApiCase):
    def test_nothing_is_printed_and_no_qt_is_imported(self):
        code = (
            "import sys, fasciculum as fa\n"
            "fa.make('plates.glb', out='q', size=128, seconds=0)\n"
            "assert not [name for name in sys.modules if name.startswith('PySide6')]\n"
        )
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=False)
        self.assertEqual((done.returncode, done.stdout), (0, ""), done.stderr)

    def test_a_script_that_is_strictly_typed_runs(self):
        # its types are checked by tools/check.py, with those of all the code
        from tests.typed_script import packed_and_made

        report = packed_and_made("plates.glb", str(self.folder))
        self.assertEqual([report["bundles"][0]["sheet"][side] for side in ("width", "height")], [128, 128])
        self.assertTrue((self.folder / "a.fasc").is_file())


if __name__ == "__main__":
    unittest.main()
