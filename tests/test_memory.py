"""Memory: sizes in words, what processes hold, and caches that are emptied near the limit."""

import contextlib
import io
import json
import subprocess
import sys
import tempfile
import threading
import unittest
from pathlib import Path

import numpy as np

from fasciculum import memory
from fasciculum.cli.main import main
from fasciculum.errors import UsageError
from fasciculum.memory import MemoryWatch, bytes_of, held_bytes, memory_figures
from tests.builders import textured_square

MIB = 1 << 20


class Sizes(unittest.TestCase):
    def test_sizes_in_words(self):
        for text, wanted in (
            ("4GiB", 4 << 30),
            ("512 mib", 512 << 20),
            ("1.5GiB", 3 << 29),
            ("2GB", 2 * 10**9),
            ("600000000", 6 * 10**8),
        ):
            self.assertEqual(bytes_of(text), wanted, text)

    def test_what_is_no_size_or_too_little_is_refused(self):
        for text in ("", "much", "4 apples", "-1GiB", "10MiB", "4GiBs"):
            with self.assertRaises(UsageError, msg=text):
                bytes_of(text)


class Held(unittest.TestCase):
    def test_what_is_filled_is_held(self):
        before = held_bytes()
        filled = np.ones(64 * MIB, np.uint8)
        grown = held_bytes() - before
        self.assertGreater(grown, 60 * MIB)
        self.assertLess(grown, 80 * MIB)
        del filled

    def test_processes_that_were_begun_are_counted(self):
        before = held_bytes()
        told = "import sys\nx = bytearray(b'a') * (64 << 20)\nprint('ready', flush=True)\nsys.stdin.read()"
        with subprocess.Popen([sys.executable, "-c", told], stdin=subprocess.PIPE, stdout=subprocess.PIPE) as child:
            child.stdout.readline()
            self.assertGreater(held_bytes() - before, 60 * MIB)
            child.stdin.close()


class Mapped(unittest.TestCase):
    def test_pages_of_files_are_let_go_and_keep_what_was_written(self):
        file = Path(tempfile.mkdtemp()) / "pixels"
        array = memory.mapped(np.memmap(file, np.uint8, "w+", shape=(64 * MIB,)))
        array[:] = 7
        full = held_bytes()
        memory.relieve()
        self.assertGreater(full - held_bytes(), 60 * MIB)
        self.assertEqual(int(array[5]), 7)
        array.flush()
        self.assertEqual(file.read_bytes()[-1], 7)
        # maps that come and go while pages are let go disturb nothing
        ended = threading.Event()
        letting = threading.Thread(target=lambda: [memory.relieve() for _ in iter(ended.is_set, True)])
        letting.start()
        for number in range(200):
            memory.mapped(np.memmap(file, np.uint8, "r+", shape=(MIB,), offset=number % 8 * MIB))
        self.assertTrue(letting.is_alive())
        ended.set()
        letting.join()
        # one that is gone is no longer looked at
        held = len(memory._maps)
        del array
        self.assertEqual(len(memory._maps), held - 1)
        memory.relieve()


class Watched(unittest.TestCase):
    def test_caches_are_emptied_near_the_limit_alone(self):
        folder = Path(tempfile.mkdtemp())
        (folder / "pixels").write_bytes(b"a" * 5000)
        emptied = []
        memory.on_pressure(lambda: emptied.append(1))
        self.addCleanup(memory._caches.pop)
        MemoryWatch(1 << 40, folder).look()
        self.assertEqual(emptied, [])
        watch = MemoryWatch(held_bytes(), folder)
        watch.look()
        self.assertEqual(emptied, [1])
        self.assertEqual(watch.figures()["scratch_bytes"], 5000)
        self.assertGreater(watch.peak, 10 * MIB)
        self.assertEqual(memory_figures(), {})

    def run_json(self, *told, code=0):
        out = io.StringIO()
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(io.StringIO()):
            self.assertEqual(main([str(one) for one in told]), code)
        return json.loads(out.getvalue())

    def test_commands_tell_what_they_held(self):
        folder = Path(tempfile.mkdtemp())
        source = textured_square(np.zeros((8, 8, 3), np.uint8)).write(folder / "m.glb")
        make = "make", source, "--out", folder / "out", "--size", "64", "--seconds", "0"
        for told in (("inspect", source), ("plan", source), make):
            figures = self.run_json(*told, "--json", "--memory", "1GiB")["memory"]
            self.assertEqual(figures["limit_bytes"], 1 << 30)
            self.assertGreater(figures["peak_bytes"], 50 * MIB)
            self.assertGreater(figures["scratch_bytes"], 0)
        error = self.run_json("inspect", source, "--json", "--memory", "lots", code=2)
        self.assertIn("4GiB", str(error))


if __name__ == "__main__":
    unittest.main()
