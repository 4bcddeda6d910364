"""Texels that surfaces read in common: joined regions against sets of texels counted one by one."""

import unittest

import numpy as np

from fasciculum.treatments.reading import Read
from fasciculum.treatments.sharing import share_texels, sharing_pays, whole_region


def read(*boxes, repeats=True):
    """Return a surface of rectangles, each left, top, width and height in repeats."""
    corners = [np.array([[x, y], [x + w, y], [x + w, y + h], [x, y + h]], float) for x, y, w, h in boxes]
    uvs = np.concatenate([corner[[[0, 1, 2], [0, 2, 3]]] for corner in corners])
    low = np.array([box[:2] for box in boxes], float)
    high = low + np.array([box[2:] for box in boxes])
    return Read(uvs, np.repeat(np.arange(len(boxes)), 2).astype(np.int32), low, high, repeats)


def covered(region, size):
    """Return the texels of a region on a texture that repeats, as a set of places."""
    return {
        (x % size, y % size)
        for left, top, right, bottom in region.parts.tolist()
        for x in range(left, right)
        for y in range(top, bottom)
    }


class Regions(unittest.TestCase):
    def test_what_overlaps_is_one_region_as_large_as_the_union(self):
        shared = share_texels(
            [read((0, 0, 0.5, 0.5)), read((0.25, 0.25, 0.5, 0.5)), read((0.8, 0.8, 0.1, 0.1))], (256, 256)
        )
        self.assertEqual(len(shared.regions), 2)
        self.assertEqual([set(part.tolist()) for part in shared.region], [{0}, {0}, {1}])
        # two squares of 128 px with a quarter in common, a margin for filtering, and steps of the outline
        union = 2 * 128**2 - 64**2
        self.assertGreaterEqual(shared.regions[0].texels, union)
        self.assertLess(shared.regions[0].texels, 1.1 * union)
        self.assertLess(shared.regions[1].texels, 30**2)

    def test_pieces_that_touch_at_an_edge_alone_stay_apart(self):
        shared = share_texels([read((0, 0, 0.5, 1)), read((0.5, 0, 0.5, 1))], (256, 256))
        self.assertEqual(len(shared.regions), 2)

    def test_beyond_the_first_repeat_what_overlaps_at_whole_repeats_is_shared(self):
        shared = share_texels([read((0.85, 0.1, 0.3, 0.1)), read((3.0, -1.9, 0.1, 0.1))], (512, 512))
        self.assertEqual(len(shared.regions), 1)
        moved = [part.mean(axis=(0, 1)) for part in shared.uvs]
        # the second lies on the first one's right end
        np.testing.assert_allclose(moved[1] - moved[0], [0.05, 0.0], atol=1e-9)

    def test_boxes_of_a_region_do_not_lie_on_each_other_and_hold_what_is_read(self):
        rng = np.random.default_rng(4)
        for _ in range(20):
            boxes = [(*rng.uniform(-0.5, 1.2, 2), *rng.uniform(0.05, 0.5, 2)) for _ in range(6)]
            reads = [read(box) for box in boxes]
            shared = share_texels(reads, (64, 64))
            for number, region in enumerate(shared.regions):
                parts = region.parts
                size = (parts[:, 2:] - parts[:, :2]).prod(axis=1)
                grid = np.zeros((400, 400), np.int64)
                for left, top, right, bottom in (parts + 150).tolist():
                    grid[top:bottom, left:right] += 1
                self.assertEqual(grid.max(), 1)
                self.assertEqual(grid.sum(), size.sum())
                for uvs, which in zip(shared.uvs, shared.region, strict=True):
                    for corners in uvs[which == number]:
                        weights = rng.dirichlet(np.ones(3), 20)
                        x, y = np.floor(weights @ corners * 64).astype(int).T + 150
                        self.assertTrue(grid[y, x].all())

    def test_a_surface_keeps_its_texels_wherever_it_is_moved(self):
        rng = np.random.default_rng(5)
        boxes = [(*rng.uniform(-2, 2, 2), *rng.uniform(0.1, 1.5, 2)) for _ in range(12)]
        shared = share_texels([read(box) for box in boxes], (128, 64))
        for box, uvs in zip(boxes, shared.uvs, strict=True):
            off = uvs.min(axis=(0, 1)) - np.array(box[:2])
            np.testing.assert_allclose(off, np.round(off), atol=1e-9)

    def test_mirrored_halves_share(self):
        half = read((0.2, 0.2, 0.4, 0.4))
        mirrored = Read(half.uvs[:, ::-1], half.piece, half.low, half.high)
        shared = share_texels([half, mirrored], (128, 128))
        self.assertEqual(len(shared.regions), 1)

    def test_against_texels_counted_one_by_one(self):
        """Steps of an outline are at most a 24th of the region, so that little is added to what is read."""
        rng = np.random.default_rng(7)
        for _ in range(10):
            boxes = [(*rng.uniform(0, 0.6, 2), *rng.uniform(0.2, 0.4, 2)) for _ in range(5)]
            shared = share_texels([read(box) for box in boxes], (256, 256))
            texels = set().union(*(covered(region, 256) for region in shared.regions))
            wanted = np.zeros((256, 256), bool)
            for x, y, w, h in boxes:
                left, top = np.floor([x * 256, y * 256]).astype(int)
                right, bottom = np.ceil([(x + w) * 256, (y + h) * 256]).astype(int)
                wanted[top:bottom, left:right] = True
            rows, columns = np.nonzero(wanted)
            self.assertLessEqual(set(zip(columns.tolist(), rows.tolist(), strict=True)), texels)
            self.assertLess(len(texels), 1.2 * wanted.sum() + 2000)


class Paying(unittest.TestCase):
    def test_overlaps_pay_and_what_lies_side_by_side_does_not(self):
        for boxes, pays in (
            ([(0, 0, 0.6, 0.6), (0.1, 0.1, 0.6, 0.6)], True),
            ([(0, 0, 0.45, 1), (0.5, 0, 0.45, 1)], False),
            # twins count once as islands too
            ([(0, 0, 0.6, 0.6), (0, 0, 0.6, 0.6)], False),
        ):
            reads = [read(box) for box in boxes]
            self.assertEqual(sharing_pays(reads, share_texels(reads, (256, 256)), (256, 256)), pays, boxes)

    def test_the_box_of_all_is_on_whole_texels(self):
        region = whole_region([read((0.1, 0.2, 0.3, 0.4)).uvs], (100, 50), 1e-3)
        self.assertEqual(region.box, (10, 10, 40, 30))
        self.assertEqual(region.texels, 600)


if __name__ == "__main__":
    unittest.main()
