"""A level of many objects, against decoding its images: ``./run bench level [OBJECTS...]`` (1000 without any).

Each size is made by ``demo/make_level.py`` and then inspected, planned and made by the command line, each in a process
of its own; seconds are over those that two OpenCV threads take to decode the images of the same file in the same run.
What all processes of a command held is what its report says. With ``--memory LIMIT`` the command is given that limit.
"""

import json
import math
import struct
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import cv2
import numpy as np

ROOT = Path(__file__).parents[1]
#: objects to materials and edges of images
KINDS = {100: (20, (512, 1024)), 300: (60, (512, 1024)), 1000: (200, (512, 1024)), 3000: (600, (2048,))}


def decoding(file):
    """Return the seconds that two threads take to decode the images of a GLB."""
    data = file.read_bytes()
    length = struct.unpack("<I", data[12:16])[0]
    content = json.loads(data[20 : 20 + length])
    views = [content["bufferViews"][image["bufferView"]] for image in content["images"]]
    images = [data[28 + length + view["byteOffset"] :][: view["byteLength"]] for view in views]
    cv2.setNumThreads(1)
    began = time.perf_counter()
    with ThreadPoolExecutor(2) as pool:
        list(pool.map(lambda image: cv2.imdecode(np.frombuffer(image, np.uint8), cv2.IMREAD_UNCHANGED).shape, images))
    return time.perf_counter() - began


def command(*words):
    """Run a command; return its seconds and what it printed."""
    began = time.perf_counter()
    told = [sys.executable, "-m", "fasciculum", *map(str, words), "--json"]
    done = subprocess.run(told, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, check=False)
    return time.perf_counter() - began, json.loads(done.stdout)


def measured(objects, folder, memory):
    """Print the figures of one level, and return the seconds and the peak memory of making it."""
    materials, sizes = KINDS[objects]
    file = folder / f"level {objects}.glb"
    make = [ROOT / "demo" / "make_level.py", file, "--objects", objects, "--materials", materials, "--sizes", *sizes]
    subprocess.run([sys.executable, *map(str, make)], check=True)
    bare = decoding(file)
    more = ["--memory", memory] if memory else []
    print(f"{objects} objects, {materials} materials: images decoded in {bare:.1f} s", flush=True)
    out = folder / "out"
    for words in (
        ("inspect", file, *more),
        ("plan", file, "--combine", "bundle", *more),
        ("make", file, "--out", out, "--combine", "bundle", "--seconds", 0, *more),
    ):
        seconds, result = command(*words)
        peak = result["memory"]["peak_bytes"]
        print(f"  {words[0]}: {seconds:.1f} s, {seconds / bare:.2f} x; {peak / 2**30:.2f} GiB", flush=True)
    ledger = result["ledger"]
    shown = [entry for bundle in result["bundles"] for entry in bundle.get("fidelity", [])]
    worst = min(entry["base_color_db"] for entry in shown if entry["base_color_db"] is not None)
    print(
        f"  {ledger['before']['draw_calls']} draw calls become {ledger['after']['draw_calls']}, "
        f"{ledger['before']['texture_bytes'] / 2**20:.0f} MiB become {ledger['after']['texture_bytes'] / 2**20:.0f}; "
        f"the worst object's base colour {worst} dB; a typical view {ledger['after']['typical_view']}; "
        f"stages {result['seconds']}"
    )
    return seconds, peak


def main():
    words = sys.argv[1:]
    memory = words.pop(words.index("--memory") + 1) if "--memory" in words else ""
    counts = [int(word) for word in words if word != "--memory"] or [1000]
    results = []
    for objects in counts:
        with tempfile.TemporaryDirectory() as folder:
            results.append(measured(objects, Path(folder), memory))
    for (few, one), (many, two) in zip(
        zip(counts, results, strict=True), zip(counts[1:], results[1:], strict=True), strict=False
    ):
        growth = [math.log(b / a) / math.log(many / few) for a, b in zip(one, two, strict=True)]
        print(f"{few} to {many} objects: time grows with exponent {growth[0]:.2f}, memory with {growth[1]:.2f}")


if __name__ == "__main__":
    main()
