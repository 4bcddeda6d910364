"""Draws views off-screen through EGL and reads them back."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any

import moderngl
import numpy as np
from numpy.typing import NDArray

from fasciculum.errors import FasciculumError
from fasciculum.rendering.camera import Camera, box_corners
from fasciculum.rendering.draws import ROLES, Draw
from fasciculum.rendering.layer_looks import MOST, Ground, LayerLook
from fasciculum.rendering.shaders import FRAGMENT, VERTEX, layered_fragment

LAYOUT = "3f 3f 4f 4f 2f 2f 2f 2f 2f"
NAMES = (
    "in_position",
    "in_normal",
    "in_tangent",
    "in_color",
    "in_uv0",
    "in_uv1",
    "in_uv2",
    "in_uv3",
    "in_uv4",
)
ALPHA = {"OPAQUE": 0, "MASK": 1, "BLEND": 2}
#: wrap modes as GL numbers them: repeat, mirrored repeat, clamp to edge
WRAPS = {0: 0x2901, 1: 0x8370, 2: 0x812F}
GROUND = (0.118, 0.122, 0.118)
#: bytes given to the graphics library in one go while a view is being filled
UPLOAD = 8 << 20


class NoGraphics(FasciculumError):
    """There is no way to draw in this process."""

    code = "no_graphics"


@dataclass(eq=False)
class _Item:
    """A draw with its buffers."""

    draw: Draw
    corners: Any
    lens: Any
    array: Any
    #: for each program that knows layers, once any lie on it
    layered: dict[frozenset[int], Any] = field(default_factory=dict)


@dataclass(frozen=True, eq=False)
class View:
    """What to show: the items of one side, and how.

    ``until`` and ``since`` bound the side to columns of the picture, as parts of its width.
    """

    side: str
    since: float = 0.0
    until: float = 1.0


class Renderer:
    """An off-screen context with the items of each side (``source``, ``result``) and their textures.

    Raises
    ------
    NoGraphics
        When no context can be made.
    """

    def __init__(self, *, anisotropy: float = 1.0) -> None:
        try:
            self._gl = moderngl.create_context(standalone=True, backend="egl")  # type: ignore[arg-type]
            self._plain = self._program = self._gl.program(VERTEX, FRAGMENT)
        except Exception as error:  # moderngl and the loader below it raise plain exceptions of many kinds
            raise NoGraphics(
                f"the model cannot be drawn here ({error}).", hint="Install libegl1 and libgl1-mesa-dri."
            ) from error
        #: programs that know layers, by the ways in which these are projected, and which is in use
        self._layered: dict[frozenset[int], Any] = {}
        self._ways: frozenset[int] = frozenset()
        self._uniforms: dict[int, dict[str, Any]] = {}
        self._last_looks: list[LayerLook] = []
        self._pictures: dict[str, int] = {}
        self._picture_array: Any = None
        #: by object where it stands and the layers on it, on the side that shows what came
        self.stacks: dict[str, tuple[Ground, list[LayerLook]]] = {}
        self._sides: dict[str, list[_Item]] = {}
        self._textures: dict[str, Any] = {}
        self._uploads: list[tuple[str, list[NDArray[np.uint8]], int, int]] = []
        self._blank = self._gl.texture((1, 1), 4, b"\xff\xff\xff\xff")
        self._samplers = {
            (u, v): self._gl.sampler(
                repeat_x=u != 2,
                repeat_y=v != 2,
                filter=(moderngl.LINEAR_MIPMAP_LINEAR, moderngl.LINEAR),
                anisotropy=anisotropy,
            )
            for u in range(3)
            for v in range(3)
        }
        self._target: Any = None
        self._size = (0, 0)
        self.ids: NDArray[np.int32] = np.zeros((0, 0), np.int32)
        self.keys: list[str] = []

    def set_side(self, side: str, draws: Sequence[Draw]) -> None:
        """Give a side its draws, in place of those that it had."""
        for item in self._sides.pop(side, []):
            for part in (item.array, *item.layered.values(), item.corners, item.lens):
                part.release()
        items = []
        for draw in draws:
            corners = self._gl.buffer(np.ascontiguousarray(draw.corners, np.float32).tobytes())
            lens = self._gl.buffer(reserve=max(len(draw.corners) * 12, 12))
            array = self._gl.vertex_array(
                self._program, [(corners, LAYOUT, *NAMES), (lens, "3f", "in_lens")], skip_errors=True
            )
            items.append(_Item(draw, corners, lens, array))
        self._sides[side] = items
        self.keys = sorted({item.draw.key for items in self._sides.values() for item in items})

    def set_lens(self, side: str, colors: Callable[[Draw], NDArray[np.float32]]) -> None:
        """Colour each corner of a side, shape (corners, 3), linear, for the views that show a lens."""
        for item in self._sides.get(side, []):
            item.lens.write(np.ascontiguousarray(colors(item.draw), np.float32).tobytes())

    def has_texture(self, key: str) -> bool:
        """Whether an image is there or on its way."""
        return key in self._textures or any(upload[0] == key for upload in self._uploads)

    def add_texture(self, key: str, levels: list[NDArray[np.uint8]]) -> None:
        """Queue an image's mip levels, (H, W, 4) each; `upload` brings them in piece by piece."""
        if not self.has_texture(key):
            self._uploads.append((key, levels, len(levels) - 1, 0))

    def keep_textures(self, keys: set[str]) -> None:
        """Let go of textures that are not among the keys."""
        self._uploads = [upload for upload in self._uploads if upload[0] in keys]
        for key in [key for key in self._textures if key not in keys]:
            self._textures.pop(key).release()

    @property
    def uploading(self) -> bool:
        """Whether images are still on their way."""
        return bool(self._uploads)

    def upload(self) -> None:
        """Bring in the next image or a large part of one, the smallest level first."""
        if not self._uploads:
            return
        key, levels, level, row = self._uploads[0]
        texture = self._textures.get(key)
        if texture is None:
            height, width = levels[0].shape[:2]
            texture = self._gl.texture((width, height), 4)
            # makes the levels; what is in them comes below
            if len(levels) > 1:
                texture.build_mipmaps(0, len(levels) - 1)
            self._textures[key] = texture
        left = UPLOAD
        while left > 0 and level >= 0:
            height, width = levels[level].shape[:2]
            rows = min(max(1, left // (width * 4)), height - row)
            texture.write(levels[level][row : row + rows].tobytes(), viewport=(0, row, width, rows), level=level)
            left -= rows * width * 4
            row += rows
            if row >= height:
                level, row = level - 1, 0
        self._uploads[0] = (key, levels, level, row)
        if level < 0:
            self._uploads.pop(0)

    def corners(self, keys: set[str] | None = None) -> NDArray[np.float64] | None:
        """Return the corners of the boxes around the items of those keys, or of all, (N, 3); None without any."""
        boxes = [item.draw.bounds for item in self._sides.get("source", []) if keys is None or item.draw.key in keys]
        return np.concatenate([box_corners(*box) for box in boxes]) if boxes else None

    def _frame(self, width: int, height: int) -> Any:
        if self._size != (width, height) or self._target is None:
            if self._target is not None:
                for part in (*self._target.color_attachments, self._target.depth_attachment, self._target):
                    part.release()
            self._target = self._gl.framebuffer(
                [self._gl.texture((width, height), 4), self._gl.texture((width, height), 1, dtype="i4")],
                self._gl.depth_renderbuffer((width, height)),
            )
            self._size = (width, height)
        return self._target

    def render(
        self,
        camera: Camera,
        width: int,
        height: int,
        views: Sequence[View],
        *,
        lens: bool = False,
        chosen: set[str] | None = None,
        hovered: str = "",
        ground: tuple[float, float, float] = GROUND,
    ) -> NDArray[np.uint8]:
        """Draw a picture.

        Returns
        -------
        ndarray of uint8, shape (height, width, 4)
            `ids` then holds, for each pixel, the index into `keys` of the object seen there, -1 for none.
        """
        frame = self._frame(width, height)
        frame.use()
        frame.scissor = None
        frame.clear(*ground, 1.0)
        frame.color_attachments[1].write(np.full((height, width), -1, np.int32).tobytes())
        right, up = camera.axes()
        light = camera.backward() * 0.75 + up * 0.55 + right * 0.35
        for program in (self._plain, self._layered.get(self._ways)):
            if program is not None:
                self._program = program
                self._uniform("camera").write(camera.matrix(width / height).T.tobytes())
                self._set("eye", tuple(camera.eye()))
                self._set("to_light", tuple(light / np.linalg.norm(light)))
                self._set("lens_on", int(lens))
        number = {key: index for index, key in enumerate(self.keys)}
        for view in views:
            first, last = round(view.since * width), round(view.until * width)
            if last <= first:
                continue
            frame.scissor = (first, 0, last - first, height)
            items = self._sides.get(view.side, [])
            solid = [item for item in items if lens or item.draw.alpha_mode != "BLEND"]
            clear = [item for item in items if not lens and item.draw.alpha_mode == "BLEND"]
            eye = camera.eye()
            clear.sort(key=lambda item: -float(np.linalg.norm((item.draw.bounds[0] + item.draw.bounds[1]) / 2 - eye)))
            for item in (*solid, *clear):
                stack = self.stacks.get(item.draw.key) if view.side == "source" and not lens else None
                self._draw(item, number[item.draw.key], chosen or set(), hovered, stack)
        frame.scissor = None
        picture = np.frombuffer(frame.read(components=4), np.uint8).reshape(height, width, 4)
        ids = np.frombuffer(frame.color_attachments[1].read(), np.int32).reshape(height, width)
        self.ids = ids[::-1]
        return np.ascontiguousarray(picture[::-1])

    def _uniform(self, name: str) -> Any:
        return self._members(self._program)[name]

    def _members(self, program: Any) -> dict[str, Any]:
        """Return a program's uniforms by name; asking the program itself looks through all of them each time."""
        known = self._uniforms.get(id(program))
        if known is None:
            known = self._uniforms[id(program)] = {name: program[name] for name in program}
        return known

    def _set(self, name: str, value: Any) -> None:
        member = self._members(self._program).get(name)
        if member is not None:
            member.value = value

    def set_pictures(self, pictures: dict[str, NDArray[np.uint8]]) -> None:
        """Take the pictures of layers, by their keys: (N, N, 4) of one size, root-encoded (the square is linear)."""
        if self._picture_array is not None:
            self._picture_array.release()
            self._picture_array = None
        self._pictures = {key: number for number, key in enumerate(pictures)}
        if pictures:
            every = np.stack(list(pictures.values()))
            edge = every.shape[1]
            self._picture_array = self._gl.texture_array((edge, edge, len(every)), 4, every.tobytes())
            self._picture_array.build_mipmaps()

    def set_stacks(self, stacks: dict[str, tuple[Ground, list[LayerLook]]]) -> None:
        """Lay layers over objects, by their keys, on the side that shows what came."""
        self.stacks, self._last_looks = stacks, []
        shown = [look for _, looks in stacks.values() for look in looks[:MOST]]
        self._ways = frozenset(look.kind for look in shown if look.texture)
        if stacks and self._ways not in self._layered:
            self._layered[self._ways] = self._gl.program(VERTEX, layered_fragment(self._ways))

    def _lay_over(self, item: _Item, stack: tuple[Ground, list[LayerLook]]) -> None:
        """Give the program the layers on what is drawn next."""
        ground, looks = stack
        if self._ways not in item.layered:
            parts = [(item.corners, LAYOUT, *NAMES), (item.lens, "3f", "in_lens")]
            item.layered[self._ways] = self._gl.vertex_array(self._program, parts, skip_errors=True)
        looks = looks[:MOST]
        self._uniform("to_own").write(np.ascontiguousarray(ground.to_own.T, np.float32).tobytes())
        self._set("box_low", ground.low)
        self._set("box_high", ground.high)
        self._set("hand", ground.hand)
        if self._last_looks == looks:
            return
        self._last_looks = looks
        self._set("layer_count", len(looks))
        filled = [*looks, *[looks[-1]] * (MOST - len(looks))]
        for name in ("kind", "axis", "mask", "mask_axis", "blend"):
            self._set(f"layer_{name}", [getattr(look, name) for look in filled])
        for name in ("color", "place", "scale", "ramp"):
            self._set(f"layer_{name}", [getattr(look, name) for look in filled])
        self._set("layer_used", [self._pictures.get(look.texture, -1) + 1 for look in filled])
        if self._picture_array is not None:
            self._picture_array.use(len(ROLES))
            self._samplers[0, 0].use(len(ROLES))
        self._set("pictures", len(ROLES))

    def _draw(
        self,
        item: _Item,
        number: int,
        chosen: set[str],
        hovered: str,
        stack: tuple[Ground, list[LayerLook]] | None = None,
    ) -> None:
        draw, gl = item.draw, self._gl
        self._program = self._plain if stack is None else self._layered[self._ways]
        if stack is not None:
            self._lay_over(item, stack)
        used = [0] * 5
        # software drivers compile a program anew for each mix of sampler states: free slots follow the others
        wraps = next((entry[1:] for entry in draw.textures.values()), (0, 0))
        for slot, role in enumerate(ROLES):
            entry = draw.textures.get(role)
            texture = self._textures.get(entry[0]) if entry else None
            if entry and texture is not None:
                used[slot] = 1
                texture.use(slot)
                self._samplers[entry[1], entry[2]].use(slot)
            else:
                self._blank.use(slot)
                self._samplers[wraps].use(slot)
            self._set(f"map{slot}", slot)
        self._set("used", used)
        self._set("base_color", draw.base_color)
        self._set("emission", draw.emission)
        self._set("surface", (draw.metallic, draw.roughness, draw.normal_scale, draw.occlusion_strength))
        self._set("alpha_mode", ALPHA[draw.alpha_mode])
        self._set("cutoff", draw.cutoff)
        self._set("unlit", int(draw.unlit))
        # hardly a tint: an outline says what is chosen, and what is shown has to be seen
        self._set("chosen", 0.06 if draw.key in chosen or draw.key == hovered else 0.0)
        self._set("number", number)
        blend = draw.alpha_mode == "BLEND"
        gl.enable(moderngl.DEPTH_TEST)
        gl.disable(moderngl.CULL_FACE)
        if not draw.double_sided:
            gl.enable(moderngl.CULL_FACE)
        if blend:
            gl.enable(moderngl.BLEND)
            gl.blend_func = moderngl.SRC_ALPHA, moderngl.ONE_MINUS_SRC_ALPHA
        else:
            gl.disable(moderngl.BLEND)
        (item.array if stack is None else item.layered[self._ways]).render(moderngl.TRIANGLES)

    def release(self) -> None:
        """Give the context back."""
        self._gl.release()
