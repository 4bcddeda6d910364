"""Make docs/screenshots/wipe.png, an animation of the divider dragged over the demo: ``tools/wipe_animation.py``."""

from __future__ import annotations

import sys
import tempfile
from pathlib import Path

import numpy as np
from PIL import Image, ImageDraw

from fasciculum.cli.main import main as command_line
from fasciculum.io.pixels import PixelStore
from fasciculum.rendering.camera import Camera
from fasciculum.rendering.renderer import Renderer, View

ROOT = Path(__file__).resolve().parents[1]
STATION = ROOT / "src" / "fasciculum" / "station" / "station.glb"
SIZE, FRAMES, MILLISECONDS, COLORS = (560, 340), 20, 90, 96


def main() -> int:
    """Make the demo, draw both sides, and write frames in which the divider goes there and back."""
    sys.path.insert(0, str(ROOT / "benchmarks"))
    from fidelity import load

    with tempfile.TemporaryDirectory() as folder:
        code = command_line(["demo", "--headless", "--out", folder])
        if code > 1:
            return code
        store, renderer = PixelStore(Path(folder) / "pixels"), Renderer(anisotropy=8.0)
        load(renderer, "source", STATION, store)
        load(renderer, "result", Path(folder) / "station.glb", store)
        wide, high = (2 * edge for edge in SIZE)
        camera = Camera(yaw=35, pitch=14).framing(*renderer.bounds(), aspect=wide / high)
        sides = []
        for side in ("source", "result"):
            picture = renderer.render(camera, wide, high, [View(side)])[..., :3]
            sides.append(Image.fromarray(picture).resize(SIZE, Image.Resampling.LANCZOS))
        renderer.release()
    frames = []
    for frame in range(FRAMES):
        at = round(SIZE[0] * (0.5 - 0.42 * np.cos(2 * np.pi * frame / FRAMES)))
        shown = sides[1].copy()
        shown.paste(sides[0].crop((0, 0, at, SIZE[1])), (0, 0))
        draw = ImageDraw.Draw(shown)
        draw.line([(at, 0), (at, SIZE[1])], fill=(240, 240, 235), width=2)
        draw.text((8, 8), "source", fill=(240, 240, 235))
        draw.text((SIZE[0] - 44, 8), "result", fill=(240, 240, 235))
        frames.append(shown.quantize(COLORS, dither=Image.Dither.NONE))
    target = ROOT / "docs" / "screenshots" / "wipe.png"
    frames[0].save(target, save_all=True, append_images=frames[1:], duration=MILLISECONDS, loop=0, optimize=True)
    print(f"{target}: {target.stat().st_size // 1024} KiB")
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
