"""Opening a large model against reading the same bytes and decoding the same images with the bare libraries.

``./run bench opening [OBJECTS] [TRIANGLES] [IMAGES] [EDGE]``; each side runs in a process of its own, so that its
peak memory is its own.
"""

import json
import resource
import struct
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import cv2
import numpy as np


def write_model(path, objects, triangles, images, edge):
    """Write a GLB of wavy sheets of triangles, each object with a material and a texture of its own or shared."""
    rng = np.random.default_rng(1)
    document = {
        "asset": {"version": "2.0"},
        "scenes": [{"nodes": list(range(objects))}],
        "nodes": [],
        "meshes": [],
        "materials": [],
        "textures": [],
        "images": [],
        "accessors": [],
        "bufferViews": [],
    }
    parts, at = [], 0

    def view(data):
        nonlocal at
        data += b"\0" * (-len(data) % 4)
        parts.append(data)
        document["bufferViews"].append({"buffer": 0, "byteOffset": at, "byteLength": len(data)})
        at += len(data)
        return len(document["bufferViews"]) - 1

    base = cv2.resize(rng.integers(0, 255, (edge // 8, edge // 8, 3), dtype=np.uint8), (edge, edge))
    for number in range(images):
        picture = np.roll(base, number * 7, axis=1)
        picture[: edge // 4] += rng.integers(0, 6, (edge // 4, edge, 3), dtype=np.uint8)
        kind = ".png" if number % 2 else ".jpg"
        data = cv2.imencode(kind, picture, [cv2.IMWRITE_PNG_COMPRESSION, 4] if number % 2 else [])[1].tobytes()
        mime = "image/png" if number % 2 else "image/jpeg"
        document["images"].append({"bufferView": view(data), "mimeType": mime})
        document["textures"].append({"source": number})
        document["materials"].append({"pbrMetallicRoughness": {"baseColorTexture": {"index": number}}})
    side = max(int((triangles / objects / 2) ** 0.5), 1)
    grid = np.stack(np.meshgrid(np.linspace(0, 1, side + 1), np.linspace(0, 1, side + 1)), axis=-1).reshape(-1, 2)
    corner = (np.arange(side)[:, None] * (side + 1) + np.arange(side)).reshape(-1)
    quads = np.stack([corner, corner + 1, corner + side + 2, corner, corner + side + 2, corner + side + 1], axis=1)
    for number in range(objects):
        height = 0.1 * np.sin(grid[:, :1] * 9 + number)
        positions = np.concatenate([grid[:, :1], height, grid[:, 1:]], axis=1).astype("<f4")
        normals = np.tile(np.array([0, 1, 0], "<f4"), (len(grid), 1))
        entries = {}
        for name, values, kind in (
            ("POSITION", positions, "VEC3"),
            ("NORMAL", normals, "VEC3"),
            ("TEXCOORD_0", grid.astype("<f4"), "VEC2"),
        ):
            entry = {"bufferView": view(values.tobytes()), "componentType": 5126, "count": len(values), "type": kind}
            if name == "POSITION":
                entry |= {"min": values.min(0).tolist(), "max": values.max(0).tolist()}
            document["accessors"].append(entry)
            entries[name] = len(document["accessors"]) - 1
        document["accessors"].append(
            {
                "bufferView": view(quads.astype("<u4").tobytes()),
                "componentType": 5125,
                "count": quads.size,
                "type": "SCALAR",
            }
        )
        document["meshes"].append(
            {
                "primitives": [
                    {
                        "attributes": entries,
                        "indices": len(document["accessors"]) - 1,
                        "material": number % max(images, 1),
                    }
                ]
            }
        )
        document["nodes"].append({"name": f"sheet {number}", "mesh": number, "translation": [number * 1.2, 0, 0]})
    document["buffers"] = [{"byteLength": at}]
    text = json.dumps(document).encode()
    text += b" " * (-len(text) % 4)
    with open(path, "wb") as stream:
        stream.write(struct.pack("<III", 0x46546C67, 2, 12 + 16 + len(text) + at))
        stream.write(struct.pack("<II", len(text), 0x4E4F534A) + text + struct.pack("<II", at, 0x004E4942))
        for part in parts:
            stream.write(part)


def bare(path):
    """Read the bytes, the JSON and every accessor, and decode every image, holding what was decoded."""
    import io

    import PIL.Image

    began = time.perf_counter()
    data = Path(path).read_bytes()
    (size,) = struct.unpack_from("<I", data, 12)
    document = json.loads(data[20 : 20 + size])
    binary = memoryview(data)[28 + size :]
    held = []
    for entry in document["accessors"]:
        view = document["bufferViews"][entry["bufferView"]]
        part = binary[view["byteOffset"] : view["byteOffset"] + view["byteLength"]]
        held.append(np.frombuffer(part, "<f4" if entry["componentType"] == 5126 else "<u4").copy())
    for image in document["images"]:
        view = document["bufferViews"][image["bufferView"]]
        part = bytes(binary[view["byteOffset"] : view["byteOffset"] + view["byteLength"]])
        held.append(np.asarray(PIL.Image.open(io.BytesIO(part)).convert("RGB")))
    return time.perf_counter() - began, sum(array.nbytes for array in held)


def ours(path):
    """Gather it as the window does."""
    from fasciculum.io.pixels import PixelStore
    from fasciculum.operations.gather.gather import gather

    with tempfile.TemporaryDirectory() as folder:
        began = time.perf_counter()
        scene, _ = gather([str(path)], PixelStore(Path(folder)))
        took = time.perf_counter() - began
        triangles = sum(len(p.triangles) for item in scene.objects for p in scene.primitives_of(item))
        return took, triangles


def measured(side, path):
    """Run one side in a process of its own; return its seconds, its figure and its peak in MiB."""
    command = [sys.executable, __file__, "--side", side, str(path)]
    out = subprocess.run(command, check=True, capture_output=True, text=True).stdout.split()
    return float(out[0]), int(out[1]), int(out[2])


def main():
    if sys.argv[1:2] == ["--side"]:
        took, figure = {"bare": bare, "ours": ours}[sys.argv[2]](sys.argv[3])
        print(took, figure, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss >> 10)
        return
    given = [int(value) for value in sys.argv[1:]]
    objects, triangles, images, edge = given + [500, 2_000_000, 200, 2048][len(given) :]
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "large.glb"
        write_model(path, objects, triangles, images, edge)
        print(f"{objects} objects, {triangles} triangles, {images} images of {edge}: {path.stat().st_size >> 20} MiB")
        rows = [(side, *measured(side, path)) for side in ("bare", "ours", "bare", "ours")]
    decoded = rows[0][2] >> 20
    for side, took, _, peak in rows:
        print(f"{side}: {took:.1f} s, peak {peak} MiB")
    best = {side: min(row[1] for row in rows if row[0] == side) for side in ("bare", "ours")}
    peak = max(row[3] for row in rows if row[0] == "ours")
    print(
        f"decoded {decoded} MiB; time {best['ours'] / best['bare']:.2f} of the bare libraries, "
        f"peak {peak / decoded:.2f} of what is decoded"
    )


if __name__ == "__main__":
    main()
