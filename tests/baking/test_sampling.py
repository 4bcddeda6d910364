"""Reading textures onto a sheet, against a truth that the test supersamples itself, 12 x 12 for each texel."""

import gc
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import numpy as np

from fasciculum.baking import pyramids
from fasciculum.baking.materials import MaterialSource
from fasciculum.baking.target import Target
from fasciculum.baking.tiling import Tiles
from fasciculum.io.pixels import PixelStore
from fasciculum.kernels.sampling.tiles import WIDE, barycentric_maps
from fasciculum.model.scene import Image, Material, Mesh, Scene, Source, TextureSlot
from fasciculum.units import linear_to_srgb, srgb_to_linear
from tests.reference import bilinear

SIZE, SOURCE, GRID = 48, 256, 12
REPEAT, MIRROR, CLAMP = 0, 1, 2
WRAPS = {REPEAT: 10497, MIRROR: 33648, CLAMP: 33071}


def picture(seed):
    """Return a picture with detail at every scale, its edges soft at the finest."""
    rng = np.random.default_rng(seed)
    whole, step = np.zeros((SOURCE, SOURCE, 3)), SOURCE
    while step >= 1:
        part = rng.random((SOURCE // step, SOURCE // step, 3))
        whole += np.repeat(np.repeat(part, step, 0), step, 1) * (step / SOURCE) ** 0.5
        step //= 4
    whole -= whole.min()
    return np.round(whole / whole.max() * 255).astype(np.uint8)


def psnr(one, two):
    return -10 * np.log10(np.mean((one - two) ** 2))


class Sampling(unittest.TestCase):
    def setUp(self):
        self.store = PixelStore(Path(tempfile.mkdtemp()))
        self.pictures = [picture(0), picture(1)]
        self.pictures[1][..., 2] = 200

    def source(self, matrix, offset, samples=1, wrap=REPEAT):
        """Return a source over a sheet that is one square, whose texels reach ``matrix`` source texels."""
        corners = np.array([[[0, 0], [SIZE, 0], [SIZE, SIZE]], [[0, 0], [SIZE, SIZE], [0, SIZE]]], float)
        maps = np.zeros((2, 3, 3))
        barycentric_maps(corners, maps)
        uvs = np.repeat(((corners @ matrix.T) / SOURCE + offset)[:, :, None], 5, axis=2).astype(np.float32)
        frames = np.zeros((2, 3, 11), np.float32)
        frames[..., [2, 3, 6, 7, 10]] = 1
        images = tuple(
            Image(f"{n}", SOURCE, SOURCE, 3, 8, self.store.put(pixels), "", True, False)
            for n, pixels in enumerate(self.pictures)
        )
        slots = [TextureSlot(number, wrap_u=wrap, wrap_v=wrap) for number in range(2)]
        material = Material("m", base_color=slots[0], normal=slots[1])
        scene = Scene((Source("s", "s", "s"),), (), (Mesh("m", ()),), (material,), images, ())
        ones, nought = np.ones((2, 3, 4), np.float32), np.zeros(2, np.int32)
        target = Target(
            corners, maps, uvs, ones, frames, nought, (0,), nought, np.ones(2), nought, np.ones(2, np.bool_)
        )
        source = MaterialSource(scene, target, lambda image: self.store.get(image.pixels), samples=samples)
        tiles = Tiles(target, SIZE, SIZE)
        values = np.zeros((1, WIDE, WIDE, source.values), np.float32)
        source.fill(np.zeros(1, np.int64), tiles.across, tiles.ids(np.zeros(1, np.int64)), values)
        return values[0, 1 : SIZE + 1, 1 : SIZE + 1]

    def truth(self, matrix, offset, number, light, wrap=REPEAT):
        """Return the mean of bilinear readings of the finest level over each texel, linear."""
        place = (np.arange(SIZE * GRID) + 0.5) / GRID
        y, x = np.meshgrid(place, place, indexing="ij")
        uvs = np.stack([x, y], -1).reshape(-1, 2) @ matrix.T / SOURCE + offset
        result = bilinear(self.pictures[number], uvs, (WRAPS[wrap],) * 2, srgb=light)
        return result.reshape(SIZE, GRID, SIZE, GRID, 3).mean((1, 3))

    def judged(self, scales, turn, samples):
        cos, sin = np.cos(turn), np.sin(turn)
        matrix = np.array([[cos, -sin], [sin, cos]]) * scales
        offset = np.array([0.137, 0.291])
        values = self.source(matrix, offset, samples)
        color = psnr(linear_to_srgb(values[..., :3]), linear_to_srgb(self.truth(matrix, offset, 0, True)))
        normal = self.truth(matrix, offset, 1, False) * 2 - 1
        normal /= np.linalg.norm(normal, axis=-1, keepdims=True)
        return color, psnr(values[..., 4:7] / 2, normal / 2)

    def test_default_sampling_from_a_quarter_to_four_times_and_anisotropy_of_eight(self):
        for scales in ((0.25, 0.25), (1, 1), (1.6, 1.6), (2.5, 2.5), (4, 4), (4, 1), (4, 0.5)):
            for turn in (0.0, 0.4):
                color, normal = self.judged(scales, turn, 1)
                self.assertGreaterEqual(color, 44, (scales, turn))
                self.assertGreaterEqual(normal, 36, (scales, turn))

    def test_sixteen_samples(self):
        for scales in ((1, 1), (4, 4), (4, 0.5)):
            color, normal = self.judged(scales, 0.3, 16)
            self.assertGreaterEqual(color, 49, scales)
            self.assertGreaterEqual(normal, 40, scales)

    def test_wrap_modes_are_exact_at_every_level(self):
        """Small levels wrap as the finest does: a repeated picture, read small, is the picture's own level again."""
        for wrap in (REPEAT, MIRROR, CLAMP):
            for scale in (1.0, 4.0):
                matrix = np.eye(2) * scale
                offset = np.array([-0.61, 0.83])
                values = self.source(matrix, offset, 1, wrap)
                wanted = self.truth(matrix, offset, 0, True, wrap)
                self.assertGreater(psnr(linear_to_srgb(values[..., :3]), linear_to_srgb(wanted)), 36, (wrap, scale))

    def test_channels_that_share_a_picture_are_as_if_each_were_alone(self):
        both = self.source(np.eye(2) * 1.3, np.zeros(2))
        self.pictures[1] = self.pictures[0]
        self.assertTrue(np.isfinite(both).all())
        same = self.source(np.eye(2) * 1.3, np.zeros(2))
        np.testing.assert_array_equal(both[..., :3], same[..., :3])
        np.testing.assert_allclose(srgb_to_linear(linear_to_srgb(same[..., :3])), same[..., :3], atol=1e-6)

    def test_what_has_no_room_in_memory_is_made_on_disk_and_is_the_same(self):
        matrix = np.array([[1.3, 0.4], [-0.2, 2.7]])
        wanted = self.source(matrix, np.zeros(2))
        taken = pyramids._ROOM.taken
        pyramids.forget_pyramids()
        gc.collect()
        self.assertLess(pyramids._ROOM.taken, taken)
        with mock.patch.object(pyramids, "IN_MEMORY", 0), mock.patch.object(pyramids, "KEPT", 0):
            before = pyramids._ROOM.taken
            np.testing.assert_array_equal(self.source(matrix, np.zeros(2)), wanted)
            self.assertEqual(pyramids._ROOM.taken, before)


if __name__ == "__main__":
    unittest.main()
