"""Scenes made for plans: walls that repeat, flat colours, mixed props, oversized ones, and a crowd in four places."""

import numpy as np

from tests.builders import SQUARE, SQUARE_NORMALS, SQUARE_TRIANGLES, Glb, smooth_image, square_uvs


def square(glb, material, repeats=(1, 1), **more):
    return glb.mesh(
        glb.primitive(SQUARE, SQUARE_TRIANGLES, material, [square_uvs(repeats)], NORMAL=SQUARE_NORMALS, **more)
    )


def repeating(path):
    """Walls and strips whose textures repeat 1.3 to 40 times, along one axis and along two."""
    glb = Glb()
    for number, repeats in enumerate([(1.3, 1.3), (4, 1), (1, 9), (12, 12), (40, 1), (1, 40), (20, 20), (2.5, 0.5)]):
        material = glb.material(glb.texture(smooth_image(64, seed=number)))
        mesh = square(glb, material, repeats)
        glb.node(f"wall {number}", mesh, translation=[2.0 * number, 0, 0], scale=[repeats[0], repeats[1], 1])
        glb.node(f"wall {number} again", mesh, translation=[2.0 * number, 9, 0], scale=[repeats[0], repeats[1], 1])
    return glb.write(path)


def flat(path, colors=30, objects=19):
    """Objects of flat colours, several on some of them."""
    rng = np.random.default_rng(4)
    glb = Glb()
    materials = [
        glb.material(
            pbr={
                "baseColorFactor": [*rng.random(3).tolist(), 1.0],
                "roughnessFactor": float(rng.integers(1, 9) / 8),
                "metallicFactor": float(number % 2),
            }
        )
        for number in range(colors)
    ]
    for number in range(objects):
        own = materials[number::objects]
        parts = [
            glb.primitive(SQUARE + [0, 0, place], SQUARE_TRIANGLES, material, NORMAL=SQUARE_NORMALS)
            for place, material in enumerate(own)
        ]
        glb.node(f"tile {number}", glb.mesh(*parts), translation=[1.5 * number, 0, 0])
    return glb.write(path)


def mixed(path):
    """Props with and without detail, with masks and glow, copies among them."""
    glb = Glb()
    bumps = np.full((64, 64, 3), (128, 128, 255), np.uint8)
    bumps[16:40, 8:50, 0] = 150
    shared = glb.texture(smooth_image(128, seed=1))
    cut = np.dstack([smooth_image(64, seed=2), np.where(np.indices((64, 64)).sum(0) % 32 < 20, 255, 0)])
    kinds = [
        glb.material(shared, normalTexture={"index": glb.texture(bumps)}),
        glb.material(shared, pbr={"baseColorFactor": [0.5, 0.8, 0.3, 1]}),
        glb.material(shared, pbr={"baseColorFactor": [0.9, 0.4, 0.3, 1]}),
        glb.material(pbr={"baseColorFactor": [0.2, 0.3, 0.4, 1]}),
        glb.material(pbr={"baseColorFactor": [0.1, 0.1, 0.1, 1]}, emissiveFactor=[1, 0.5, 0]),
        glb.material(glb.texture(cut), alphaMode="MASK"),
        glb.material(glb.texture(smooth_image(32, seed=5)), doubleSided=True),
    ]
    for number, material in enumerate(kinds):
        repeats = (6, 1) if number == 2 else (1, 1)
        mesh = square(glb, material, repeats)
        for copy in range(3):
            glb.node(f"prop {number} {copy}", mesh, translation=[2.0 * number, 2.0 * copy, 0])
    return glb.write(path)


def oversized(path):
    """Large textures on small things, and a small one on a large thing."""
    glb = Glb()
    for number, (edge, size) in enumerate([(512, 0.2), (256, 0.1), (32, 20.0), (256, 4.0)]):
        material = glb.material(glb.texture(smooth_image(edge, seed=number)))
        glb.node(f"thing {number}", square(glb, material), translation=[3.0 * number, 0, 0], scale=[size, size, 1])
    return glb.write(path)


def crowd(path):
    """The same few props in four places far apart."""
    glb = Glb()
    meshes = [square(glb, glb.material(glb.texture(smooth_image(64, seed=number)))) for number in range(3)]
    meshes.append(square(glb, glb.material(pbr={"baseColorFactor": [0.7, 0.2, 0.2, 1]})))
    rng = np.random.default_rng(8)
    for place in range(4):
        for number in range(10):
            spot = np.array([100.0 * (place % 2), 0, 100.0 * (place // 2)]) + [*rng.random(2) * 9 + 1, 0]
            glb.node(f"prop {place} {number}", meshes[number % 4], translation=spot.tolist())
    return glb.write(path)


SCENES = {"repeating": repeating, "flat": flat, "mixed": mixed, "oversized": oversized, "crowd": crowd}
