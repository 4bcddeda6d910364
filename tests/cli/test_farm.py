"""A farm of Dask workers, started here: the same bytes, a worker that is killed, another version, no worker at all."""

import importlib.util
import json
import os
import signal
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path
from unittest import mock

import numpy as np

from fasciculum.cli.farm import DaskPool, LocalPool, farm_of
from fasciculum.errors import MissingFile
from fasciculum.io.pixels import PixelStore
from fasciculum.session.remote import STORE, do_remote
from tests.builders import Glb, box_mesh, smooth_image
from tests.cli.test_batch import BatchCase, job
from tests.test_api import digests

DASK = importlib.util.find_spec("distributed") is not None


def several_bundles(path):
    """Write a model of four objects, each with a texture of its own."""
    glb = Glb()
    for number in range(4):
        material = glb.material(glb.texture(smooth_image(64, seed=number)), name=f"paint {number}")
        glb.node(f"box {number}", box_mesh(glb, material, (1, 1, 1)), translation=[2 * number, 0, 0])
    glb.write(path)


class Processes(BatchCase):
    def setUp(self):
        super().setUp()
        several_bundles(self.folder / "many.glb")

    def test_bundles_of_one_job_go_to_several_processes(self):
        self.write(job("one", models='["many.glb"]', bundle='"object"'))
        self.run_batch()
        alone = digests(self.folder / "built")
        self.assertEqual(len([name for name in alone if name.endswith("base_color.png")]), 4)
        for path in (self.folder / "built").iterdir():
            path.unlink()
        handed = []

        class Watched(LocalPool):
            def submit(inner, function, *arguments):
                handed.append(arguments[0].__name__)
                return super().submit(function, *arguments)

        with mock.patch("fasciculum.cli.farm.LocalPool", Watched):
            code, lines, err = self.run_batch("--farm", "local:2")
        self.assertEqual((code, lines[0]["exit"]), (0, 0), err)
        self.assertEqual((handed.count("bake"), handed.count("check_bundle")), (4, 4))
        self.assertEqual(digests(self.folder / "built"), alone)

    def test_a_task_that_goes_wrong_is_told_as_at_home(self):
        self.write(job("one", models='["many.glb"]', bundle='"object"', padding=64, size=64))
        _, (home, _), _ = self.run_batch()
        code, (far, _), _ = self.run_batch("--farm", "local:2")
        self.assertEqual(code, 1)
        self.assertNotEqual(home["exit"], 0)
        self.assertEqual((far["exit"], far["error"]), (home["exit"], home["error"]))
        self.assertFalse(list(self.folder.glob("built/*.glb")))


class Parts(unittest.TestCase):
    def test_what_a_task_makes_comes_back_each_time_but_not_what_was_sent(self):
        def task(store, *, progress):
            # what was sent is there, and what is made is kept beside it
            return store.put(store.get("given") * 2)

        with tempfile.TemporaryDirectory() as folder:
            home = PixelStore(Path(folder))
            home.put(np.arange(6), key="given")
            sent = {file.name: file.read_bytes() for file in home.files()}
            for _ in range(2):
                key, made = do_remote(task, (STORE,), {}, sent)
                self.assertEqual(set(made), {f"{key}.npy"})
                home.put_file(*made.popitem())
                np.testing.assert_array_equal(home.get(key), 2 * np.arange(6))


@unittest.skipUnless(DASK, "distributed is not installed")
class Workers(BatchCase):
    """One scheduler for all; each of its first workers is killed by one of the tests."""

    @classmethod
    def setUpClass(cls):
        cls.place = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        cls.file = cls.place / "scheduler.json"
        cls.started, cls.alive = [], []
        cls.addClassCleanup(cls.end)
        cls.start("scheduler", "--port", "0", "--no-dashboard", "--host", "127.0.0.1")
        cls.until(cls.file.is_file, "a scheduler")
        cls.address = json.loads(cls.file.read_text())["address"]

    @classmethod
    def start(cls, kind, *more, **environment):
        command = [sys.executable, "-m", f"distributed.cli.dask_{kind}", "--scheduler-file", str(cls.file), *more]
        process = subprocess.Popen(
            command,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            env={**os.environ, "NUMBA_NUM_THREADS": "1", **environment},
        )
        cls.started.append(process)
        return process

    @classmethod
    def worker(cls, **environment):
        local = ("--local-directory", str(cls.place / "workers"))
        return cls.start("worker", "--no-nanny", "--no-dashboard", "--nthreads", "1", *local, **environment)

    @classmethod
    def end(cls):
        for process in reversed(cls.started):
            process.kill()
            process.wait()

    @staticmethod
    def until(there, what, seconds=300):
        began = time.monotonic()
        while not there():
            assert time.monotonic() - began < seconds, f"no {what}"
            time.sleep(0.05)

    def two_workers(self):
        """Return one of two workers, to be killed; the other stays for the next test."""
        self.alive[:] = [process for process in self.alive if process.poll() is None]
        while len(self.alive) < 2:
            self.alive.append(self.worker())

        def there():
            try:
                farm = farm_of(self.address)
            except MissingFile:
                return False
            result = farm.count()
            farm.close()
            return result == 2

        self.until(there, "two workers")
        return self.alive[0]

    def test_two_workers_make_the_same_bytes_and_one_that_is_killed_takes_nothing_along(self):
        self.write("".join(job(f"j{number}") for number in range(4)))
        self.run_batch()
        alone = digests(self.folder / "built")
        self.assertEqual(len([name for name in alone if name.endswith(".glb")]), 4)
        for path in (self.folder / "built").iterdir():
            path.unlink()
        first = self.two_workers()
        batch = subprocess.Popen(
            [sys.executable, "-m", "fasciculum", "batch", str(self.folder / "jobs.toml"), "--farm", self.address],
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
        )
        # as soon as the first job has ended
        line = batch.stdout.readline()
        self.assertIn('"exit"', line)
        os.kill(first.pid, signal.SIGKILL)
        rest, err = batch.communicate(timeout=600)
        self.assertEqual(batch.returncode, 0, err)
        self.assertEqual(len(rest.splitlines()), 4)
        self.assertEqual(digests(self.folder / "built"), alone)
        self.assertFalse(list((self.folder / "built").glob(".fasciculum*")))

    def test_bundles_of_one_job_are_parted_and_their_pixels_sent(self):
        several_bundles(self.folder / "many.glb")
        self.write(job("one", models='["many.glb"]', bundle='"object"', maps='"auto,ao"'))
        self.run_batch()
        alone = digests(self.folder / "built")
        for path in (self.folder / "built").iterdir():
            path.unlink()
        first = self.two_workers()
        killed = []

        class Killing(DaskPool):
            def submit(inner, function, *arguments):
                result = super().submit(function, *arguments)
                self.assertIs(function, do_remote)
                if not killed:
                    killed.append(os.kill(first.pid, signal.SIGKILL))
                return result

        with mock.patch("fasciculum.cli.farm.DaskPool", Killing):
            code, lines, err = self.run_batch("--farm", self.address)
        self.assertEqual((code, lines[-1]["done"], bool(killed)), (0, 1, True), err)
        self.assertEqual(digests(self.folder / "built"), alone)

    def test_an_empty_farm_is_told_and_so_are_workers_of_another_version(self):
        # by its name it comes first, when no worker has been started yet
        self.write(job("a"))
        code, _, err = self.run_batch("--farm", self.address)
        self.assertEqual(code, 3)
        self.assertIn("no workers", err)
        other = self.folder / "other" / "fasciculum-7.7.7.dist-info"
        other.mkdir(parents=True)
        (other / "METADATA").write_text("Metadata-Version: 2.1\nName: fasciculum\nVersion: 7.7.7\n")
        process = self.worker(PYTHONPATH=str(other.parent))
        self.addCleanup(process.wait)
        self.addCleanup(process.kill)

        def told():
            code, _, err = self.run_batch("--farm", self.address)
            self.assertEqual(code, 3)
            return "7.7.7" in err

        self.until(told, "word of the version")
        self.assertFalse(Path(self.folder / "built").exists())


if __name__ == "__main__":
    unittest.main()
