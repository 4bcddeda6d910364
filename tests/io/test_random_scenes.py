"""Random scenes: gathered, and delivered again as they came, against a plain reader of the same files."""

import tempfile
import unittest
from pathlib import Path

import numpy as np

from fasciculum.io.pixels import PixelStore
from fasciculum.model.delivery import DeliverySettings
from fasciculum.model.document import Document
from fasciculum.operations.deliver.deliver import deliver
from fasciculum.operations.gather.gather import gather
from tests.builders import Glb, smooth_image
from tests.reference import Model


def rotation(rng):
    turn = rng.normal(size=4)
    return (turn / np.linalg.norm(turn)).tolist()


def random_scene(seed):
    """Nodes within nodes, meshes drawn more than once, several primitives, UV sets, colours and normals."""
    rng = np.random.default_rng(seed)
    glb = Glb()
    textures = [glb.texture(smooth_image(8, seed=seed + n)) for n in range(2)]
    materials = [
        glb.material(
            textures[n % 2] if n else None,
            pbr={"baseColorFactor": [*rng.uniform(0.1, 1, 3), 1.0], "roughnessFactor": float(rng.uniform(0, 1))},
            doubleSided=bool(n % 2),
        )
        for n in range(3)
    ]
    meshes = []
    for _ in range(3):
        primitives = []
        for _ in range(int(rng.integers(1, 4))):
            count = int(rng.integers(4, 12))
            triangles = rng.integers(0, count, (int(rng.integers(1, 9)), 3))
            # no triangle on one line: those are dropped by none, and have no face to compare
            triangles = triangles[(np.diff(np.sort(triangles, axis=1), axis=1) > 0).all(axis=1)]
            if not len(triangles):
                triangles = np.array([[0, 1, 2]])
            normals = rng.normal(size=(count, 3))
            more = {"NORMAL": normals / np.linalg.norm(normals, axis=1, keepdims=True)}
            if rng.integers(0, 2):
                more["COLOR_0"] = rng.uniform(size=(count, 4))
            sets = [rng.uniform(-1, 2, (count, 2)) for _ in range(int(rng.integers(1, 3)))]
            primitives.append(
                glb.primitive(rng.normal(size=(count, 3)), triangles, int(rng.choice(materials)), sets, **more)
            )
        meshes.append(glb.mesh(*primitives))
    nodes = []
    for number in range(int(rng.integers(2, 7))):
        more = {"translation": rng.normal(size=3).tolist()}
        kind = rng.integers(0, 4)
        if kind == 1:
            more["rotation"] = rotation(rng)
        elif kind == 2:
            more["scale"] = (rng.uniform(0.3, 2, 3) * np.where(rng.uniform(size=3) < 0.3, -1, 1)).tolist()
        elif kind == 3:
            more |= {"rotation": rotation(rng), "scale": [float(rng.uniform(0.5, 2))] * 3}
        parent = int(rng.choice(nodes)) if nodes and rng.integers(0, 2) else None
        mesh = int(rng.choice(meshes)) if rng.integers(0, 3) or not nodes else None
        nodes.append(glb.node(f"node {number}", mesh, parent, **more))
    return glb


def soup_of_file(path):
    """Every triangle of a file: corners in the world with their UVs, colours and normals, and the material's factor."""
    model = Model(path)
    rows = []
    for _, world, primitives in model.drawn():
        turn = np.linalg.inv(world[:3, :3]).T
        for primitive in primitives:
            get = {name: model.accessor(number).astype(float) for name, number in primitive["attributes"].items()}
            corners = np.ravel(model.accessor(primitive["indices"])).astype(int)
            factor = model.json["materials"][primitive["material"]]["pbrMetallicRoughness"]
            color = factor.get("baseColorFactor", [1, 1, 1, 1])[:3]
            normals = get["NORMAL"][corners] @ turn.T
            normals /= np.linalg.norm(normals, axis=1, keepdims=True)
            # a file without colours is white; 8 bits are told by their greatest value
            colors = get.get("COLOR_0", np.ones((len(get["POSITION"]), 4)))
            colors = colors / (255 if colors.max() > 255.5 / 255 * 1.5 else 1)
            places = get["POSITION"][corners] @ world[:3, :3].T + world[:3, 3]
            columns = [
                places,
                get["TEXCOORD_0"][corners],
                normals,
                colors[corners][:, :3],
                np.tile(color, (len(corners), 1)),
            ]
            rows.append(np.concatenate(columns, axis=1).reshape(-1, 3, 14))
    return np.concatenate(rows)


def soup_of_scene(scene):
    """The same of a scene that was gathered."""
    rows = []
    for item in scene.objects:
        world = scene.nodes[item.node].world
        turn = np.linalg.inv(world[:3, :3]).T
        for primitive in scene.primitives_of(item):
            corners = primitive.triangles.ravel()
            normals = primitive.normals[corners].astype(float) @ turn.T
            normals /= np.linalg.norm(normals, axis=1, keepdims=True)
            colors = np.ones((len(corners), 3)) if primitive.colors is None else primitive.colors[corners][:, :3]
            color = np.tile(scene.material_of(primitive).base_color_factor[:3], (len(corners), 1))
            places = primitive.positions[corners].astype(float) @ world[:3, :3].T + world[:3, 3]
            columns = [places, primitive.uv_sets[0][corners], normals, colors, color]
            rows.append(np.concatenate(columns, axis=1).reshape(-1, 3, 14))
    return np.concatenate(rows)


def in_order(soup):
    """Triangles in an order that does not depend on the file: each turned to begin at its least corner, then sorted."""
    keys = np.round(soup[..., :3], 4)
    first = np.array([min(range(3), key=lambda k, row=row: tuple(row[k])) for row in keys])
    turned = np.stack([np.roll(one, -at, axis=0) for one, at in zip(soup, first, strict=True)])
    flat = np.round(turned[..., :5], 4).reshape(len(turned), -1)
    return turned[np.lexsort(flat.T[::-1])]


class RandomScenes(unittest.TestCase):
    def test_what_is_gathered_is_what_the_file_draws(self):
        for seed in range(25):
            folder = Path(tempfile.mkdtemp())
            path = random_scene(seed).write(folder / "m.glb")
            scene, _ = gather([path], PixelStore(folder / "pixels"))
            wanted, result = in_order(soup_of_file(path)), in_order(soup_of_scene(scene))
            self.assertEqual(len(result), len(wanted), seed)
            np.testing.assert_allclose(result, wanted, atol=2e-5, err_msg=str(seed))

    def test_what_is_delivered_as_it_came_draws_the_same(self):
        for seed in range(12):
            folder = Path(tempfile.mkdtemp())
            path, store = random_scene(100 + seed).write(folder / "m.glb"), PixelStore(folder / "pixels")
            scene, _ = gather([path], store)
            document = Document("again", scene, delivery=DeliverySettings(name="again", models=("glb",)))
            deliver(document, folder / "out", store)
            wanted, result = in_order(soup_of_file(path)), in_order(soup_of_file(folder / "out" / "again.glb"))
            self.assertEqual(len(result), len(wanted), seed)
            np.testing.assert_allclose(result, wanted, atol=5e-3, err_msg=str(seed))
            # and is gathered as it was
            again, _ = gather([str(folder / "out" / "again.glb")], store)
            self.assertEqual({item.key for item in again.objects}, {item.key for item in scene.objects})


if __name__ == "__main__":
    unittest.main()
