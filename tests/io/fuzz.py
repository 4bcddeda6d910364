"""Broken files for the readers, made of whole ones. tools/fuzz.py runs these for as long as it is told.

Each file is a valid one that was changed with its structure in mind: a number in the JSON, a length in a header, a
piece of binary data, an image. A file may be read or refused by an error of ours; anything else is a fault.
"""

from __future__ import annotations

import copy
import io
import json
import random
import struct
import tempfile
import time
import zipfile
import zlib
from collections.abc import Callable
from pathlib import Path
from typing import Any

from fasciculum.errors import FasciculumError
from fasciculum.io.pixels import PixelStore
from fasciculum.model.sheet import SheetSettings
from fasciculum.operations.gather.gather import gather
from fasciculum.operations.projects import open_project
from fasciculum.operations.report import inspection_of
from fasciculum.session.pipeline import Order, make

#: seconds that one small file may take
SLOW = 30.0
NUMBERS = (
    -1, 0, 1, 2, 3, 4, 5, 7, 8, 127, 255, 256, 1000, 65535, 65536, 2**24, 2**31 - 1, 2**31, 2**32 - 1, 2**32, 2**53,
    2**63, 10**30, -(2**31), 0.5, -0.5, 1e-320, 1e38, 1e300, float("nan"), float("inf"), 5120, 5121, 5123, 5125, 5126,
)  # fmt: skip
STRINGS = (
    "", "SCALAR", "VEC2", "VEC3", "VEC4", "MAT2", "MAT3", "MAT4", "BLEND", "MASK", "\0", "../../etc/passwd",
    "/dev/zero", "C:\\x.png", "http://example.org/x", "file:///etc/passwd", "data:,x", "data:;base64,AAAA",
    "%2e%2e/x", "a" * 5000,
    "\u202e\n\t", "con", "nan", "//host/share", "KHR_materials_unlit",
)  # fmt: skip


def _paths(value: Any, path: tuple[Any, ...] = ()) -> list[tuple[Any, ...]]:
    result = [path] if path else []
    if isinstance(value, dict):
        for key, part in value.items():
            result += _paths(part, (*path, key))
    elif isinstance(value, list):
        for index, part in enumerate(value):
            result += _paths(part, (*path, index))
    return result


def mutate_json(rng: random.Random, document: Any) -> Any:
    """Return a JSON value with a few of its parts changed, doubled, moved or gone."""
    document = copy.deepcopy(document)
    for _ in range(rng.choice((1, 1, 1, 2, 3, 6))):
        paths = _paths(document)
        if not paths:
            break
        path = rng.choice(paths)
        holder = document
        for key in path[:-1]:
            holder = holder[key]
        key, old = path[-1], holder[path[-1]]
        act = rng.randrange(9)
        if act == 0:
            del holder[key]
        elif act == 1:
            holder[key] = rng.choice(STRINGS)
        elif act == 2:
            holder[key] = rng.choice(([], {}, None, True, [[]] * 3, {"index": 0}, [0] * 16))
        elif act == 3 and isinstance(old, list):
            holder[key] = old * rng.choice((2, 3, 40))
        elif act == 4:
            other = document
            for step in rng.choice(paths):
                other = other[step] if _has(other, step) else other
            holder[key] = copy.deepcopy(other)
        elif act == 5 and isinstance(old, (int, float)) and not isinstance(old, bool):
            holder[key] = old + rng.choice((-1, 1, 2, 4, -4, 255, 65536))
        elif act == 6 and isinstance(holder, dict):
            holder[rng.choice(("extensions", "extras", "sparse", "targets", "skin", "children", "uri", "mode"))] = (
                rng.choice((3, {}, [], "x", [0, 1], {"KHR_texture_transform": {"scale": [1e300, 0]}}))
            )
        else:
            holder[key] = rng.choice(NUMBERS)
    return document


def _has(value: Any, step: Any) -> bool:
    if isinstance(value, dict):
        return step in value
    return isinstance(value, list) and isinstance(step, int) and step < len(value)


def mutate_bytes(rng: random.Random, data: bytes) -> bytes:
    """Return bytes with a few of them changed, cut, doubled or put in."""
    changed = bytearray(data)
    for _ in range(rng.choice((1, 1, 2, 4, 16))):
        if not changed:
            break
        at = rng.randrange(len(changed))
        act = rng.randrange(7)
        if act == 0:
            changed[at] = rng.randrange(256)
        elif act == 1:
            changed[at : at + 4] = struct.pack("<I", int(rng.choice((0, 1, 255, 2**31, 2**32 - 1, len(data)))))
        elif act == 2:
            del changed[at : at + rng.choice((1, 4, 100))]
        elif act == 3:
            changed[at:at] = bytes(rng.randrange(256) for _ in range(rng.choice((1, 4, 30))))
        elif act == 4:
            del changed[at:]
        elif act == 5:
            changed[at : at + 4] = struct.pack("<f", rng.choice((float("nan"), float("inf"), 1e38, -1e-40)))
        else:
            changed[at:at] = changed[at : at + rng.choice((1, 16, 200))]
    return bytes(changed)


def split_glb(data: bytes) -> tuple[dict[str, Any], bytes]:
    """Return the JSON and the binary chunk of a GLB."""
    (size,) = struct.unpack_from("<I", data, 12)
    return json.loads(data[20 : 20 + size]), data[28 + size :]


def join_glb(document: Any, binary: bytes) -> bytes:
    """Return a GLB of JSON and a binary chunk."""
    text = json.dumps(document).encode()
    text += b" " * (-len(text) % 4)
    chunks = struct.pack("<II", len(text), 0x4E4F534A) + text + struct.pack("<II", len(binary), 0x004E4942) + binary
    return struct.pack("<III", 0x46546C67, 2, 12 + len(chunks)) + chunks


def mutate_glb(rng: random.Random, data: bytes) -> bytes:
    """Return a GLB with changed JSON, changed binary data, or a changed outside."""
    act = rng.randrange(10)
    if act == 0:
        return mutate_bytes(rng, data)
    document, binary = split_glb(data)
    if act < 8:
        document = mutate_json(rng, document)
    if act in (6, 7, 8, 9):
        binary = mutate_bytes(rng, binary)
    return join_glb(document, binary)


def mutate_lines(rng: random.Random, data: bytes) -> bytes:
    """Return text with changed, doubled, shuffled or lost words and lines."""
    if rng.randrange(4) == 0:
        return mutate_bytes(rng, data)
    lines = data.split(b"\n")
    for _ in range(rng.choice((1, 1, 2, 5))):
        at = rng.randrange(len(lines))
        words = lines[at].split()
        act = rng.randrange(6)
        if act == 0:
            del lines[at]
            lines = lines or [b""]
        elif act == 1:
            lines[at:at] = [lines[at]] * rng.choice((1, 50))
        elif act == 2 and words:
            odd = (b"0", b"-1", b"-99999999", b"99999999999999999999", b"nan", b"1e999", b"1//", b"/", b"1/2/3/4", b"x")
            words[rng.randrange(len(words))] = rng.choice(odd)
            lines[at] = b" ".join(words)
        elif act == 3:
            lines[at] = rng.choice((b"f 1 2", b"f", b"v", b"vt", b"usemtl", b"mtllib ../x.mtl", b"s on", b"g", b"\\"))
        elif act == 4 and words:
            lines[at] = b" ".join(words * rng.choice((2, 30)))
        else:
            rng.shuffle(lines)
    return b"\n".join(lines)


def mutate_project(rng: random.Random, data: bytes) -> bytes:
    """Return a .fasc file with a changed document, changed members, or a changed outside."""
    if rng.randrange(3) == 0:
        return mutate_bytes(rng, data)
    stream = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(data)) as old, zipfile.ZipFile(stream, "w") as new:
        for name in old.namelist():
            part = old.read(name)
            if name == "project.json" and rng.randrange(2):
                part = json.dumps(mutate_json(rng, json.loads(part))).encode()
            elif rng.randrange(3) == 0:
                part = mutate_bytes(rng, part)
            if rng.randrange(12):
                new.writestr(name, part)
    return stream.getvalue()


def png_of(width: int, height: int) -> bytes:
    """Return a PNG that claims a size and holds next to nothing."""

    def chunk(kind: bytes, body: bytes) -> bytes:
        return struct.pack(">I", len(body)) + kind + body + struct.pack(">I", zlib.crc32(kind + body))

    head = struct.pack(">IIBBBBB", width, height, 8, 2, 0, 0, 0)
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", zlib.compress(b"\0" * 64)) + chunk(b"IEND", b"")


class Fuzz:
    """Valid files to start from, and what is done with each changed one.

    Parameters
    ----------
    folder : Path
        Holds the seeds: models, and a project made of one of them. Changed files are written there.
    deep : bool
        Take what can be read through the whole path.
    """

    def __init__(self, folder: Path, seeds: list[Path], *, deep: bool = False) -> None:
        self.deep = deep
        self.folder = folder
        self.seeds = seeds
        self.counts = {"read": 0, "refused": 0}
        self.slowest = 0.0

    def once(self, rng: random.Random) -> None:
        """Change one seed and read it; whatever is no error of ours gets out."""
        seed = rng.choice(self.seeds)
        data = seed.read_bytes()
        kinds: dict[str, Callable[[random.Random, bytes], bytes]] = {
            ".glb": mutate_glb,
            ".gltf": lambda r, d: (
                json.dumps(mutate_json(r, json.loads(d))).encode() if r.randrange(4) else mutate_bytes(r, d)
            ),
            ".obj": mutate_lines,
            ".mtl": mutate_lines,
            ".fasc": mutate_project,
        }
        changed = self.folder / f"changed{seed.suffix}"
        if seed.suffix == ".mtl":
            (self.folder / "changed.mtl").write_bytes(mutate_lines(rng, data))
            changed = self.folder / "plain.obj"
        else:
            changed.write_bytes(kinds[seed.suffix](rng, data))
        began = time.process_time()
        try:
            self.read(changed)
            self.counts["read"] += 1
        except FasciculumError as error:
            assert error.message and "\n" not in error.message.strip(), repr(error.message)
            self.counts["refused"] += 1
        took = time.process_time() - began
        self.slowest = max(self.slowest, took)
        assert took < SLOW, f"{took:.1f} s"

    def read(self, path: Path) -> None:
        """Read a file as the command line does."""
        with tempfile.TemporaryDirectory() as scratch:
            store = PixelStore(Path(scratch))
            if path.suffix == ".fasc":
                open_project(path, store)
                return
            scene, findings = gather([str(path)], store)
            json.dumps(inspection_of(scene, findings), allow_nan=False)
            assert scene.objects or findings, "a silently empty scene"
            if scene.objects and self.deep:
                order = Order("one", SheetSettings(64, 64, padding=2, seconds=0))
                make([str(path)], Path(scratch) / "out", store, order)
