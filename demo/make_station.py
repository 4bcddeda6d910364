"""Make the ropeway station: ``python demo/make_station.py`` writes its models, sheets and layers into the package.

A mountain ropeway station in metres, with every peculiarity that the product has to deal with: six alike seats,
repeating planks and corrugated sheet, a rope and a handrail that repeat along one axis, flat-coloured buttons, a lamp
that glows, cut-out enamel signs, dirt in vertex colours, a missing texture, an object without UVs, a mirrored lamp
post, glass, a second UV set, texture transforms and a person-sized box. Of three parts there are detailed twins in a
file of their own: bull wheel, hut door and lamp post.
"""

from __future__ import annotations

import io
import json
import struct
from pathlib import Path

import numpy as np
import shapes
import textures
from PIL import Image

REPEAT, MIRROR, CLAMP = 10497, 33648, 33071


class Builder:
    """Collects a glTF file."""

    def __init__(self):
        self.binary = bytearray()
        self.json = {
            "asset": {"version": "2.0", "generator": "Fasciculum demo station"},
            "scene": 0,
            "scenes": [{"name": "Ropeway station", "nodes": []}],
            "nodes": [],
            "meshes": [],
            "materials": [],
            "textures": [],
            "images": [],
            "samplers": [],
            "accessors": [],
            "bufferViews": [],
            "extensionsUsed": [
                "KHR_lights_punctual",
                "KHR_materials_emissive_strength",
                "KHR_texture_transform",
            ],
            "extensions": {"KHR_lights_punctual": {"lights": []}},
        }
        self.materials, self.textures = {}, {}

    def view(self, data, target=None):
        self.binary += b"\0" * (-len(self.binary) % 4)
        view = {"buffer": 0, "byteOffset": len(self.binary), "byteLength": len(data)}
        if target:
            view["target"] = target
        self.json["bufferViews"].append(view)
        self.binary += data
        return len(self.json["bufferViews"]) - 1

    def accessor(self, values, kind, component, target, bounds=False):
        entry = {
            "bufferView": self.view(values.tobytes(), target),
            "componentType": component,
            "count": len(values),
            "type": kind,
        }
        if bounds:
            entry |= {"min": values.min(0).tolist(), "max": values.max(0).tolist()}
        self.json["accessors"].append(entry)
        return len(self.json["accessors"]) - 1

    def image(self, name, pixels, jpeg=False):
        """Add an image; pixels None makes one whose file is missing."""
        if pixels is None:
            self.json["images"].append({"uri": f"textures/{name}.png", "name": name})
            return len(self.json["images"]) - 1
        picture = Image.fromarray(np.round(np.clip(pixels, 0, 1) * 255).astype(np.uint8))
        stream = io.BytesIO()
        if jpeg:
            picture.save(stream, "JPEG", quality=88, subsampling=0)
        else:
            picture.save(stream, "PNG", optimize=True)
        self.json["images"].append(
            {
                "bufferView": self.view(stream.getvalue()),
                "name": name,
                "mimeType": "image/jpeg" if jpeg else "image/png",
            }
        )
        return len(self.json["images"]) - 1

    def texture(self, name, pixels=None, wrap=(REPEAT, REPEAT), jpeg=False, image=None):
        sampler = {"magFilter": 9729, "minFilter": 9987, "wrapS": wrap[0], "wrapT": wrap[1]}
        if sampler not in self.json["samplers"]:
            self.json["samplers"].append(sampler)
        source = self.image(name, pixels, jpeg) if image is None else image
        self.json["textures"].append({"sampler": self.json["samplers"].index(sampler), "source": source})
        self.textures[name] = len(self.json["textures"]) - 1
        return self.textures[name]

    def material(
        self,
        name,
        color=None,
        factor=None,
        orm=None,
        normal=None,
        metallic=0.0,
        roughness=0.8,
        transform=None,
        **more,
    ):
        def info(texture, **extra):
            entry = {"index": self.textures[texture], **extra}
            if transform:
                entry["extensions"] = {"KHR_texture_transform": transform}
            return entry

        pbr = {"metallicFactor": metallic, "roughnessFactor": roughness}
        if factor is not None:
            pbr["baseColorFactor"] = [*factor, 1.0] if len(factor) == 3 else list(factor)
        if color:
            pbr["baseColorTexture"] = info(color)
        material = {"name": name, "pbrMetallicRoughness": pbr}
        if orm:
            pbr |= {"metallicRoughnessTexture": info(orm), "metallicFactor": 1.0, "roughnessFactor": 1.0}
            material["occlusionTexture"] = info(orm)
        if normal:
            material["normalTexture"] = info(normal)
        self.json["materials"].append(material | more)
        self.materials[name] = len(self.json["materials"]) - 1

    def primitive(self, shape, material, uvs=True, uv1=None, colors=None):
        triangles = shape["triangles"].astype(np.uint32).reshape(-1, 1)
        small = len(shape["positions"]) < 65535
        attributes = {
            "POSITION": self.accessor(shape["positions"].astype(np.float32), "VEC3", 5126, 34962, True),
            "NORMAL": self.accessor(shape["normals"].astype(np.float32), "VEC3", 5126, 34962),
        }
        if uvs:
            attributes["TEXCOORD_0"] = self.accessor(shape["uvs"].astype(np.float32), "VEC2", 5126, 34962)
        if uv1 is not None:
            attributes["TEXCOORD_1"] = self.accessor(uv1.astype(np.float32), "VEC2", 5126, 34962)
        if colors is not None:
            attributes["COLOR_0"] = self.accessor(colors.astype(np.float32), "VEC3", 5126, 34962)
        indices = self.accessor(
            triangles.astype(np.uint16) if small else triangles, "SCALAR", 5123 if small else 5125, 34963
        )
        return {"attributes": attributes, "indices": indices, "material": self.materials[material]}

    def mesh(self, name, *primitives):
        self.json["meshes"].append({"name": name, "primitives": list(primitives)})
        return len(self.json["meshes"]) - 1

    def node(self, name, mesh=None, at=None, turn_y=None, scale=None, parent=None, **more):
        node = {"name": name, **more}
        if mesh is not None:
            node["mesh"] = mesh
        if at is not None:
            node["translation"] = [float(x) for x in at]
        if turn_y:
            half = np.radians(turn_y) / 2
            node["rotation"] = [0.0, float(np.sin(half)), 0.0, float(np.cos(half))]
        if scale is not None:
            node["scale"] = [float(x) for x in scale]
        self.json["nodes"].append(node)
        index = len(self.json["nodes"]) - 1
        if parent is None:
            self.json["scenes"][0]["nodes"].append(index)
        else:
            self.json["nodes"][parent].setdefault("children", []).append(index)
        return index

    def simple(self, name, shape, material, at=None, **more):
        """Add a mesh of one primitive and a node for it."""
        place = {key: more.pop(key) for key in ("turn_y", "scale", "parent") if key in more}
        return self.node(name, self.mesh(name, self.primitive(shape, material, **more)), at, **place)

    def pruned(self):
        """Return a file with what its meshes use alone."""
        found = Builder()
        old, new = self.json, found.json
        new["scenes"], new["nodes"] = old["scenes"], old["nodes"]
        new["scenes"][0]["name"] = "Detailed parts"
        del new["extensions"]
        new["extensionsUsed"] = ["KHR_materials_emissive_strength"]

        def data(number):
            view = old["bufferViews"][number]
            return bytes(self.binary[view["byteOffset"] : view["byteOffset"] + view["byteLength"]]), view.get("target")

        def accessor(number):
            entry = dict(old["accessors"][number])
            entry["bufferView"] = found.view(*data(entry["bufferView"]))
            new["accessors"].append(entry)
            return len(new["accessors"]) - 1

        kept = {"materials": {}, "textures": {}, "images": {}}

        def image(number):
            entry = dict(old["images"][number])
            entry["bufferView"] = found.view(*data(entry["bufferView"]))
            return entry

        def once(part, number, copy):
            if number not in kept[part]:
                entry = copy(number)
                new[part].append(entry)
                kept[part][number] = len(new[part]) - 1
            return kept[part][number]

        def texture(number):
            entry = dict(old["textures"][number])
            entry["source"] = once("images", entry["source"], image)
            return entry

        def material(number):
            entry = json.loads(json.dumps(old["materials"][number]))
            for place in (entry, entry["pbrMetallicRoughness"]):
                for key, info in place.items():
                    if key.endswith("Texture"):
                        info["index"] = once("textures", info["index"], texture)
            return entry

        for mesh in old["meshes"]:
            parts = []
            for part in mesh["primitives"]:
                attributes = {name: accessor(number) for name, number in part["attributes"].items()}
                indices = accessor(part["indices"])
                number = once("materials", part["material"], material)
                parts.append({"attributes": attributes, "indices": indices, "material": number})
            new["meshes"].append({"name": mesh["name"], "primitives": parts})
        new["samplers"] = old["samplers"]
        return found

    def glb(self):
        self.json["buffers"] = [{"byteLength": len(self.binary)}]
        text = json.dumps(self.json, separators=(",", ":")).encode()
        text += b" " * (-len(text) % 4)
        binary = bytes(self.binary) + b"\0" * (-len(self.binary) % 4)
        return (
            struct.pack("<III", 0x46546C67, 2, 28 + len(text) + len(binary))
            + struct.pack("<II", len(text), 0x4E4F534A)
            + text
            + struct.pack("<II", len(binary), 0x004E4942)
            + binary
        )


def add_textures(b):
    def surface(name, parts, wrap=(REPEAT, REPEAT)):
        for suffix, pixels in zip(("", " normal", " orm"), parts, strict=False):
            b.texture(name + suffix, pixels, wrap, jpeg=True)

    surface("planks", textures.planks())
    surface("corrugated", textures.corrugated(512, 8))
    surface("rust", textures.rust())
    surface("rope", textures.rope(64))
    surface("concrete", textures.concrete())
    surface("cloth", textures.cloth())
    surface("hull", textures.hull(), (CLAMP, CLAMP))
    surface("painted boards", textures.boards_painted(), (REPEAT, MIRROR))
    b.texture("hull shade", textures.hull_occlusion(), (CLAMP, CLAMP))
    b.texture(
        "sign tickets",
        textures.sign(512, ["TICKETS"], (28, 62, 96), (238, 232, 214), "plate"),
        (CLAMP, CLAMP),
    )
    b.texture(
        "sign way",
        textures.sign(512, ["SUMMIT", "2 714 m"], (226, 214, 188), (120, 34, 30), "arrow"),
        (CLAMP, CLAMP),
    )
    b.texture(
        "sign closed",
        textures.sign(512, ["NO", "ENTRY"], (146, 38, 34), (238, 232, 214), "round"),
        (CLAMP, CLAMP),
    )
    b.texture("glass", textures.glass(), (CLAMP, CLAMP))
    b.texture("clock", textures.clock(256), (CLAMP, CLAMP))
    b.texture("lamp glow", textures.lamp_glow(), (CLAMP, CLAMP))
    b.texture("timetable", None, (CLAMP, CLAMP))


def add_materials(b):
    add = b.material
    add("Platform planks", "planks", orm="planks orm", normal="planks normal")
    add("Corrugated roof", "corrugated", orm="corrugated orm", normal="corrugated normal")
    add("Rusting steel", "rust", orm="rust orm", normal="rust normal")
    add("Haul rope", "rope", orm="rope orm", normal="rope normal")
    add("Handrail rope", "rope", (0.78, 0.62, 0.36), normal="rope normal", roughness=0.9)
    add("Concrete", "concrete", normal="concrete normal", roughness=0.92)
    add(
        "Seat cloth",
        "cloth",
        normal="cloth normal",
        roughness=0.95,
        transform={"scale": [2.0, 2.0], "rotation": 0.12, "offset": [0.25, 0.1]},
    )
    add(
        "Cabin paint",
        "hull",
        normal="hull normal",
        metallic=0.0,
        roughness=0.4,
        occlusionTexture={"index": b.textures["hull shade"], "texCoord": 1, "strength": 0.8},
    )
    add(
        "Green boards",
        "painted boards",
        (0.18, 0.36, 0.24),
        orm="painted boards orm",
        normal="painted boards normal",
    )
    add(
        "Blue boards",
        "painted boards",
        (0.12, 0.26, 0.45),
        orm="painted boards orm",
        normal="painted boards normal",
    )
    add("Limed wall", "painted boards", (0.86, 0.80, 0.68), normal="painted boards normal", roughness=0.9)
    cut = {"alphaMode": "MASK", "alphaCutoff": 0.5, "doubleSided": True}
    for name in ("tickets", "way", "closed"):
        add(f"Enamel {name}", f"sign {name}", metallic=0.0, roughness=0.25, **cut)
    b.json["materials"][b.materials["Enamel way"]]["alphaCutoff"] = 0.4
    add("Cabin glass", "glass", metallic=0.0, roughness=0.08, alphaMode="BLEND", doubleSided=True)
    add(
        "Green shade glass",
        None,
        (0.12, 0.42, 0.28, 0.55),
        metallic=0.0,
        roughness=0.1,
        alphaMode="BLEND",
        doubleSided=True,
    )
    add("Clock face", "clock", roughness=0.3)
    add(
        "Lamp diffuser",
        None,
        (0.9, 0.85, 0.75),
        roughness=0.5,
        emissiveFactor=[1.0, 1.0, 1.0],
        emissiveTexture={"index": b.textures["lamp glow"]},
        extensions={"KHR_materials_emissive_strength": {"emissiveStrength": 4.0}},
    )
    add("Timetable", "timetable", (0.85, 0.82, 0.72), roughness=0.9)
    for name, color in (
        ("Button red", (0.60, 0.05, 0.04)),
        ("Button green", (0.05, 0.38, 0.12)),
        ("Button amber", (0.78, 0.44, 0.04)),
        ("Button white", (0.80, 0.78, 0.72)),
        ("Desk enamel", (0.16, 0.22, 0.23)),
    ):
        add(name, None, color, roughness=0.35)
    add("Black rubber", None, (0.02, 0.02, 0.022), roughness=0.95)
    add("Brass", None, (0.71, 0.52, 0.22), metallic=1.0, roughness=0.28)
    add("Iron black", None, (0.06, 0.065, 0.07), metallic=0.6, roughness=0.55)
    add("Scale figure", None, (0.45, 0.42, 0.38), roughness=1.0)


def dirt(shape, low, high):
    """Return vertex colours that darken towards the bottom, with some variation along it."""
    p = shape["positions"]
    height = np.clip((p[:, 1] - low) / (high - low), 0, 1)
    wave = 0.06 * np.sin(p[:, 0] * 2.1) * np.cos(p[:, 2] * 1.7)
    shade = np.clip(0.45 + 0.55 * height + wave, 0, 1)
    return np.stack([shade, 0.3 * shade**1.15 + 0.7 * shade, shade**1.3], axis=1)


def add_building(b):
    add, s = b.simple, shapes
    add("Foundation", s.box(12.6, 0.5, 7.4, 0.25, at=(0.3, -0.25, 0), faces="xXYzZ"), "Concrete")
    deck = s.join(*[s.box(7.9, 0.08, 1.5, 0.25, at=(0, 0.28, -2.4 + 1.6 * row)) for row in range(3)])
    add("Platform", deck, "Platform planks", (1.6, 0, 1.2))
    step = b.mesh("Step", b.primitive(s.box(1.6, 0.09, 0.32, 0.25), "Platform planks"))
    for number in range(3):
        b.node(f"Step {number + 1}", step, (-2.9 - 0.35 * number, 0.22 - 0.1 * number, 1.2), turn_y=90)
    wall = s.join(
        s.box(5.4, 2.8, 0.2, 0.3, at=(-3.0, 1.4, -3.4)),
        s.box(0.2, 2.8, 3.0, 0.3, at=(-5.6, 1.4, -1.8)),
        s.box(0.2, 2.8, 3.0, 0.3, at=(-0.4, 1.4, -1.8)),
    )
    add("Hut walls", wall, "Limed wall", colors=dirt(wall, 0, 2.2))
    add("Hut door", s.box(0.95, 2.05, 0.07, 0.35), "Green boards", (-0.24, 1.03, -1.3), turn_y=90)
    for name, at, turn in (
        ("Hut shutter left", (-4.2, 1.6, -0.26), 14),
        ("Hut shutter right", (-1.8, 1.6, -0.26), -14),
    ):
        add(name, s.box(0.6, 1.1, 0.05, 0.35), "Blue boards", at, turn_y=turn)
    front = s.join(
        s.box(1.5, 2.8, 0.2, 0.3, at=(-4.9, 1.4, -0.35)),
        s.box(1.5, 2.8, 0.2, 0.3, at=(-1.1, 1.4, -0.35)),
        s.box(2.3, 0.9, 0.2, 0.3, at=(-3.0, 0.45, -0.35)),
    )
    add("Hut front", front, "Limed wall", colors=dirt(front, 0, 2.2))
    roof = s.corrugated(6.4, 4.0, 24, 0.045, 0.3)
    b.node(
        "Hut roof",
        b.mesh("Hut roof", b.primitive(roof, "Corrugated roof")),
        (-3.0, 3.1, -1.9),
        rotation=[float(np.sin(np.radians(4))), 0, 0, float(np.cos(np.radians(4)))],
    )
    big = s.corrugated(8.0, 4.6, 32, 0.05, 0.3)
    b.node(
        "Platform roof",
        b.mesh("Platform roof", b.primitive(big, "Corrugated roof")),
        (2.0, 4.3, 1.0),
        rotation=[-float(np.sin(np.radians(3))), 0, 0, float(np.cos(np.radians(3)))],
    )
    post = b.mesh(
        "Roof post",
        b.primitive(s.box(0.16, 3.95, 0.16, 0.4, at=(0, 1.975, 0), faces="xXzZ"), "Rusting steel"),
    )
    for number, at in enumerate(((-1.9, 0.3, 3.2), (5.6, 0.3, 3.2), (-1.9, 0.3, -1.0), (5.6, 0.3, -1.0))):
        b.node(f"Roof post {number + 1}", post, at)
    bench = s.join(
        s.box(1.7, 0.05, 0.4, 0.35, at=(0, 0.45, 0)),
        s.box(1.7, 0.35, 0.05, 0.35, at=(0, 0.8, -0.2)),
        s.box(0.08, 0.45, 0.36, 0.35, at=(-0.7, 0.22, 0)),
        s.box(0.08, 0.45, 0.36, 0.35, at=(0.7, 0.22, 0)),
    )
    add("Bench", bench, "Green boards", (-3.0, 0.0, 0.15))
    crate = b.mesh("Crate", b.primitive(s.box(0.7, 0.6, 0.6, 0.45, at=(0, 0.3, 0)), "Blue boards"))
    b.node("Crate", crate, (4.7, 0.32, -0.4), turn_y=12)
    b.node("Crate small", crate, (4.75, 0.92, -0.42), turn_y=-20, scale=(0.8, 0.8, 0.8))
    b.node("Crate flat", crate, (3.7, 0.32, -0.6), turn_y=3, scale=(1.0, 0.5, 1.3))


def add_machinery(b):
    add, s = b.simple, shapes
    machinery = b.node("Machinery", at=(2.6, 3.1, 0.9))
    add("Bull wheel", s.wheel(1.5, 0.1, 0.28, 8, 48), "Rusting steel", parent=machinery)
    add("Wheel shaft", s.rod(0.12, 1.1, 16, 1.0, 1), "Iron black", (0, 0.1, 0), parent=machinery)
    add(
        "Gear housing",
        s.join(s.box(0.9, 0.5, 0.9, 0.4, at=(0, 0.85, 0)), s.moved(s.rod(0.26, 0.5, 20, 0.4, 1), (0, 1.0, 0))),
        "Rusting steel",
        parent=machinery,
    )
    arc = np.radians(np.linspace(90, 270, 25))
    loop = [
        (7.5, 0, 1.42),
        (4.0, 0, 1.42),
        *[(1.42 * np.cos(a), 0, 1.42 * np.sin(a)) for a in arc],
        (4.0, 0, -1.42),
        (7.5, 0, -1.42),
    ]
    add("Haul rope", s.tube(loop, 0.028, 8, 5.0), "Haul rope", (2.6, 3.1, 0.9))
    rail = [(x, 1.25, 3.25) for x in np.linspace(-1.9, 5.6, 16)]
    add("Handrail", s.tube(rail, 0.03, 8, 5.0), "Handrail rope")
    baluster = b.mesh("Baluster", b.primitive(s.rod(0.022, 0.95, 8, 1.0, 1), "Iron black"))
    for number in range(4):
        b.node(f"Baluster {number + 1}", baluster, (-1.1 + 2.1 * number, 0.32, 3.25))
    buffer = s.join(*[s.moved(s.rod(0.11, 0.3, 16, 1.0, 1), (x, 0, 0), turn_x=90) for x in (-0.4, 0.4)])
    add("Buffer stops", buffer, "Black rubber", (2.6, 0.75, -1.35))
    barrel = s.lathe([(0, 0), (0.27, 0), (0.3, 0.15), (0.3, 0.75), (0.27, 0.9), (0, 0.9)], 24, 1.0, 2)
    add("Grease barrel", barrel, "Iron black", (-1.3, 0.32, -0.5), uvs=False)


def buttons(row):
    """Return where the buttons of a row of the desk stand, and how they are turned."""
    return [
        (
            ((-0.5 + 0.14 * column + 0.05 * row, 0.835 - 0.036 * (row - 1.5) * 1.2, -0.12 + 0.11 * row),),
            {"turn_x": 18},
        )
        for column in range(6 if row else 2)
    ]


def add_desk(b):
    s = shapes
    body = s.join(
        s.box(1.3, 0.75, 0.5, 1.0, at=(0, 0.375, 0)),
        s.moved(s.box(1.3, 0.06, 0.6, 1.0), (0, 0.8, 0.02), turn_x=18),
    )
    parts = [b.primitive(body, "Desk enamel")]
    button = s.lathe([(0.035, 0), (0.035, 0.025), (0.028, 0.035), (0, 0.035)], 14, 1.0, 1)
    for row, name in enumerate(("Button red", "Button green", "Button amber", "Button white")):
        parts.append(b.primitive(s.join(*[s.moved(button, *place, **turn) for place, turn in buttons(row)]), name))
    b.node("Control desk", b.mesh("Control desk", *parts), (-3.0, 0, -2.4))
    bell = s.lathe([(0.12, 0), (0.11, 0.03), (0.07, 0.1), (0.02, 0.13), (0, 0.13)], 24, 1.0, 1)
    b.simple("Bell", bell, "Brass", (-2.1, 0.78, -2.4))


def add_cabin(b):
    s = shapes
    cabin = b.node("Cabin", at=(2.6, 0.85, -2.95))
    # the long sides share the texture's upper half, the rest its lower half; frames leave the window openings free
    width, height, depth = 3.2, 2.1, 1.7
    shells, shade = [], []

    def panel(x0, x1, y0, y1, side):
        sign = 1 if side == "Z" else -1
        points = np.array([[(x0, y1, 0), (x1, y1, 0)], [(x0, y0, 0), (x1, y0, 0)]], float)
        u = np.array([(x0 / width + 0.5, x1 / width + 0.5)] * 2)
        v = np.array([((1 - y1 / height) / 2,) * 2, ((1 - y0 / height) / 2,) * 2])
        part = s.grid(points, np.stack([u, v], -1), np.broadcast_to((0, 0, 1.0), (2, 2, 3)))
        second = np.stack([u, v * 2], -1).reshape(-1, 2)
        turn = 0 if sign > 0 else 180
        shells.append(s.moved(part, (0, 0, sign * depth / 2), turn_y=turn))
        shade.append(second)

    openings = ((-1.35, -0.55), (-0.4, 0.4), (0.55, 1.35))
    for side in "Zz":
        panel(-1.6, 1.6, 0.0, 0.95, side)
        panel(-1.6, 1.6, 1.75, 2.1, side)
        for x0, x1 in ((-1.6, -1.35), (-0.55, -0.4), (0.4, 0.55), (1.35, 1.6)):
            panel(x0, x1, 0.95, 1.75, side)
    ends = s.box(
        width,
        height,
        depth,
        at=(0, height / 2, 0),
        faces="xXyY",
        atlas={
            "x": (0.0, 0.5, 0.27, 1.0),
            "X": (0.27, 0.5, 0.54, 1.0),
            "Y": (0.55, 0.51, 1.0, 0.74),
            "y": (0.55, 0.76, 1.0, 0.99),
        },
    )
    shells.append(ends)
    shade.append(np.tile([(0, 0), (1, 0), (0, 1), (1, 1)], (4, 1)).astype(float))
    hull = s.join(*shells)
    b.simple("Hull", hull, "Cabin paint", uv1=np.concatenate(shade), parent=cabin)
    panes = []
    for x0, x1 in openings:
        pane = s.box(x1 - x0, 0.8, 0.02, 1.0, faces="zZ", atlas={"z": (0, 0, 1, 1), "Z": (0, 0, 1, 1)})
        panes += [s.moved(pane, ((x0 + x1) / 2, 1.35, z)) for z in (depth / 2 - 0.02, -depth / 2 + 0.02)]
    b.simple("Windows", s.join(*panes), "Cabin glass", parent=cabin)
    door = s.box(0.82, 1.8, 0.05, 1.0, atlas=dict.fromkeys("xXyYzZ", (0.05, 0.55, 0.24, 0.97)))
    b.simple(
        "Door",
        door,
        "Cabin paint",
        (-1.63, 0.95, 0),
        turn_y=90,
        parent=cabin,
        uv1=np.tile([(0, 0), (1, 0), (0, 1), (1, 1)], (6, 1)).astype(float),
    )
    seat = b.mesh(
        "Seat",
        b.primitive(
            s.join(s.box(0.5, 0.1, 0.45, 0.6, at=(0, 0.42, 0)), s.box(0.5, 0.5, 0.09, 0.6, at=(0, 0.72, -0.2))),
            "Seat cloth",
        ),
        b.primitive(s.box(0.06, 0.38, 0.35, 1.0, at=(0, 0.19, 0)), "Iron black"),
    )
    for number in range(6):
        row, column = divmod(number, 3)
        b.node(
            f"Seat {number + 1}",
            seat,
            (-0.95 + 0.95 * column, 0.03, -0.5 + row),
            turn_y=180 * row,
            parent=cabin,
        )
    arm = s.join(
        s.tube(
            [(0, 2.1, 0), (0, 2.35, 0), (0, 2.5, 0.3), (0, 2.5, 1.9), (0, 2.35, 2.3), (0, 2.2, 2.42)],
            0.06,
            12,
            0.4,
            0.15,
        ),
        s.box(0.5, 0.1, 0.4, 0.4, at=(0, 2.12, 0)),
    )
    b.simple("Hanger", arm, "Rusting steel", parent=cabin)
    b.simple("Cabin buffer", s.box(3.3, 0.12, 1.8, 1.0, at=(0, -0.02, 0)), "Black rubber", parent=cabin)
    grip = s.join(s.box(0.3, 0.16, 0.16, 1.0), s.moved(s.rod(0.05, 0.4, 12, 1.0, 1), (-0.2, 0, 0.06), turn_z=-90))
    b.simple("Rope grip", grip, "Brass", (0, 2.28, 2.42), parent=cabin)


def add_furniture(b):
    s = shapes
    plate = s.box(0.8, 0.8, 0.004, faces="Z", atlas={"Z": (0, 0, 1, 1)})
    b.simple("Sign tickets", plate, "Enamel tickets", (-3.0, 2.35, -0.2), scale=(1.0, 0.6, 1.0))
    b.simple("Sign summit", plate, "Enamel way", (5.6, 2.6, 3.3), scale=(1.3, 1.3, 1.0))
    b.simple("Sign no entry", plate, "Enamel closed", (5.9, 1.4, 0.6), turn_y=90)
    board = s.box(0.9, 1.2, 0.03, 1.0, atlas=dict.fromkeys("xXyYzZ", (0, 0, 1, 1)))
    b.simple("Timetable", board, "Timetable", (-4.9, 1.6, -0.22))
    clock = s.lathe([(0, 0.1), (0.36, 0.1)][::-1], 40, 1.0, 1)
    p = clock["positions"]
    clock["uvs"] = np.stack([p[:, 0] / 0.74 + 0.5, p[:, 2] / 0.74 + 0.5], -1)
    case = s.lathe([(0, -0.1), (0.4, -0.1), (0.4, 0.12), (0.36, 0.12), (0.36, 0.1)], 40, 1.0, 1)
    turn = {"turn_x": 90}
    b.node(
        "Clock",
        b.mesh(
            "Clock",
            b.primitive(s.moved(clock, **turn), "Clock face"),
            b.primitive(s.moved(case, **turn), "Iron black"),
        ),
        (-1.1, 2.35, -0.14),
    )
    lamp = b.mesh("Lamp post", *lamp_post(b))
    b.node("Lamp post", lamp, (-5.4, 0, 3.4))
    b.node("Lamp post mirrored", lamp, (6.4, 0, 3.4), scale=(-1.0, 1.0, 1.0))
    b.simple("Person for scale", s.box(0.5, 1.8, 0.3, 1.0, at=(0, 0.9, 0)), "Scale figure", (0.2, 0.32, 1.9))


def lamp_post(b, detail=False):
    """Return the primitives of a lamp post; ``detail`` has rings, bolts, ribs and round glass."""
    s = shapes
    round_, smooth = (40, 50.0) if detail else (14, 0.0)
    foot = [(0.14, 0), (0.14, 0.12), (0.06, 0.2), (0.05, 2.9), (0, 2.95)]
    arm = [(0, 2.7, 0), (0.1, 3.0, 0), (0.4, 3.15, 0), (0.75, 3.05, 0)]
    more = []
    if detail:
        rings = [(y + a, 0.007 * np.sin(np.pi * a / 0.05)) for y in (0.5, 0.9, 2.4) for a in np.linspace(0, 0.05, 7)]
        slope = [(0.06 - 0.01 * (y - 0.2) / 2.7 + bulge, y) for y, bulge in rings]
        foot = [(0.14, 0), (0.14, 0.11), (0.135, 0.12), (0.1, 0.14), (0.07, 0.17), (0.06, 0.2), *slope, *foot[3:]]
        steps = np.linspace(0, 3, 25)
        arm = [tuple(np.array([np.interp(t, range(4), [p[k] for p in arm]) for k in range(3)])) for t in steps]
        bolt = s.dome(0.014, 0.012, 12, 4)
        angles = np.radians(np.arange(0, 360, 45))
        more = [s.moved(bolt, (0.112 * np.cos(a), 0.128, 0.112 * np.sin(a))) for a in angles]
    pole = s.join(s.lathe(foot, round_, 1.0, 1, smooth), s.tube(arm, 0.03, round_ if detail else 8, 1.0, 1), *more)
    shade = [(0.24, 0.0), (0.06, 0.14), (0.02, 0.2)]
    glass = [(0, -0.16), (0.09, -0.14), (0.11, -0.02), (0.05, 0.04)]
    if detail:
        bulge = np.linspace(0, 1, 9)
        shade = [
            (0.243, 0.0),
            (0.24, 0.008),
            *[(0.24 - 0.18 * t, 0.008 + 0.132 * t**0.9) for t in bulge[1:]],
            (0.02, 0.2),
        ]
        turn = np.radians(np.linspace(-90, 40, 15))
        glass = [(0.105 * np.cos(a), -0.05 + 0.11 * np.sin(a)) for a in turn]
        glass[0] = (0, glass[0][1])
    cap = s.moved(s.lathe(shade, 48 if detail else 24, 1.0, 1, smooth), (0.75, 2.85, 0))
    bulb = s.moved(s.lathe(glass, 40 if detail else 20, 1.0, 1, smooth), (0.75, 2.9, 0))
    bulb["uvs"][:, 1] = (bulb["uvs"][:, 1] - bulb["uvs"][:, 1].min()) / np.ptp(bulb["uvs"][:, 1])
    return [
        b.primitive(pole, "Iron black"),
        b.primitive(cap, "Green shade glass"),
        b.primitive(bulb, "Lamp diffuser"),
    ]


def add_lights(b):
    lights = b.json["extensions"]["KHR_lights_punctual"]["lights"]
    lights.append({"type": "directional", "name": "Sun", "color": [1.0, 0.95, 0.86], "intensity": 60000.0})
    lights.append({"type": "point", "name": "Lamp", "color": [1.0, 0.82, 0.55], "intensity": 400.0})
    b.node("Sun", rotation=[-0.38, 0.28, 0.12, 0.87], extensions={"KHR_lights_punctual": {"light": 0}})
    for name, x in (("Lamp light", -4.65), ("Lamp light mirrored", 5.65)):
        b.node(name, at=(x, 2.8, 3.4), extensions={"KHR_lights_punctual": {"light": 1}})


def add_detailed(b):
    """Add what the station's plain parts are read from: more of it than an engine would draw."""
    s = shapes
    machinery = b.node("Machinery high", at=(2.6, 3.1, 0.9))
    b.simple("Bull wheel high", s.wheel(1.5, 0.1, 0.28, 8, 96, True), "Rusting steel", parent=machinery)
    door = b.node("Hut door high", at=(-0.24, 1.03, -1.3), turn_y=90)
    wide = 0.95 / 6
    planks = [
        s.rounded_box(wide - 0.004, 2.05, 0.05, 0.012, 3, 0.35, at=(wide * (number - 2.5), 0, -0.004 * (number % 2)))
        for number in range(6)
    ]
    ledges = [s.rounded_box(0.9, 0.14, 0.066, 0.01, 3, 0.35, at=(0, y, 0)) for y in (-0.75, 0.75)]
    b.simple("Planks", s.join(*planks, *ledges), "Green boards", parent=door)
    nail = s.dome(0.013, 0.007, 12, 4)
    nails = [
        s.moved(nail, (wide * (column - 2.5) + side, y + row, 0.033 * way), turn_x=90 * way)
        for way in (-1, 1)
        for column in range(6)
        for side in (-0.04, 0.04)
        for y in (-0.75, 0.75)
        for row in (-0.035, 0.035)
    ]
    b.simple("Nails", s.join(*nails), "Iron black", parent=door)
    lamp = b.mesh("Lamp post high", *lamp_post(b, detail=True))
    b.node("Lamp post high", lamp, (-5.4, 0, 3.4))
    b.node("Lamp post mirrored high", lamp, (6.4, 0, 3.4), scale=(-1.0, 1.0, 1.0))


def make_detailed():
    """Return the GLB of the detailed parts, with no texture that none of them reads."""
    b = Builder()
    add_textures(b)
    add_materials(b)
    add_detailed(b)
    return b.pruned().glb()


def make():
    """Return the station's GLB."""
    b = Builder()
    add_textures(b)
    add_materials(b)
    for part in (add_building, add_machinery, add_desk, add_cabin, add_furniture, add_lights):
        part(b)
    for node in b.json["nodes"]:
        if "rotation" in node:
            q = np.array(node["rotation"], float)
            node["rotation"] = (q / np.linalg.norm(q)).tolist()
    return b.glb()


def boards_sheet(size=512):
    """Return a sheet of wood that is given, colour and surface, and its trims: boards, a batten, and two panels."""
    color, _, surface = textures.planks(size, 8)
    # boards run across, their grain along u
    color, surface = color.swapaxes(0, 1).copy(), surface.swapaxes(0, 1).copy()
    step, trims = size // 8, []
    for number, name in enumerate(("board", "weathered board", "plank", "rail")):
        box = [0, number * step, size, (number + 1) * step]
        trims.append({"name": name, "box": box, "repeats": "u", "gutter": 4})
    half = size // 2
    for number, name in enumerate(("lid", "side")):
        box = [number * half, half, (number + 1) * half, size]
        trims.append({"name": name, "box": box, "repeats": "none", "gutter": 4})
    return color, surface, trims


def growth(size=256):
    """Return moss and dirt, colours with their opacity."""
    tuft, cloud = textures.noise(size, size, 24, 24, 81, 3), textures.noise(size, size, 6, 6, 82, 4)
    moss = textures.mix((0.16, 0.22, 0.08), (0.42, 0.50, 0.20), 0.6 * tuft + 0.4 * cloud)
    dirt = textures.mix((0.20, 0.16, 0.12), (0.36, 0.30, 0.23), cloud)
    return (
        np.dstack([moss, textures.ramp(cloud, 0.35, 0.55)]),
        np.dstack([dirt, textures.ramp(tuft, 0.2, 0.6)]),
    )


def write_sheets(folder):
    """Write the given sheet of wood and the layers with their descriptions."""
    color, surface, trims = boards_sheet()
    moss, dirt = growth()
    for name, pixels in (("wood", color), ("wood_orm", surface), ("moss", moss), ("dirt", dirt)):
        Image.fromarray(np.round(np.clip(pixels, 0, 1) * 255).astype(np.uint8)).save(folder / f"{name}.png")
    maps = {"base_color": "wood.png", "orm": "wood_orm.png"}
    sheet = {"version": 1, "maps": maps, "metres": 1.5, "trims": trims}
    (folder / "wood.json").write_text(json.dumps(sheet, indent=1))
    concrete = ["Step 1", "Step 2", "Step 3"]
    layers = [
        {
            "name": "dirt",
            "objects": concrete,
            "base_color": "dirt.png",
            "metres": 0.8,
            "mask": {"kind": "height", "axis": "y", "from": 0.16, "to": 0.02},
            "seed": 1,
        },
        {
            "name": "moss",
            "objects": concrete,
            "base_color": "moss.png",
            "metres": 0.6,
            "mask": {"kind": "facing", "axis": "y", "from": 0.2, "to": 0.8},
            "amount": 0.8,
            "seed": 2,
        },
    ]
    (folder / "layers.json").write_text(json.dumps({"version": 1, "layers": layers}, indent=1))


if __name__ == "__main__":
    target = Path(__file__).resolve().parents[1] / "src" / "fasciculum" / "station" / "station.glb"
    write_sheets(target.parent)
    target.write_bytes(make())
    detailed = target.with_name("station_high.glb")
    detailed.write_bytes(make_detailed())
    for file in (target, detailed):
        print(f"{file}: {file.stat().st_size} bytes")
