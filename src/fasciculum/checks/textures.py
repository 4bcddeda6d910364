"""What looks wrong about each image: the table of textures and the findings tell the same."""

from __future__ import annotations

from dataclasses import dataclass, field

from fasciculum.checks.check import Check, Scope
from fasciculum.model.finding import INFO, WARNING, Finding
from fasciculum.model.scene import Image, Scene

#: an image of this many pixels along an edge, beside one that is 16 times larger, is a stand-in
TINY, TIMES = 8, 16
COLOR_ROLES = ("base_color", "emissive")
#: what a flat normal's colour becomes when it is encoded as sRGB once too often, and how far about it averages lie
FLAT_AS_SRGB, ABOUT = 0.735, 0.07


@dataclass
class CheckedTexture:
    """An image with who reads it and what looks wrong about it, the worst first."""

    image: int
    roles: set[str] = field(default_factory=set)
    materials: list[int] = field(default_factory=list)
    objects: list[str] = field(default_factory=list)
    faults: list[tuple[str, str]] = field(default_factory=list)

    @property
    def space(self) -> str:
        """How it is read: srgb, linear, both or not at all."""
        spaces = {"srgb" if role in COLOR_ROLES else "linear" for role in self.roles}
        return "+".join(sorted(spaces)) or "unused"

    @property
    def rank(self) -> int:
        """The place of its worst fault, for sorting; those without come last."""
        return min((FAULTS.index(code) for code, _ in self.faults), default=len(FAULTS))


#: from the worst on
FAULTS = ("missing", "tiny", "srgb_in_linear", "odd_normal", "both_spaces", "not_power_of_two", "unused")


def textures_of(scene: Scene) -> list[CheckedTexture]:
    """Return every image of a scene with its users and its faults, in the scene's order."""
    results = [CheckedTexture(index) for index in range(len(scene.images))]
    drawn: dict[int, list[str]] = {}
    for item in scene.objects:
        for index in scene.materials_of(item):
            drawn.setdefault(index, []).append(item.key)
    largest = [0] * len(scene.images)
    for number, material in enumerate(scene.materials):
        slots = material.slots()
        edge = max((_edge(scene.images[slot.image]) for slot in slots.values()), default=0)
        for role, slot in slots.items():
            entry = results[slot.image]
            entry.roles.add(role)
            if number not in entry.materials:
                entry.materials.append(number)
                entry.objects += [key for key in drawn.get(number, []) if key not in entry.objects]
            largest[slot.image] = max(largest[slot.image], edge)
    for entry in results:
        entry.faults = _faults(scene.images[entry.image], entry, largest[entry.image])
    return results


def _edge(image: Image) -> int:
    return max(image.width, image.height)


def _faults(image: Image, entry: CheckedTexture, largest: int) -> list[tuple[str, str]]:
    if image.missing:
        return [("missing", f"missing: {image.problem}" if image.problem else "missing")]
    faults = []
    size = f"{image.width} x {image.height}"
    if _edge(image) <= TINY and largest >= TIMES * _edge(image):
        faults.append(("tiny", f"only {size} where its material's others have {largest}"))
    if "normal" in entry.roles and len(image.mean) >= 3 and _edge(image) > 1:
        red, green, blue = image.mean[:3]
        if abs(red - FLAT_AS_SRGB) < ABOUT and abs(green - FLAT_AS_SRGB) < ABOUT and blue > 0.9:
            faults.append(("srgb_in_linear", "normals that look as if they were stored as sRGB"))
        elif abs(red - 0.5) > 0.2 or abs(green - 0.5) > 0.2 or blue < 0.5:
            faults.append(("odd_normal", "read as normals, but does not look like them"))
    if entry.space == "linear+srgb":
        faults.append(("both_spaces", "read as colour and as data"))
    if image.width & (image.width - 1) or image.height & (image.height - 1):
        faults.append(("not_power_of_two", f"{size} is not a power of two"))
    if not entry.objects:
        faults.append(("unused", "no object reads it"))
    return faults


def odd_textures(scene: Scene) -> list[Finding]:
    """Tell of images that look wrong; missing ones are told where they were looked for, and with their objects."""
    findings = []
    for entry in textures_of(scene):
        name = scene.images[entry.image].name
        for code, words in entry.faults:
            if code == "missing":
                continue
            loud = code in ("tiny", "srgb_in_linear", "odd_normal", "both_spaces")
            findings.append(
                Finding(
                    f"texture_{code}",
                    WARNING if loud else INFO,
                    f"The texture {name}: {words}.",
                    "Check that it is the right file and used in the right slot." if loud else "",
                    object=entry.objects[0] if entry.objects else "",
                    image=name,
                )
            )
    return findings


CHECKS = (
    Check(
        "odd_textures",
        Scope.SCENE,
        tuple(f"texture_{code}" for code in FAULTS if code != "missing"),
        lambda facts: odd_textures(facts.scene),
        rank=20,
    ),
)
