"""The picture as a service: functions for a process of its own, which keeps what it was given.

Software drivers compile and draw for seconds; in a process apart they hold nobody up.
"""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import dataclass, replace

import cv2
import numpy as np
from numpy.typing import NDArray

from fasciculum.model.bundle import Bundle
from fasciculum.model.document import Document
from fasciculum.model.layers import Layer, LayerImage, layers_on
from fasciculum.model.maps import Role
from fasciculum.model.scene import Scene
from fasciculum.progress import SILENT, Progress
from fasciculum.rendering.camera import Camera
from fasciculum.rendering.draws import (
    BRIGHTER,
    CHECKER,
    Draw,
    checker_draws,
    checker_image,
    lit_draws,
    preview_draws,
    result_draws,
    source_draws,
)
from fasciculum.rendering.layer_looks import Ground, LayerLook, ground_of, look_of
from fasciculum.rendering.previews import Shown, layer_preview, mip_chain
from fasciculum.rendering.renderer import Renderer, View

#: edge of the largest preview of a source image and of a baked map
SOURCE_EDGE, MAP_EDGE = 1024, 2048
#: bytes that the previews of one side may take together; where there are many images, each is shown smaller
MOST_PREVIEWS = 256 << 20


def preview_edge(images: int, longest: int) -> int:
    """Return the edge of the largest preview, a power of two, for so many images with their mip levels."""
    edge = longest
    while edge > 64 and images * edge * edge * 4 * 4 / 3 > MOST_PREVIEWS:
        edge //= 2
    return edge


#: the colour of what is chosen
OUTLINE = (216, 180, 90)


@dataclass(frozen=True, eq=False)
class Picture:
    """A drawn view: pixels (H, W, 4), the object seen at each pixel, and whether images are still coming."""

    pixels: NDArray[np.uint8]
    ids: NDArray[np.int32]
    keys: tuple[str, ...]
    incomplete: bool


class _Studio:
    """What this process draws."""

    def __init__(self) -> None:
        self.renderer = Renderer()
        self.scene = Scene()
        self.folder = ""
        self.draws: dict[str, list[Draw]] = {"source": [], "result": []}
        #: objects as they came, and the results that are shown but for previews
        self.plain: list[Draw] = []
        self.shown: list[Draw] = []
        #: the keys of layers' pictures
        self.pictures: set[str] = set()
        self.grounds: dict[str, Ground] = {}
        #: how long the last picture took, in seconds
        self.took = 0.0

    def refresh(self, side: str, draws: list[Draw]) -> None:
        self.draws[side] = draws
        self.renderer.set_side(side, draws)
        wanted = {entry[0] for part in self.draws.values() for draw in part for entry in draw.textures.values()}
        self.renderer.keep_textures(wanted)
        present = {key for draw in draws for key, _, _ in draw.textures.values()}
        edge = preview_edge(len(present), SOURCE_EDGE if side == "source" else MAP_EDGE)
        for draw in draws:
            for role, (key, _, _) in draw.textures.items():
                if not self.renderer.has_texture(key):
                    name, _, stops = key.partition(BRIGHTER)
                    checker = name == CHECKER
                    pixels = checker_image() if checker else np.load(f"{self.folder}/{name}.npy", mmap_mode="r")
                    light = role in (Role.BASE_COLOR, Role.EMISSIVE)
                    shown = Shown(exposure=float(stops or 0.0), light=light)
                    self.renderer.add_texture(key, mip_chain(pixels, edge, shown))


_studios: list[_Studio] = []


def _studio() -> _Studio:
    if not _studios:
        _studios.append(_Studio())
    return _studios[0]


def show_scene(scene: Scene, folder: str, *, high: bool = False, progress: Progress = SILENT) -> NDArray | None:
    """Take a scene and return the corners of its objects' boxes; ``folder`` is the pixel store's.

    With ``high`` its source side shows high-poly objects in the place of those that they are read into.
    """
    studio = _studio()
    studio.scene, studio.folder = scene, folder
    studio.grounds = {}
    studio.renderer.set_stacks({})
    draws = [draw for item in scene.objects for draw in source_draws(scene, item)]
    studio.refresh("source", _with_high(scene, draws) if high else draws)
    studio.refresh("result", draws)
    studio.plain, studio.shown = draws, draws
    progress.update(1.0)
    return studio.renderer.corners()


def _with_high(scene: Scene, draws: list[Draw]) -> list[Draw]:
    """Return draws with high-poly objects in the place of what they are read into, under its name."""
    detail = scene.detail
    if detail is None:
        return draws
    owner = {key: pair.low for pair in detail.pairs for key in pair.high}
    read = set(owner.values())
    results = [draw for draw in draws if draw.key not in read]
    for item in detail.scene.objects:
        results += [replace(draw, key=owner.get(item.key, item.key)) for draw in source_draws(detail.scene, item)]
    return results


def show_layers(layers: tuple[Layer, ...], pictures: dict[LayerImage, str], *, progress: Progress = SILENT) -> None:
    """Lay layers over objects as they came; ``pictures`` are the keys of theirs in the pixel store."""
    studio = _studio()
    stacks: dict[str, tuple[Ground, list[LayerLook]]] = {}
    for item in studio.scene.objects:
        looks = [look_of(layer, item.key, pictures) for layer in layers_on(layers, item.key)]
        shown = [look for look in looks if look is not None]
        if shown:
            if item.key not in studio.grounds:
                studio.grounds[item.key] = ground_of(studio.scene, item)
            stacks[item.key] = studio.grounds[item.key], shown
    wanted = {look.texture for _, shown in stacks.values() for look in shown} - {""}
    if not wanted <= studio.pictures:
        studio.pictures = wanted
        results = {key: np.load(f"{studio.folder}/{key}.npy", mmap_mode="r") for key in sorted(wanted)}
        studio.renderer.set_pictures({key: layer_preview(pixels) for key, pixels in results.items()})
    studio.renderer.set_stacks(stacks)
    progress.update(1.0)


def show_preview(bundle: Bundle | None, *, progress: Progress = SILENT) -> None:
    """Show the object of a bundle as that has it in the place of its result; without one all results again."""
    studio = _studio()
    draws = studio.shown
    if bundle is not None:
        (key,) = bundle.objects
        own = preview_draws(Document(scene=studio.scene, bundles=(bundle,)), bundle, studio.scene.object(key))
        draws = [draw for draw in draws if draw.key != key] + own
    studio.refresh("result", draws)
    progress.update(1.0)


def show_bundles(bundles: tuple[Bundle, ...], *, checker: bool = False, progress: Progress = SILENT) -> None:
    """Take what was made of the scene; with ``checker`` that stands in for the maps."""
    studio = _studio()
    document = Document(scene=studio.scene, bundles=bundles)
    draws = []
    for bundle in bundles:
        for key in bundle.objects:
            item = studio.scene.object(key)
            draws += checker_draws(studio.scene, bundle, item) if checker else result_draws(document, bundle, item)
    baked = {draw.key for draw in draws}
    # what has no result yet is shown as it came, so that the result is never a hole
    draws += [draw for draw in studio.plain if draw.key not in baked]
    studio.shown = draws
    studio.refresh("result", draws)
    progress.update(1.0)


def show_lit(bundles: tuple[Bundle, ...], stops: float, *, progress: Progress = SILENT) -> None:
    """Show objects in their baked light and nothing else; those without any as they came."""
    studio = _studio()
    draws = [
        draw
        for bundle in bundles
        for key in bundle.objects
        for draw in lit_draws(studio.scene, bundle, studio.scene.object(key), stops)
    ]
    baked = {draw.key for draw in draws}
    draws += [draw for draw in studio.plain if draw.key not in baked]
    studio.shown = draws
    studio.refresh("result", draws)
    progress.update(1.0)


def part_key(key: str, number: int) -> str:
    """Return what the colours of one primitive of an object are known by."""
    return f"{key}\n{number}"


def show_lens(colors: dict[str, NDArray[np.float32]], *, progress: Progress = SILENT) -> None:
    """Take the lens's colours, linear: by object, one for all (1, 3) or one for each triangle (T, 3).

    A primitive of an object may have one of its own; see `part_key`.
    """
    studio = _studio()
    for side in ("source", "result"):
        first: dict[str, int] = {}
        drawn: dict[str, int] = {}

        def corner_colors(
            draw: Draw, first: dict[str, int] = first, drawn: dict[str, int] = drawn
        ) -> NDArray[np.float32]:
            count = len(draw.corners) // 3
            number = drawn.get(draw.key, 0)
            drawn[draw.key] = number + 1
            result = colors.get(draw.key, np.full((1, 3), 0.18, np.float32))
            result = colors.get(part_key(draw.key, number), result)
            if len(result) > 1:
                start = first.get(draw.key, 0)
                first[draw.key] = start + count
                part = result[start : start + count]
                # a high-poly object has other triangles than what it is read into
                result = part if len(part) == count else result.mean(axis=0, keepdims=True)
            if len(result) == 1:
                return np.repeat(result, count * 3, axis=0)
            return np.repeat(result, 3, axis=0)

        studio.renderer.set_lens(side, corner_colors)
    progress.update(1.0)


def corners_of_boxes(keys: set[str], *, progress: Progress = SILENT) -> NDArray | None:
    """Return the corners of the boxes around some objects, (N, 3)."""
    progress.update(1.0)
    return _studio().renderer.corners(keys)


def outlined(
    pixels: NDArray[np.uint8], ids: NDArray[np.int32], keys: Sequence[str], chosen: set[str], hovered: str
) -> NDArray[np.uint8]:
    """Return a picture (H, W, 4) with outlines of the chosen objects and of the one pointed at.

    ``ids`` (H, W) is the index into ``keys`` of the object seen at each pixel, -1 for none.
    """
    result = pixels
    for names, wide in (({hovered} - chosen, 1), (chosen, 2)):
        numbers = [number for number, key in enumerate(keys) if key in names]
        if not numbers:
            continue
        mask = np.isin(ids, numbers).astype(np.uint8)
        if not mask.any():
            continue
        result = result.copy() if result is pixels else result
        rim = cv2.dilate(mask, np.ones((3, 3), np.uint8), iterations=wide + 1) - mask
        line = mask - cv2.erode(mask, np.ones((3, 3), np.uint8), iterations=wide, borderValue=0)
        # dark without and straw within, so that it is seen on any ground
        result[rim > 0, :3] = result[rim > 0, :3] // 3
        result[line > 0, :3] = OUTLINE
    return result


def draw(
    camera: Camera,
    width: int,
    height: int,
    views: Sequence[View],
    *,
    lens: bool,
    chosen: set[str],
    hovered: str,
    ground: tuple[float, float, float],
    over: tuple[tuple[Layer, ...], dict[LayerImage, str]] | None = None,
    progress: Progress = SILENT,
) -> Picture:
    """Draw a picture, with other layers ``over`` what came where they are told; see `show_layers`."""
    studio = _studio()
    if over is not None:
        show_layers(*over)
    renderer = studio.renderer
    # as long as a picture takes to draw, images may take to come in
    until = time.monotonic() + studio.took
    if renderer.uploading:
        renderer.upload()
    while renderer.uploading and time.monotonic() < until:
        renderer.upload()
    began = time.monotonic()
    pixels = renderer.render(camera, width, height, views, lens=lens, chosen=chosen, hovered=hovered, ground=ground)
    studio.took = time.monotonic() - began
    pixels = outlined(pixels, renderer.ids, renderer.keys, chosen, hovered)
    progress.update(1.0)
    return Picture(pixels, np.ascontiguousarray(renderer.ids), tuple(renderer.keys), renderer.uploading)
