"""A made-up sheet for benchmarks of baking: boards with three textures, clean islands of any number and size."""

import numpy as np

from fasciculum.model.layout import Layout, Surface
from fasciculum.model.scene import Image, Material, Mesh, Node, Object, Primitive, Scene, Source, TextureSlot


def noise(size, seed, channels=3):
    """Return a picture with detail at every scale, uint8."""
    rng = np.random.default_rng(seed)
    whole = np.zeros((size, size, channels), np.float32)
    step = size
    while step >= 1:
        part = rng.random((size // step + 1, size // step + 1, channels), np.float32)
        whole += np.repeat(np.repeat(part, step, 0), step, 1)[:size, :size] * (step / size) ** 0.5
        step //= 4
    whole -= whole.min()
    return np.round(whole / whole.max() * 255).astype(np.uint8)


def boards(store, size, *, across=4, cut=8, source=2048, stretch=(1.0, 1.0), fill=0.92):
    """Return a scene of one object, and its layout on a sheet of a size.

    Parameters
    ----------
    across : int
        Islands along each edge of the sheet.
    cut : int
        Squares along each edge of an island, two triangles each.
    stretch : (float, float)
        Source texels in a texel of the sheet, along u and v.
    """
    images = []
    for number, name in enumerate(("color", "normal", "orm")):
        pixels = noise(source, number)
        if name == "normal":
            pixels[..., 2] = 128 + pixels[..., 2] // 2
        images.append(Image(name, source, source, 3, 8, store.put(pixels), "", True, False))
    slot = [TextureSlot(number) for number in range(3)]
    material = Material("board", base_color=slot[0], normal=slot[1], metallic_roughness=slot[2], occlusion=slot[2])
    side = size / across * fill
    grid = np.linspace(0, 1, cut + 1)
    x, y = np.meshgrid(grid, grid)
    points = np.stack([x.ravel(), y.ravel()], 1)
    at = np.arange(cut * (cut + 1)).reshape(cut, cut + 1)[:, :-1].ravel()
    quads = np.stack([at, at + 1, at + cut + 2, at, at + cut + 2, at + cut + 1], 1).reshape(-1, 3)
    rng = np.random.default_rng(5)
    positions, triangles, uvs, corners, islands, rows = [], [], [], [], [], []
    for number in range(across * across):
        turn = rng.uniform(0, 2 * np.pi)
        matrix = np.array([[np.cos(turn), -np.sin(turn)], [np.sin(turn), np.cos(turn)]])
        own = (points - 0.5) @ matrix.T * side * np.array(stretch) / source + rng.random(2)
        positions.append(np.column_stack([points + [1.2 * number, 0], np.zeros(len(points))]))
        triangles.append(quads + number * len(points))
        uvs.append(own)
        corners.append(points[quads])
        islands.append(np.full(len(quads), number, np.int32))
        column, row = number % across, number // across
        edge = size / across * (1 - fill) / 2
        rows.append([side, 0, column * size / across + edge, 0, side, row * size / across + edge])
    primitive = Primitive(
        np.concatenate(positions).astype(np.float32),
        np.concatenate(triangles).astype(np.int32),
        np.tile(np.array([[0, 0, 1]], np.float32), (len(points) * across * across, 1)),
        None,
        (np.concatenate(uvs).astype(np.float32),),
        None,
        0,
    )
    scene = Scene(
        (Source("s", "s", "s"),),
        (Node("board", -1, np.eye(4), 0, 0, 0),),
        (Mesh("board", (primitive,)),),
        (material,),
        tuple(images),
        (Object("board", 0, (0,), "OPAQUE"),),
    )
    corner = np.concatenate(corners)
    surface = Surface(("board",), corner, np.concatenate(islands), np.zeros(len(corner), bool), float(across**2))
    layout = Layout((surface,), np.array(rows), side, size, size, 8, 4, 8, 4, 0.0, fill**2, "made")
    return scene, layout
