"""Lists of jobs: judged, done one by one or side by side, killed in the middle, summed up; watching; completion."""

import contextlib
import io
import json
import os
import signal
import subprocess
import sys
import tempfile
import time
import unittest
import unittest.mock
from concurrent.futures.process import BrokenProcessPool
from pathlib import Path

from PIL import Image

from fasciculum.cli import farm
from fasciculum.cli.desktop import entries, manual
from fasciculum.cli.farm import LocalPool
from fasciculum.cli.jobs import Job, do_job, read_jobs
from fasciculum.cli.main import main
from fasciculum.errors import FasciculumError, UsageError
from tests.builders import SQUARE, SQUARE_NORMALS, SQUARE_TRIANGLES, Glb, smooth_image, square_uvs
from tests.test_api import digests, plates

HEAD = '[defaults]\nsize = 64\nseconds = 0\npadding = 2\nout = "built"\nmodels = ["plates.glb"]\n'


def job(name, **more):
    return f'[[job]]\nname = "{name}"\n' + "".join(f"{key} = {value}\n" for key, value in more.items())


class BatchCase(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        plates(self.folder / "plates.glb")

    def write(self, text, head=HEAD):
        file = self.folder / "jobs.toml"
        file.write_text(head + text)
        return file

    def run_batch(self, *arguments):
        out, err = io.StringIO(), io.StringIO()
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
            code = main(["batch", str(self.folder / "jobs.toml"), *arguments])
        lines = [json.loads(line) for line in out.getvalue().splitlines()]
        return code, lines, err.getvalue()


class Lists(BatchCase):
    def refused(self, text, head=HEAD):
        self.write(text, head)
        code, _, err = self.run_batch()
        self.assertFalse((self.folder / "built").exists())
        return code, err

    def test_what_is_wrong_refuses_the_list(self):
        code, err = self.refused(job("a", paddin=3))
        self.assertEqual(code, 2)
        self.assertIn("padding", err)
        self.assertIn("job 1", err)
        self.assertEqual(self.refused(job("a") + "[other]\n")[0], 2)
        self.assertEqual(self.refused("", "")[0], 2)
        self.assertEqual(self.refused("[[job]\n")[0], 3)
        self.assertEqual(self.refused('[[job]]\nmodels = ["plates.glb"]\n', "")[0], 2)
        self.assertEqual(self.refused('[[job]]\nout = "built"\n', "")[0], 2)
        self.assertEqual(self.refused(job("a") + job("a"))[0], 2)

    def test_globs_defaults_and_paths_are_seen_from_the_list(self):
        (self.folder / "props").mkdir()
        for name in ("b.glb", "a.glb"):
            plates(self.folder / "props" / name)
        self.write('[[job]]\nmodels = "props/*.glb"\nout = "other"\nlayers = "moss.json"\nsize = [128, 64]\n')
        (result,) = read_jobs(self.folder / "jobs.toml")
        self.assertEqual([Path(model).name for model in result.models], ["a.glb", "b.glb"])
        options = dict(result.options)
        self.assertEqual(options["layers"], str(self.folder.resolve() / "moss.json"))
        self.assertEqual((options["size"], options["padding"]), ([128, 64], 2))
        self.assertEqual(result.out, str(self.folder.resolve() / "other"))

    def test_a_dry_run_tells_and_writes_nothing(self):
        self.write(job("a") + job("b", bundle='"one"'))
        before = {path: path.stat().st_mtime_ns for path in self.folder.rglob("*")}
        code, lines, _ = self.run_batch("--dry-run")
        self.assertEqual((code, len(lines)), (0, 3))
        self.assertEqual([one["name"] for one in lines[-1]["jobs"]], ["a", "b"])
        self.assertEqual([len(one["bundles"]) for one in lines[-1]["jobs"]], [2, 1])
        self.assertGreater(lines[0]["after"]["texture_bytes"], 0)
        self.assertEqual({path: path.stat().st_mtime_ns for path in self.folder.rglob("*")}, before)


class Batches(BatchCase):
    def test_nine_are_done_and_three_are_told(self):
        (self.folder / "broken.glb").write_bytes(b"nothing")
        text = "".join(job(f"good {number}") for number in range(9))
        text += job("broken", models='["broken.glb"]') + job("impossible", padding=200)
        text += job("nowhere", models='["gone.glb"]')
        self.write(text)
        code, lines, _ = self.run_batch("--json")
        summary = lines[-1]
        self.assertEqual((code, summary["done"], summary["failed"], len(lines)), (1, 9, 3, 13))
        by_name = {one["name"]: one for one in summary["jobs"]}
        self.assertEqual([one["name"] for one in summary["jobs"]][9:], ["broken", "impossible", "nowhere"])
        self.assertEqual([by_name[name]["exit"] for name in ("broken", "impossible", "nowhere")], [3, 2, 3])
        self.assertIn("broken.glb", by_name["broken"]["error"]["file"])
        for number in range(9):
            self.assertTrue(Path(by_name[f"good {number}"]["report"]).is_file())
        page = (self.folder / "jobs_summary.html").read_text()
        for words in ("good 8", "broken", "impossible", "Draw calls", "Texture memory", "9 done"):
            self.assertIn(words, page)
        self.assertEqual(json.loads((self.folder / "jobs_summary.json").read_text()), summary)
        # one file: nothing of it lies elsewhere
        self.assertNotIn("src='http", page)
        self.assertNotIn("<link", page)

    def test_the_first_that_fails_ends_it_when_asked(self):
        self.write(job("a") + job("b", padding=200) + job("c"))
        code, lines, _ = self.run_batch("--stop-at-first")
        self.assertEqual((code, [one["name"] for one in lines[-1]["jobs"]]), (1, ["a", "b"]))

    def test_two_processes_make_the_same_bytes(self):
        self.write("".join(job(f"j{number}") for number in range(4)))
        self.run_batch()
        alone = digests(self.folder / "built")
        for path in (self.folder / "built").iterdir():
            path.unlink()
        code, lines, _ = self.run_batch("--farm", "local:2")
        self.assertEqual((code, lines[-1]["done"]), (0, 4))
        self.assertEqual(digests(self.folder / "built"), alone)

    def test_a_farm_that_is_not_there_is_told(self):
        self.write(job("a"))
        self.assertEqual(self.run_batch("--farm", "somewhere")[0], 2)
        # with the start of a command it comes to under the thirty seconds that are promised
        self.assertLessEqual(farm.PATIENCE, 15)
        with unittest.mock.patch.object(farm, "PATIENCE", 1):
            code, _, err = self.run_batch("--farm", "tcp://127.0.0.1:9")
        # without Dask it is the wrong usage that says how to install it
        self.assertIn(code, (2, 3))
        self.assertTrue("Dask" in err or "scheduler" in err, err)

    def test_a_process_that_is_killed_takes_nothing_along(self):
        farm = LocalPool(1)
        self.addCleanup(farm.close)
        model = str(self.folder / "plates.glb")
        one = Job("a", (model,), str(self.folder / "built"), (("size", 64), ("seconds", 0)))
        first = farm.submit(os.getpid)
        process = first.result(60)
        waiting = farm.submit(do_job, one)
        os.kill(process, signal.SIGKILL)
        with self.assertRaises(BrokenProcessPool):
            waiting.result(60)
        # whoever waits hands it over again, to a process that takes its place
        self.assertEqual(farm.submit(do_job, one).result(120).exit, 0)

    def test_a_cancelled_job_leaves_nothing_half_written(self):
        one = Job("a", (str(self.folder / "plates.glb"),), str(self.folder / "built"), (("size", 64),))
        ended = do_job(one, check=lambda: True)
        self.assertEqual((ended.exit, ended.error["code"]), (5, "cancelled"))
        self.assertFalse((self.folder / "built").exists())


class Watching(BatchCase):
    def model(self, texture):
        glb = Glb()
        material = glb.material(glb.add("textures", {"source": glb.add("images", {"uri": texture})}))
        part = glb.primitive(SQUARE, SQUARE_TRIANGLES, material, [square_uvs()], NORMAL=SQUARE_NORMALS)
        glb.node("Board", glb.mesh(part))
        return glb.write_gltf(self.folder / "board.gltf")

    def test_many_changes_lead_to_one_delivery_that_is_whole(self):
        texture = self.folder / "board.png"
        Image.fromarray(smooth_image(32, seed=1)).save(texture)
        model = self.model("board.png")
        out = self.folder / "out"
        command = [sys.executable, "-m", "fasciculum", "make", model, "--out", str(out), "--size", "64"]
        process = subprocess.Popen(
            [*command, "--seconds", "0", "--maps", "base_color", "--watch", "--json"],
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
        )
        try:
            self.until(process, "watching")
            first = (out / "board_opaque_base_color.png").read_bytes()
            pauses, last = 0, time.monotonic()
            for number in range(20):
                Image.fromarray(smooth_image(32, seed=10 + number)).save(texture)
                # faster than sources must rest, unless this process was kept waiting
                time.sleep(0.2)
                now = time.monotonic()
                pauses, last = pauses + (now - last > 0.8), now
            self.until(process, "watching")
            self.assertNotEqual((out / "board_opaque_base_color.png").read_bytes(), first)
            # a broken source is told, and watching goes on
            good = texture.read_bytes()
            Path(model).write_text("{")
            self.until(process, "board.gltf")
            self.model("board.png")
            texture.write_bytes(good)
            self.until(process, "watching")
            process.send_signal(signal.SIGINT)
            rest, _ = process.communicate(timeout=300)
        finally:
            process.kill()
        self.assertEqual(process.returncode, 5)
        reports = [json.loads(line) for line in rest.splitlines()]
        # at the start, after all twenty, and after the mended model: no delivery for each change, but for one more
        # after each pause in which the sources did rest
        self.assertIn(len(reports), range(3, 4 + pauses))
        self.assertEqual(reports[1]["bundles"][0]["maps"][0]["file"], "board_opaque_base_color.png")
        self.assertFalse(list(out.glob(".fasciculum*")))

    def until(self, process, words):
        for line in process.stderr:
            if words in line:
                return
        self.fail(f"ended before it said {words!r}")


class HelpOut(unittest.TestCase):
    def test_shells_get_their_completion(self):
        for shell, words in (("bash", "complete"), ("zsh", "#compdef"), ("fish", "complete")):
            out = io.StringIO()
            with contextlib.redirect_stdout(out):
                self.assertEqual(main(["completion", shell]), 0)
            self.assertIn(words, out.getvalue())
            self.assertIn("padding", out.getvalue())

    def test_entries_go_into_the_users_folders_and_away_again(self):
        with tempfile.TemporaryDirectory() as home, unittest.mock.patch.dict(os.environ, {"XDG_DATA_HOME": home}):
            for option, present in (("--install", True), ("--remove", False)):
                with contextlib.redirect_stdout(io.StringIO()):
                    self.assertEqual(main(["desktop", option]), 0)
                places = [place for place, _ in entries(Path(home))]
                self.assertEqual(len(places), 5)
                self.assertEqual({place.is_file() for place in places}, {present})

    def test_the_manual_names_every_command(self):
        page = manual()
        for command in ("open", "inspect", "plan", "make", "run", "check", "batch", "completion", "desktop"):
            self.assertIn(f".SS {command}", page)

    def test_wrong_usage_is_one_object_with_json(self):
        out, err = io.StringIO(), io.StringIO()
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
            code = main(["make", "a.glb", "--out", "b", "--paddding", "3", "--json"])
        self.assertEqual(code, 2)
        self.assertEqual(json.loads(out.getvalue())["error"]["code"], "usage")
        self.assertTrue(issubclass(UsageError, FasciculumError))


if __name__ == "__main__":
    unittest.main()
