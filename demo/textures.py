"""The station's textures, drawn from formulas: planks, sheet metal, enamel, rope, rust, concrete, cloth, glass.

Each function returns arrays of float64, 0 to 1, shape (H, W, C): colours sRGB-encoded, the rest plain data.
Detail stays a few texels wide, as in a photograph that was scaled down with care.
"""

from __future__ import annotations

import numpy as np
from PIL import Image, ImageDraw, ImageFont
from scipy.ndimage import gaussian_filter, zoom


def noise(width: int, height: int, cells_x: int, cells_y: int, seed: int, octaves: int = 4):
    """Return smooth periodic noise of mean 0.5, shape (height, width)."""
    rng = np.random.default_rng(seed)
    total, weight = np.zeros((height, width)), 0.0
    for octave in range(octaves):
        nx, ny = cells_x << octave, cells_y << octave
        if nx > width // 3 or ny > height // 3:
            break
        grid = rng.random((ny, nx))
        padded = np.pad(grid, 2, mode="wrap")
        fine = zoom(padded, (height / ny, width / nx), order=3, grid_mode=True, mode="grid-wrap")
        y, x = round(2 * height / ny), round(2 * width / nx)
        total += fine[y : y + height, x : x + width] * 0.5**octave
        weight += 0.5**octave
    return np.clip(total / weight, 0, 1)


def mix(first, second, amount):
    """Blend two colours or images by an amount of shape (H, W)."""
    amount = np.clip(amount, 0, 1)[..., None]
    return np.asarray(first, float) * (1 - amount) + np.asarray(second, float) * amount


def ramp(values, low, high):
    """Return 0 below low, 1 above high, smooth between."""
    t = np.clip((values - low) / (high - low), 0, 1)
    return t * t * (3 - 2 * t)


def normal_from(height, strength: float):
    """Return the normal map of a height field that repeats, +Y up as glTF has it."""
    height = gaussian_filter(height, 1.5, mode="wrap")
    dx = (np.roll(height, -1, 1) - np.roll(height, 1, 1)) * 0.5 * strength
    dy = (np.roll(height, -1, 0) - np.roll(height, 1, 0)) * 0.5 * strength
    vector = np.stack([-dx, dy, np.ones_like(height)], axis=-1)
    return vector / np.linalg.norm(vector, axis=-1, keepdims=True) * 0.5 + 0.5


def orm(occlusion, roughness, metallic):
    """Stack occlusion, roughness and metallic, softened; numbers are spread over the image."""
    shape = next(np.shape(part) for part in (occlusion, roughness, metallic) if np.ndim(part))
    stacked = np.stack([np.broadcast_to(part, shape) for part in (occlusion, roughness, metallic)], -1)
    return np.clip(soften(stacked, 1.3), 0, 1)


def soften(image, sigma: float = 0.7):
    """Take the hardest edges off, as a good down-scaling does."""
    return gaussian_filter(image, (sigma, sigma, 0), mode="wrap")


def planks(size: int = 1024, boards: int = 8):
    """Boards running along v, with grain, gaps and nails."""
    x = np.arange(size) / size * boards
    board, across = np.floor(x).astype(int), x % 1
    rng = np.random.default_rng(3)
    tone = rng.random(boards)[board]
    grain = np.zeros((size, size))
    for index in range(boards):
        columns = board == index
        lines = noise(size, size, 48, 2, 20 + index, 3)
        grain[:, columns] = np.roll(lines, index * 171, axis=0)[:, columns]
    edge = np.minimum(across, 1 - across) * size / boards
    gap = ramp(edge, 1.5, 6.0)[None, :] * np.ones((size, 1))
    wear = noise(size, size, 4, 4, 5, 4)
    v = np.arange(size) / size
    joint_at = rng.random(boards)[board]
    joint = np.abs((v[:, None] - joint_at[None, :] + 0.5) % 1 - 0.5) * size
    gap *= ramp(joint, 1.5, 5.0)
    color = mix((0.33, 0.22, 0.14), (0.63, 0.47, 0.32), 0.25 + 0.5 * grain + 0.35 * (tone - 0.5))
    color = mix(color, (0.55, 0.54, 0.50), ramp(wear, 0.5, 0.75) * 0.55)
    color = mix((0.05, 0.04, 0.03), color, gap)
    nail_u = np.minimum(np.abs(across - 0.25), np.abs(across - 0.75)) * size / boards
    nail = 1 - ramp(np.hypot(nail_u[None, :], joint - 22), 4.5, 7.5)
    color = mix(color, (0.23, 0.20, 0.19), nail)
    height = gap * 1.0 + grain * 0.25 * gap - nail * 0.2
    return (
        soften(color),
        normal_from(height, 2.8),
        orm(0.35 + 0.65 * gap, 0.62 + 0.25 * grain - 0.3 * nail, nail),
    )


def corrugated(size: int = 1024, waves: int = 16):
    """Zinc sheet with rust that runs down from the screws."""
    x = np.arange(size) / size
    wave = 0.5 + 0.5 * np.cos(2 * np.pi * waves * x)[None, :] * np.ones((size, 1))
    spangle = noise(size, size, 24, 24, 31, 2)
    streak = noise(size, size, 40, 2, 32, 3)
    patch = noise(size, size, 4, 4, 33, 4)
    rust = ramp(0.6 * streak + 0.6 * patch, 0.62, 0.8)
    color = mix((0.56, 0.60, 0.62), (0.70, 0.73, 0.74), spangle)
    color = mix(color, (0.47, 0.24, 0.11), rust * 0.9)
    color *= (0.82 + 0.18 * wave)[..., None]
    lap = ramp(np.abs(np.arange(size) / size - 0.5) * size, 2.0, 6.0)[:, None] * np.ones((1, size))
    color = mix(np.array((0.2, 0.19, 0.18)), color, lap)
    height = wave * 2.4 + rust * 0.3 * spangle + lap * 0.6
    return soften(color), normal_from(height, 4.0), orm(0.55 + 0.45 * wave * lap, 0.35 + 0.5 * rust, 1 - rust)


def rust(size: int = 512):
    """Painted steel that rusts through."""
    patch, fine = noise(size, size, 4, 4, 41, 5), noise(size, size, 24, 24, 42, 2)
    amount = ramp(patch, 0.46, 0.56)
    color = mix((0.20, 0.28, 0.31), mix((0.36, 0.17, 0.08), (0.60, 0.33, 0.14), fine), amount)
    rim = ramp(patch, 0.42, 0.46) * (1 - ramp(patch, 0.46, 0.5))
    color = mix(color, (0.55, 0.58, 0.56), rim * 0.6)
    height = (1 - amount) * 0.8 + fine * 0.4 * amount
    return (
        soften(color),
        normal_from(height, 5.0),
        orm(0.8 + 0.2 * (1 - amount), 0.4 + 0.5 * amount, 0.9 - 0.8 * amount),
    )


def rope(size: int = 256, strands: int = 3):
    """Wire rope: strands laid round at an angle; repeats along v."""
    y, x = np.mgrid[0:size, 0:size] / size
    strand = (x * strands + y * 4) % 1
    wire = (x * strands * 2 - y * 4) % 1
    round_strand = np.sqrt(np.clip(1 - (2 * strand - 1) ** 2, 0, 1))
    round_wire = np.sqrt(np.clip(1 - (2 * wire - 1) ** 2, 0, 1))
    grease = noise(size, size, 6, 6, 51, 3)
    color = mix((0.10, 0.10, 0.10), (0.46, 0.45, 0.43), round_strand * (0.55 + 0.45 * round_wire))
    color = mix(color, (0.16, 0.13, 0.09), ramp(grease, 0.5, 0.8) * 0.7)
    height = round_strand + round_wire * 0.25
    return (
        soften(color, 1.0),
        normal_from(gaussian_filter(height, 1.6, mode="wrap"), 1.9),
        orm(0.3 + 0.7 * round_strand, 0.35 + 0.3 * grease, np.full((size, size), 0.85)),
    )


def concrete(size: int = 512):
    """Cast concrete with pores and the marks of the boards."""
    cloud, fine, pores = (
        noise(size, size, 4, 4, 61, 5),
        noise(size, size, 24, 24, 62, 2),
        noise(size, size, 32, 32, 63, 1),
    )
    pore = ramp(pores, 0.80, 0.9)
    color = mix((0.47, 0.46, 0.44), (0.66, 0.65, 0.62), 0.6 * cloud + 0.4 * fine)
    color = mix(color, (0.25, 0.25, 0.24), pore * 0.8)
    y = np.arange(size) / size * 4
    seam = ramp(np.minimum(y % 1, 1 - y % 1) * size / 4, 1.5, 5.0)[:, None] * np.ones((1, size))
    color *= (0.75 + 0.25 * seam)[..., None]
    return soften(color), normal_from(cloud * 0.5 + fine * 0.2 - pore * 0.6 + seam * 0.7, 4.0)


def cloth(size: int = 256):
    """Woven seat cloth in two blues with a thin yellow thread."""
    y, x = np.mgrid[0:size, 0:size] / size
    weave = 0.5 + 0.25 * np.sin(2 * np.pi * 32 * x) + 0.25 * np.sin(2 * np.pi * 32 * y)
    band = ramp(np.abs((x * 4) % 1 - 0.5), 0.18, 0.24)
    thread = 1 - ramp(np.abs((y * 4) % 1 - 0.5), 0.03, 0.07)
    color = mix((0.13, 0.20, 0.36), (0.22, 0.36, 0.50), band * 0.7 + weave * 0.3)
    color = mix(color, (0.80, 0.62, 0.24), thread * 0.8)
    return soften(color), normal_from(weave, 1.3)


def writing(draw, place, text, size, fill, anchor="mm"):
    """Write text with the font that Pillow brings."""
    draw.text(place, text, fill=fill, font=ImageFont.load_default(size), anchor=anchor)


def hull(size: int = 1024):
    """The cabin's paint: red under cream, a straw line, rivets, panel joints and the cabin's number.

    The top half carries the long side, the bottom half the ends, roof and floor.
    """
    scale = 2
    picture = Image.new("RGB", (size * scale, size * scale), (146, 38, 34))
    draw = ImageDraw.Draw(picture)
    s = size * scale
    for top, height in ((0, 0.5), (0.5, 0.5)):
        y = top * s
        draw.rectangle((0, y, s, y + s * height * 0.42), fill=(226, 214, 188))
        draw.rectangle((0, y + s * height * 0.42, s, y + s * height * 0.455), fill=(201, 160, 64))
    for x in (0.25, 0.75):
        writing(draw, (x * s, 0.385 * s), "14", s // 11, (226, 214, 188))
    writing(draw, (0.5 * s, 0.09 * s), "KARLSJOCH  SEILBAHN", s // 28, (120, 34, 30))
    for x in np.arange(0, 1.001, 1 / 8):
        draw.line((x * s, 0, x * s, s), fill=(72, 24, 22), width=s // 340)
        for y in np.arange(1 / 64, 1, 1 / 32):
            r = s / 420
            for side in (-0.008, 0.008):
                cx, cy = (x + side) * s, y * s
                draw.ellipse((cx - r, cy - r, cx + r, cy + r), fill=(92, 74, 62))
    color = np.asarray(picture.resize((size, size), Image.Resampling.LANCZOS), float) / 255
    dirt = noise(size, size, 5, 3, 71, 5)
    run = noise(size, size, 60, 2, 72, 2)
    v = (np.arange(size) / size * 2 % 1)[:, None]
    grime = ramp(dirt * 0.6 + run * 0.4 + v * 0.35, 0.62, 0.95)
    color = mix(color, (0.22, 0.17, 0.13), grime * 0.6)
    x = np.arange(size) / size * 8
    joint = ramp(np.minimum(x % 1, 1 - x % 1) * size / 8, 1.0, 4.0)[None, :] * np.ones((size, 1))
    return (
        soften(color, 0.6),
        normal_from(joint + dirt * 0.15, 4.0),
        orm(0.7 + 0.3 * joint, 0.22 + 0.5 * grime, 0.0),
    )


def hull_occlusion(size: int = 256):
    """Soft shade towards the edges of each face, read through the second UV set."""
    y, x = np.mgrid[0:size, 0:size] / size
    near = np.minimum.reduce([x, 1 - x, y, 1 - y])
    return np.repeat((0.35 + 0.65 * ramp(near, 0.0, 0.3))[..., None], 3, axis=2)


def boards_painted(size: int = 512):
    """Pale painted boards for tinting by a factor."""
    color, normal, packed = planks(size, 6)
    grey = color.mean(axis=2, keepdims=True)
    pale = np.clip(0.74 + 0.75 * (grey - 0.35), 0, 1) * np.array((1.0, 0.98, 0.94))
    return pale, normal, packed


def sign(size: int, lines, ground, ink, shape: str):
    """An enamel sign with a cut-out outline: alpha is 0 outside. Chips in the enamel show rust."""
    scale = 3
    s = size * scale
    picture = Image.new("RGB", (s, s), ground)
    outline = Image.new("L", (s, s), 0)
    draw, cut = ImageDraw.Draw(picture), ImageDraw.Draw(outline)
    m = s // 24
    if shape == "round":
        cut.ellipse((m, m, s - m, s - m), fill=255)
        draw.ellipse((2 * m, 2 * m, s - 2 * m, s - 2 * m), outline=ink, width=s // 40)
    elif shape == "arrow":
        points = [(m, 0.25 * s), (0.68 * s, 0.25 * s), (s - m, 0.5 * s), (0.68 * s, 0.75 * s), (m, 0.75 * s)]
        cut.polygon(points, fill=255)
        draw.line([*points, points[0]], fill=ink, width=s // 30)
    else:
        cut.rounded_rectangle((m, m, s - m, s - m), s // 8, fill=255)
        draw.rounded_rectangle((2 * m, 2 * m, s - 2 * m, s - 2 * m), s // 10, outline=ink, width=s // 50)
    for x, y in ((0.12, 0.5), (0.88, 0.5)):
        cut.ellipse(((x - 0.018) * s, (y - 0.018) * s, (x + 0.018) * s, (y + 0.018) * s), fill=0)
    for number, text in enumerate(lines):
        y = 0.5 + (number - (len(lines) - 1) / 2) * 0.17
        writing(draw, (0.5 * s, y * s), text, int(s * min(0.15, 1.15 / max(len(text), 1))), ink)
    color = np.asarray(picture.resize((size, size), Image.Resampling.LANCZOS), float) / 255
    alpha = np.asarray(outline.resize((size, size), Image.Resampling.LANCZOS), float) / 255
    chips = ramp(noise(size, size, 7, 7, len(lines[0]) + 80, 4), 0.68, 0.72)
    color = mix(color, (0.30, 0.15, 0.08), chips)
    return np.dstack([soften(color), alpha])


def glass(size: int = 256):
    """Window glass: a cold tint, wiped smears and dirt in the corners; alpha carries both."""
    y, x = np.mgrid[0:size, 0:size] / size
    corner = 1 - ramp(np.minimum.reduce([x, 1 - x, y, 1 - y]), 0.0, 0.16)
    smear = noise(size, size, 3, 9, 91, 4)
    color = mix((0.55, 0.68, 0.70), (0.42, 0.40, 0.35), corner)
    alpha = 0.22 + 0.30 * corner + 0.18 * ramp(smear, 0.5, 0.8)
    return np.dstack([color, np.clip(alpha, 0, 1)])


def clock(size: int = 512):
    """A clock face."""
    scale = 3
    s = size * scale
    picture = Image.new("RGB", (s, s), (28, 30, 30))
    draw = ImageDraw.Draw(picture)
    draw.ellipse((0.03 * s, 0.03 * s, 0.97 * s, 0.97 * s), fill=(236, 230, 212))
    for hour in range(60):
        angle = hour / 60 * 2 * np.pi
        inner, width = (0.36, s // 50) if hour % 5 == 0 else (0.41, s // 150)
        start, end = ((0.5 + r * np.sin(angle), 0.5 - r * np.cos(angle)) for r in (inner, 0.44))
        draw.line((start[0] * s, start[1] * s, end[0] * s, end[1] * s), fill=(30, 32, 32), width=width)
    for angle, length, width in ((1.1, 0.25, s // 34), (4.4, 0.36, s // 52)):
        draw.line(
            (0.5 * s, 0.5 * s, (0.5 + length * np.sin(angle)) * s, (0.5 - length * np.cos(angle)) * s),
            fill=(132, 36, 30),
            width=width,
        )
    return soften(np.asarray(picture.resize((size, size), Image.Resampling.LANCZOS), float) / 255, 1.1)


def lamp_glow(size: int = 128):
    """What the lamp's diffuser gives off: bright in the middle, ribbed."""
    y, x = np.mgrid[0:size, 0:size] / size
    rib = 0.85 + 0.15 * np.cos(2 * np.pi * 12 * x)
    return np.clip(
        (0.45 + 0.55 * ramp(1 - np.abs(2 * y - 1), 0, 1))[..., None] * rib[..., None] * np.array((1.0, 0.86, 0.62)),
        0,
        1,
    )
