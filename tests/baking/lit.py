"""Scenes for tests of light, and what falls on places in them."""

import tempfile
from pathlib import Path

import numpy as np

from fasciculum.baking.light.passes import LightPasses, LightTerms, shining_of
from fasciculum.baking.target import build_target
from fasciculum.io.pixels import PixelStore
from fasciculum.kernels.light.gathering import light_places
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import AlphaMode
from fasciculum.model.lighting import Lamp, LampKind, Lighting, Sky, SkyKind, sun_direction
from fasciculum.model.sheet import SheetSettings
from fasciculum.operations.gather.gather import gather
from fasciculum.operations.lay_out.lay_out import lay_out, measured

NO_SKY = Sky(SkyKind.NONE)
FLAT = np.array([[0, 0], [0, 1], [1, 1], [1, 0]], float)


def quad(glb, corners, material, uvs=FLAT):
    """A mesh of one square by its corners, against the clock as seen from its front."""
    corners = np.asarray(corners, float)
    normal = np.cross(corners[1] - corners[0], corners[2] - corners[0])
    normals = np.tile(normal / np.linalg.norm(normal), (4, 1))
    return glb.mesh(glb.primitive(corners, [[0, 1, 2], [0, 2, 3]], material, [uvs], NORMAL=normals))


def floor_quad(glb, material, low=(-1, -1), high=(1, 1), y=0.0, up=True):
    """A horizontal rectangle, from (x, z) to (x, z)."""
    (x0, z0), (x1, z1) = low, high
    corners = [[x0, y, z0], [x0, y, z1], [x1, y, z1], [x1, y, z0]]
    return quad(glb, corners if up else corners[::-1], material)


def inner_box(glb, material, half=1.0):
    """A closed room: a box whose fronts are inside."""
    parts = []
    for axis in range(3):
        for sign in (-1, 1):
            normal = np.zeros(3)
            normal[axis] = -sign
            u = np.roll([1.0, 0, 0], (axis + 1) % 3)
            v = np.cross(normal, u)
            corners = [-normal * half + (a * u + b * v) * half for a, b in ((-1, -1), (1, -1), (1, 1), (-1, 1))]
            parts.append(
                glb.primitive(corners, [[0, 1, 2], [0, 2, 3]], material, [FLAT], NORMAL=np.tile(normal, (4, 1)))
            )
    return glb.mesh(*parts)


def sun(elevation, lux=np.pi, azimuth=0.0, **more):
    return Lamp("sun", LampKind.SUN, strength=lux, direction=sun_direction(azimuth, elevation), **more)


def lamp(place, candela, **more):
    return Lamp("lamp", more.pop("kind", LampKind.POINT), strength=candela, place=tuple(place), **more)


class LitScene:
    """A gathered scene under lights."""

    def __init__(self, glb, lighting=None, panorama=None):
        self.folder = tempfile.TemporaryDirectory()
        path = Path(self.folder.name)
        self.store = PixelStore(path / "pixels")
        scene, _ = gather([glb.write(path / "scene.glb")], self.store)
        self.scene = scene.lit_by(lighting or Lighting(sky=NO_SKY))
        self.shining = shining_of(self.scene, lambda image: self.store.get(image.pixels), panorama)

    def at(self, points, normal=(0, 1, 0), rays=256, bounces=0, plain=False):
        """The light that falls on places, (P, 3)."""
        return self.sums(points, normal, rays, bounces, plain)[:, :3] / rays

    def sums(self, points, normal=(0, 1, 0), rays=256, bounces=0, plain=False, seed=0):
        points = np.atleast_2d(np.asarray(points, float))
        places = np.zeros((len(points), 10))
        places[:, :3], places[:, 3:6], places[:, 6:9] = points, normal, normal
        sums = np.zeros((len(points), 9), np.float32)
        seeds = (np.arange(len(points)) * 7919 + seed).astype(np.uint32)
        shining = self.shining
        what = shining.world, shining.lamps, shining.sky
        light_places(places, seeds, *what, 0, rays, bounces, shining.step, plain, sums)
        return sums

    def passes(self, size=128, rays=64, keys=None, **terms):
        """What gathers light on a sheet of some objects, with its layout and target."""
        keys = keys or tuple(item.key for item in self.scene.objects)
        sheet = SheetSettings(size, size, padding=2, twins=False, seconds=0)
        bundle = Bundle("b", keys, AlphaMode.OPAQUE, sheet)
        layout = measured(lay_out(self.scene, bundle))
        target = build_target(self.scene, layout)
        told = LightTerms(rays, **terms)
        passes = LightPasses(self.shining, self.scene, layout, target, size, size, told)
        return passes, layout, target

    def on_sheet(self, size=128, rays=64, keys=None, **terms):
        """Light on a sheet (H, W, 3), and where its texels lie in the world (H, W, 3), NaN where there is none."""
        passes, _, target = self.passes(size, rays, keys, **terms)
        passes.run(rays)
        return passes.sums[..., :3] / rays, places_on(passes, target)


def places_on(passes, target):
    """Where the texels of a sheet lie in the world, NaN where there is none or none is lit."""
    ids = passes.tiles.whole()
    y, x = np.nonzero((ids >= 0) & passes.lit)
    t = ids[y, x]
    weights = np.einsum("nij,nj->ni", target.maps[t], np.stack([x + 0.5, y + 0.5, np.ones(len(x))], 1))
    inside = (weights > -1e-9).all(1)
    result = np.full((*ids.shape, 3), np.nan)
    result[y[inside], x[inside]] = np.einsum("ni,nij->nj", weights, passes.corners[t][..., :3])[inside]
    return result
