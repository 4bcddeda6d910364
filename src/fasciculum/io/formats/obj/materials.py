"""MTL files: the colours, roughness and textures that can be told as metallic-roughness."""

from __future__ import annotations

import math
import shlex
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from fasciculum.errors import InputError
from fasciculum.io.derived_images import DerivedImages
from fasciculum.io.image_store import Wanted, read_images
from fasciculum.io.pixels import PixelStore
from fasciculum.io.places import Places, read_file
from fasciculum.model.choices import AlphaMode
from fasciculum.model.finding import INFO, LOCATE, WARNING, Finding
from fasciculum.model.scene import BLEND, CLAMP, MASK, OPAQUE, Image, Material, TextureSlot
from fasciculum.progress import Progress
from fasciculum.units import srgb_to_linear

MOST_BYTES = 64 << 20
#: options of a texture statement, and how many words may follow each
OPTIONS = {
    "-o": 3, "-s": 3, "-t": 3, "-mm": 2, "-bm": 1, "-clamp": 1, "-blendu": 1, "-blendv": 1, "-cc": 1, "-boost": 1,
    "-texres": 1, "-imfchan": 1, "-type": 1, "-colorspace": 1,
}  # fmt: skip
MAPS = {
    "map_kd": "color", "map_ke": "glow", "map_d": "opacity", "map_pr": "roughness", "map_pm": "metallic",
    "norm": "normal", "map_bump": "bump", "bump": "bump", "map_kn": "normal",
}  # fmt: skip
#: channels that a statement may pick of a texture
CHANNELS = {"r": 0, "g": 1, "b": 2}
#: known, and not part of the look that a sheet carries
LEFT_OUT = {"map_ks", "map_ns", "map_ka", "disp", "map_disp", "decal", "refl", "map_refl", "map_ps"}


@dataclass
class Entry:
    """One material of an MTL file, as it was written."""

    name: str
    values: dict[str, tuple[float, ...]] = field(default_factory=dict)
    maps: dict[str, tuple[str, dict[str, tuple[str, ...]], Places]] = field(default_factory=dict)


def read_library(text: str, places: Places, findings: list[Finding]) -> dict[str, Entry]:
    """Return the materials of an MTL file by name; what cannot be understood is told."""
    results: dict[str, Entry] = {}
    entry: Entry | None = None
    left_out: set[str] = set()
    for number, line in enumerate(text.replace("\\\n", " ").splitlines()):
        word, _, rest = line.strip().replace("\t", " ").partition(" ")
        word, rest = word.lower(), rest.strip()
        if word == "newmtl":
            entry = results.setdefault(_unquoted(rest) or f"material {number}", Entry(_unquoted(rest)))
        elif entry is None or not word or word.startswith("#"):
            continue
        elif word in MAPS:
            name, options = texture_words(rest)
            if name:
                entry.maps[MAPS[word]] = (name, options, places)
        elif word in LEFT_OUT:
            left_out.add(word)
        elif word in ("kd", "ke", "ks", "ka", "d", "tr", "ns", "pr", "pm", "illum", "ni"):
            values = _floats(rest.split())
            if values is None:
                findings.append(
                    Finding(
                        "broken_library",
                        WARNING,
                        f"{places.model.name}, line {number + 1}: {word} has no usable numbers.",
                        "It was left out. Export the library again.",
                        material=entry.name,
                    )
                )
            else:
                entry.values[word] = values
    if left_out:
        findings.append(
            Finding(
                "library_map",
                INFO,
                f"{places.model.name} has {', '.join(sorted(left_out))}, which a metallic-roughness "
                "material cannot express.",
            )
        )
    return results


def _unquoted(text: str) -> str:
    return text[1:-1] if len(text) > 1 and text[0] == text[-1] == '"' else text


def _floats(words: list[str]) -> tuple[float, ...] | None:
    try:
        values = tuple(float(word) for word in words[:3])
    except ValueError:
        return None
    return values if values and all(math.isfinite(value) and abs(value) < 1e6 for value in values) else None


def texture_words(rest: str) -> tuple[str, dict[str, tuple[str, ...]]]:
    """Return a texture statement's file name, which may be quoted or hold spaces, and its options."""
    options: dict[str, tuple[str, ...]] = {}
    while rest.startswith("-"):
        option, _, after = rest.partition(" ")
        if option.lower() not in OPTIONS:
            break
        taken: list[str] = []
        rest = after.strip()
        for _ in range(OPTIONS[option.lower()]):
            word, _, after = rest.partition(" ")
            # offsets and scales may have one, two or three numbers
            if taken and OPTIONS[option.lower()] > 1 and _floats([word]) is None:
                break
            taken.append(word)
            rest = after.strip()
        options[option.lower()] = tuple(taken)
    if rest.startswith('"'):
        try:
            rest = shlex.split(rest, posix=False)[0].strip('"')
        except ValueError:
            rest = rest.strip('"')
    return rest.strip(), options


class Palette:
    """The materials that an OBJ file names, made when they are first used."""

    def __init__(self, places: Places, store: PixelStore, findings: list[Finding]) -> None:
        self.places = places
        self.store = store
        self.findings = findings
        self.entries: dict[str, Entry] = {}
        self.libraries: list[Path] = []
        self.images: list[Image] = []
        self._derived = DerivedImages(self.images, store)

    def open(self, names: list[str]) -> None:
        """Read the libraries of those names; one that cannot be read is a finding."""
        for name in dict.fromkeys(names):
            try:
                path = self.places.find(name, f"mtllib {name[:80]}")
                data = read_file(path, most=MOST_BYTES)
            except InputError as error:
                self.findings.append(
                    Finding(
                        "missing_library",
                        WARNING,
                        f"The material library {name[:120]} cannot be used: {error.message}",
                        "Put it beside the model, or locate it; until then its materials are grey.",
                        image=name,
                        act=LOCATE,
                    )
                )
                continue
            self.libraries.append(path)
            inside = Places(path, self.places.lookup)
            for key, entry in read_library(_decoded(data), inside, self.findings).items():
                self.entries.setdefault(key, entry)

    def materials(self, names: list[str], progress: Progress) -> tuple[Material, ...]:
        """Return the materials of those names; one that no library has is plain grey, and a finding."""
        entries = [self.entries.get(name, Entry(name)) for name in names]
        wanted: dict[str, Wanted] = {}
        for entry in entries:
            for name, _, places in entry.maps.values():
                if name not in wanted:
                    item = f"material {entry.name[:80]}"
                    wanted[name] = Wanted(_base(name), item, name, _bytes_of(places, name, item))
        images, problems = read_images(list(wanted.values()), self.places, self.store, progress)
        self.findings += problems
        self.images += images
        number = {name: index for index, name in enumerate(wanted)}
        for name in names:
            if name not in self.entries and name:
                self.findings.append(
                    Finding(
                        "missing_material",
                        WARNING,
                        f"No library defines the material {name[:120]}; it is plain grey.",
                        "Put its .mtl beside the model, or locate it.",
                        material=name,
                    )
                )
        return tuple(self._material(entry, number) for entry in entries)

    def _material(self, entry: Entry, number: dict[str, int]) -> Material:
        values = entry.values
        kd = values.get("kd", (0.8, 0.8, 0.8))
        kd = kd if len(kd) == 3 else (kd[0],) * 3
        glow = values.get("ke", (0.0, 0.0, 0.0))
        glow = glow if len(glow) == 3 else (glow[0],) * 3
        opacity = values["d"][0] if "d" in values else 1 - values["tr"][0] if "tr" in values else 1.0
        opacity = min(max(opacity, 0.0), 1.0)
        shine = max(values.get("ns", (0.0,))[0], 0.0)
        rough = values["pr"][0] if "pr" in values else math.sqrt(2 / (shine + 2))
        slots = {role: self._slot(*part[:2], number) for role, part in entry.maps.items()}
        color: TextureSlot | None = slots.get("color")
        mode = OPAQUE if opacity >= 1 else BLEND
        if slots.get("opacity") is not None:
            color, mode = self._with_opacity(color, slots["opacity"])
        normal = slots.get("normal")
        if normal is None and (bump := slots.get("bump")) is not None:
            normal = self._bump(entry, bump)
        factor = tuple(float(value) for value in srgb_to_linear(np.clip(np.array(kd), 0, 1)))
        if color is not None and self._there(color):
            # a texture stands for the colour, which writers often leave at 0.8 or black beside it
            factor = (1.0, 1.0, 1.0)
        if slots.get("glow") is not None and not any(glow):
            glow = (1.0, 1.0, 1.0)
        brightest = max(1.0, *glow)
        metal = values.get("pm", (0.0,))[0]
        rough_slot, metal_slot = slots.get("roughness"), slots.get("metallic")
        picked = {
            role: CHANNELS.get(part[1].get("-imfchan", ("r",))[0].lower(), 0) for role, part in entry.maps.items()
        }
        orm = self._orm(rough_slot, metal_slot, picked)
        return Material(
            name=entry.name or "default",
            base_color_factor=(factor[0], factor[1], factor[2], opacity),
            base_color=color,
            metallic_factor=1.0 if metal_slot and self._there(metal_slot) else min(max(metal, 0.0), 1.0),
            roughness_factor=1.0 if rough_slot and self._there(rough_slot) else min(max(rough, 0.0), 1.0),
            metallic_roughness=orm,
            normal=normal,
            emissive_factor=(glow[0] / brightest, glow[1] / brightest, glow[2] / brightest),
            emissive_strength=brightest,
            emissive=slots.get("glow"),
            alpha_mode=mode,
        )

    def _there(self, slot: TextureSlot) -> bool:
        return not self.images[slot.image].missing

    @staticmethod
    def _slot(name: str, options: dict[str, tuple[str, ...]], number: dict[str, int]) -> TextureSlot:
        """Return how a texture is read; the file's v points up, and its transform with it."""
        offset = [float(word) for word in options.get("-o", ()) if _floats([word]) is not None]
        scale = [float(word) for word in options.get("-s", ()) if _floats([word]) is not None]
        moved_u, moved_v = ([*offset, 0.0, 0.0])[:2]
        scale_u = scale[0] if scale else 1.0
        scale_v = scale[1] if len(scale) > 1 else 1.0
        clamp = CLAMP if options.get("-clamp", ("off",))[0].lower() == "on" else 0
        return TextureSlot(
            number[name],
            wrap_u=clamp,
            wrap_v=clamp,
            offset=(moved_u, 1 - scale_v - moved_v),
            scale=(scale_u, scale_v),
        )

    def _with_opacity(self, color: TextureSlot | None, opacity: TextureSlot) -> tuple[TextureSlot | None, AlphaMode]:
        """Return the colour with opacity in its fourth channel, and the alpha mode that its values speak for."""
        if not self._there(opacity):
            return color, OPAQUE
        if color is not None and (not self._there(color) or replace(color, image=0) != replace(opacity, image=0)):
            self.findings.append(
                Finding(
                    "opacity_left_out",
                    WARNING,
                    f"The opacity texture {self.images[opacity.image].name} is placed differently from the "
                    "colour; it is left out.",
                    "Use the same file and placement for both, or store opacity in the colour's alpha channel.",
                )
            )
            return color, OPAQUE
        image = self.images[opacity.image]

        def make() -> NDArray[np.uint8]:
            shown = self._derived.pixels(opacity.image)
            alpha = shown[..., 3] if image.has_alpha else shown[..., :3].max(axis=2)
            rgb = np.full((*alpha.shape, 3), 255, np.uint8)
            if color is not None:
                rgb = self._derived.pixels(color.image, (image.width, image.height))[..., :3]
            return np.dstack([rgb, alpha])

        base = -1 if color is None else color.image
        index = self._derived.derive(("opacity", base, opacity.image), f"{image.name} with colour", make)
        alpha = self.store.get(self.images[index].pixels)[..., 3]
        hard = float(((alpha < 26) | (alpha > 229)).mean()) > 0.9
        return replace(opacity, image=index), MASK if hard else BLEND

    def _orm(self, rough: TextureSlot | None, metal: TextureSlot | None, picked: dict[str, int]) -> TextureSlot | None:
        """Return roughness and metallic as one texture, each from the channel that its statement picks."""
        rough = rough if rough is not None and self._there(rough) else None
        metal = metal if metal is not None and self._there(metal) else None
        lead = rough or metal
        if lead is None:
            return None
        image = self.images[lead.image]
        size = (image.width, image.height)

        def make() -> NDArray[np.uint8]:
            orm = np.full((image.height, image.width, 3), 255, np.uint8)
            for channel, role, slot in ((1, "roughness", rough), (2, "metallic", metal)):
                if slot is not None:
                    orm[..., channel] = self._derived.pixels(slot.image, size)[..., picked.get(role, 0)]
            return orm

        key = ("orm", rough and rough.image, metal and metal.image, picked.get("roughness"), picked.get("metallic"))
        return replace(lead, image=self._derived.derive(key, f"{image.name} as ORM", make))

    def _bump(self, entry: Entry, slot: TextureSlot) -> TextureSlot | None:
        """Take a bump texture for normals if it looks like them; heights are told and left out."""
        if not self._there(slot):
            return slot
        mean = self.images[slot.image].mean
        if len(mean) >= 3 and mean[2] > 0.7 and abs(mean[0] - 0.5) < 0.2 and abs(mean[1] - 0.5) < 0.2:
            return slot
        self.findings.append(
            Finding(
                "bump_left_out",
                WARNING,
                f"{entry.name} has the height texture {self.images[slot.image].name}; height textures are not used.",
                "Convert it to a normal map, and name that with norm.",
                material=entry.name,
            )
        )
        return None


def _bytes_of(places: Places, name: str, item: str) -> Callable[[], bytes]:
    return lambda: places.data(name, item)


def _base(name: str) -> str:
    return name.replace("\\", "/").rsplit("/", 1)[-1][:200]


def _decoded(data: bytes) -> str:
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError:
        return data.decode("latin-1")
