"""Small valid files that hold a bit of everything, for tests that break them."""

import json
from pathlib import Path

import numpy as np

from fasciculum.io.pixels import PixelStore
from fasciculum.model.bake_settings import BakeSettings
from fasciculum.model.document import Document
from fasciculum.model.sheet import SheetSettings
from fasciculum.operations.gather.bundling import bundle_objects
from fasciculum.operations.gather.gather import gather
from fasciculum.operations.projects import save_project
from fasciculum.session.pipeline import Pipeline
from tests.builders import SQUARE, SQUARE_NORMALS, SQUARE_TRIANGLES, Glb, smooth_image, square_uvs, textured_square

OBJ = """mtllib plain.mtl
o Plank
v 0 0 0
v 2 0 0
v 2 1 0
v 0 1 0
v 1 0.2 0.5 1 0 0
vt 0 0
vt 1 0
vt 1 1
vt 0 1
vn 0 0 1
usemtl oak
s 1
f 1/1/1 2/2/1 3/3/1 4/4/1
o Post
g side
usemtl paint
f -5 -4 -3 -1
f 1//1 2//1 5//1
l 1 2 3
p 4
"""
MTL = """newmtl oak
Kd 0.8 0.6 0.4
map_Kd -s 2 2 -o 0.5 0 "wood grain.png"
map_Bump -bm 1 normal.png
Ns 50
newmtl paint
Kd 1 0 0
d 0.5
Ke 1 1 0
map_d "wood grain.png"
"""


def rich_glb():
    """A file with textures, a skin, morph targets, an animation, copies, lights, cameras, lines and two scenes."""
    glb = Glb()
    texture = glb.texture(smooth_image(16))
    material = glb.material(
        {"index": texture, "extensions": {"KHR_texture_transform": {"scale": [2, 2], "rotation": 0.3}}},
        normalTexture={"index": texture},
        extensions={"KHR_materials_clearcoat": {"clearcoatFactor": 0.5}},
    )
    glossy = glb.add(
        "materials",
        {
            "extensions": {
                "KHR_materials_pbrSpecularGlossiness": {
                    "diffuseTexture": {"index": texture},
                    "specularGlossinessTexture": {"index": texture},
                }
            }
        },
    )
    primitive = glb.primitive(SQUARE, SQUARE_TRIANGLES, material, [square_uvs()], NORMAL=SQUARE_NORMALS)
    primitive["targets"] = [{"POSITION": glb.accessor(SQUARE * 0.1)}]
    primitive["attributes"]["JOINTS_0"] = glb.accessor(np.zeros((4, 4)), "u1")
    primitive["attributes"]["WEIGHTS_0"] = glb.accessor(np.tile([1.0, 0, 0, 0], (4, 1)))
    mesh = glb.mesh(primitive, glb.primitive(SQUARE, SQUARE_TRIANGLES, glossy, [square_uvs()]), weights=[0.5])
    strip = glb.primitive(SQUARE[[0, 1, 3, 2]], None, material, [square_uvs()]) | {"mode": 5}
    line = {"attributes": {"POSITION": glb.accessor(SQUARE)}, "mode": 3}
    plain = glb.mesh(strip, line)
    bone = glb.node("bone")
    glb.node("skinned", mesh, skin=0)
    glb.add("skins", {"joints": [bone], "inverseBindMatrices": glb.accessor(np.eye(4).reshape(1, 16))})
    glb.node("eye", camera=0, extensions={"KHR_lights_punctual": {"light": 0}})
    glb.add("cameras", {"type": "perspective", "perspective": {"yfov": 1, "znear": 0.1}})
    glb.json["extensions"] = {"KHR_lights_punctual": {"lights": [{"type": "point"}]}}
    copies = {"TRANSLATION": glb.accessor(SQUARE * 3), "SCALE": glb.accessor(np.ones((4, 3)))}
    glb.node("copies", plain, extensions={"EXT_mesh_gpu_instancing": {"attributes": copies}})
    times, values = glb.accessor(np.array([0.0, 1])), glb.accessor(np.array([[0.0, 0, 0], [1, 0, 0]]))
    glb.add(
        "animations",
        {
            "samplers": [{"input": times, "output": values}],
            "channels": [{"sampler": 0, "target": {"node": bone, "path": "translation"}}],
        },
    )
    other = glb.add("nodes", {"name": "other", "mesh": plain})
    glb.json["scenes"].append({"nodes": [other], "name": "second"})
    sparse = glb.accessor(np.array([[0.0], [1], [2], [0], [2], [3]]), "u2")
    values = glb.view(np.array([1], "<u2").tobytes())
    glb.json["accessors"][sparse]["sparse"] = {
        "count": 1,
        "indices": {"bufferView": glb.view(np.array([4], "<u1").tobytes()), "componentType": 5121},
        "values": {"bufferView": values},
    }
    third = glb.primitive(SQUARE, None, glossy, [square_uvs()])
    third["indices"] = sparse
    glb.node("sparse", glb.mesh(third))
    return glb


def write_seeds(folder):
    """Write the seeds into a folder and return their paths."""
    folder = Path(folder)
    from PIL import Image

    Image.fromarray(smooth_image(16)).save(folder / "wood grain.png")
    Image.fromarray(np.full((8, 8, 3), (128, 128, 255), np.uint8)).save(folder / "normal.png")
    (folder / "plain.obj").write_text(OBJ.replace("plain.mtl", "changed.mtl"))
    (folder / "changed.mtl").write_text(MTL)
    seeds = [folder / "rich.glb", folder / "inside.gltf", folder / "beside.gltf", folder / "boards.obj"]
    rich_glb().write(seeds[0])
    textured_square(smooth_image(8)).write_gltf(seeds[1])
    glb = textured_square(smooth_image(8))
    glb.json["images"] = [{"uri": "wood%20grain.png"}]
    glb.write_gltf(seeds[2])
    json.loads(seeds[2].read_text())
    seeds[3].write_text(OBJ.replace("plain.mtl", "oak.mtl"))
    (folder / "oak.mtl").write_text(MTL)
    store = PixelStore(folder / "store")
    scene, _ = gather([str(seeds[0])], store)
    bundles, _ = bundle_objects(scene, "alpha", SheetSettings(64, 64, padding=2, seconds=0), BakeSettings())
    line = Pipeline(Document("p", scene, bundles), store)
    line.lay_out([bundle.name for bundle in bundles])
    line.bake([bundle.name for bundle in bundles])
    project = folder / "made.fasc"
    save_project(line.document, project, store)
    return [*seeds, folder / "oak.mtl", project]
