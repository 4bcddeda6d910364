"""Killed in the middle of writing, and a disk that is full: every file is the old one or the new one, whole."""

import os
import random
import signal
import subprocess
import sys
import tempfile
import time
import unittest
import zipfile
from pathlib import Path

from fasciculum.errors import OutputError
from fasciculum.io.pixels import PixelStore
from fasciculum.operations.deliver.writing import sweep_parts, write_all
from fasciculum.operations.projects import open_project
from tests.builders import smooth_image, textured_square

#: forks a process that writes for each number it is told, and says when that has begun and when it is over
FORKING = """
import itertools, os, sys
from dataclasses import replace
from pathlib import Path
from fasciculum.io.pixels import PixelStore
from fasciculum.operations.deliver.deliver import deliver
from fasciculum.operations.deliver.writing import write_all
from fasciculum.operations.projects import open_project, save_project
folder = Path(sys.argv[1])
def begin():
    print(os.getpid(), flush=True)
{writer}
for line in sys.stdin:
    child = os.fork()
    if not child:
        try:
            write(int(line))
        finally:
            os._exit(3)
    os.waitpid(child, 0)
    print("over", flush=True)
"""
#: writes two sets of files in turn, over and over, until it is killed
WRITER = """
def write(number):
    sets = [{f"{name}.bin": bytes([65 + number]) * 200_000 for name in "abc"} for number in range(2)]
    begin()
    for files in itertools.cycle(sets):
        write_all(folder, files)
"""

#: delivers and saves a project again and again with another texture each time
DELIVERER = """
def write(number):
    store = PixelStore(folder / f"store{number}")
    document = open_project(folder / "p.fasc", store)
    begin()
    for name in itertools.cycle(("one", "another one of a longer name")):
        settings = replace(document.delivery, name="p", bits=8 if name == "one" else 16)
        document = replace(document, name=name, delivery=settings)
        deliver(document, folder / "out", store)
        save_project(document, folder / "p.fasc", store)
"""


class Killed(unittest.TestCase):
    def forking(self, folder, writer):
        """Return a function that starts a writer, lets it begin, and kills it at some moment."""
        code = FORKING.replace("{writer}", writer)
        process = subprocess.Popen(
            [sys.executable, "-c", code, str(folder)], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
        )
        self.addCleanup(process.wait)
        self.addCleanup(process.stdout.close)
        self.addCleanup(process.stdin.close)

        def kill(number, seconds):
            process.stdin.write(f"{number}\n")
            process.stdin.flush()
            writing = int(process.stdout.readline())
            time.sleep(seconds)
            os.kill(writing, signal.SIGKILL)
            self.assertEqual(process.stdout.readline(), "over\n")

        return kill

    def test_thirty_kills_of_plain_writing(self):
        folder = Path(tempfile.mkdtemp())
        rng = random.Random(1)
        left = 0
        kill = self.forking(folder, WRITER)
        for number in range(30):
            kill(number, rng.uniform(0, 0.03))
            for name in "abc":
                path = folder / f"{name}.bin"
                if path.exists():
                    data = path.read_bytes()
                    self.assertIn(data, (b"A" * 200_000, b"B" * 200_000))
            left += len(list(folder.glob(".fasciculum*")))
        # what was half-written is swept up by the next one
        self.assertGreater(left, 0, "no kill ever met a file in the making")
        sweep_parts(folder)
        self.assertEqual(list(folder.glob(".fasciculum*")), [])

    def test_five_kills_of_delivering_and_saving(self):
        folder = Path(tempfile.mkdtemp())
        textured_square(smooth_image(64)).write(folder / "m.glb")
        arguments = ["make", str(folder / "m.glb"), "--out", str(folder), "--size", "256", "--seconds", "0"]
        subprocess.run([sys.executable, "-m", "fasciculum", *arguments, "--name", "p"], check=True, capture_output=True)
        rng = random.Random(2)
        kill = self.forking(folder, DELIVERER)
        for number in range(5):
            kill(number, rng.uniform(0.01, 0.15))
            document = open_project(folder / "p.fasc", PixelStore(folder / "look"))
            self.assertFalse([finding.code for finding in document.gathered if finding.code.startswith("damaged")])
            self.assertIsNotNone(document.bundles[0].texturing)
            with zipfile.ZipFile(folder / "p.fasc") as archive:
                self.assertIsNone(archive.testzip())
            from PIL import Image

            for picture in (folder / "out").glob("*.png"):
                Image.open(picture).load()
            for model in (folder / "out").glob("*.glb"):
                data = model.read_bytes()
                self.assertEqual(int.from_bytes(data[8:12], "little"), len(data))


class Full(unittest.TestCase):
    def test_a_full_disk_leaves_everything_as_it_was(self):
        """A file system of two MiB where one can be mounted, else a limit on the size of files."""
        folder = Path(tempfile.mkdtemp())
        mounted = (
            os.getuid() == 0
            and not subprocess.run(
                ["mount", "-t", "tmpfs", "-o", "size=2m", "tmpfs", str(folder)], capture_output=True
            ).returncode
        )
        try:
            old = {"a.bin": b"old" * 1000, "b.bin": b"older" * 1000}
            write_all(folder, old)
            new = {"a.bin": b"new" * 1000, "b.bin": os.urandom(3 << 20)}
            if mounted:
                with self.assertRaises(OutputError) as caught:
                    write_all(folder, new)
            else:
                import resource

                signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
                limits = resource.getrlimit(resource.RLIMIT_FSIZE)
                resource.setrlimit(resource.RLIMIT_FSIZE, (1 << 20, limits[1]))
                try:
                    with self.assertRaises(OutputError) as caught:
                        write_all(folder, new)
                finally:
                    resource.setrlimit(resource.RLIMIT_FSIZE, limits)
            self.assertIn("b.bin", str(caught.exception))
            self.assertIn("room", caught.exception.hint)
            self.assertEqual({path.name: path.read_bytes() for path in folder.iterdir()}, old)
        finally:
            if mounted:
                subprocess.run(["umount", str(folder)], check=False)

    def test_a_folder_in_the_way(self):
        folder = Path(tempfile.mkdtemp())
        (folder / "b.bin").mkdir()
        with self.assertRaisesRegex(OutputError, "in the way"):
            write_all(folder, {"a.bin": b"1", "b.bin": b"2"})
        self.assertEqual([path.name for path in folder.iterdir()], ["b.bin"])


if __name__ == "__main__":
    unittest.main()
