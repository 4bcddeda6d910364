"""What a layout knows of each island: filled in, cut to some islands, grown by others."""

import unittest

import numpy as np

from fasciculum.model.layout import ISLAND_COLUMNS, Layout, Surface


def layout(counts, **columns):
    """A layout of surfaces with so many islands each, one triangle an island."""
    surfaces = tuple(
        Surface(
            (f"object {number}",),
            np.zeros((count, 3, 2)),
            np.arange(count, dtype=np.int32),
            np.zeros(count, np.bool_),
            float(count),
        )
        for number, count in enumerate(counts)
    )
    total = sum(counts)
    placements = np.arange(6.0 * total).reshape(total, 6)
    return Layout(surfaces, placements, 10.0, 64, 32, 2, 1, 2, 1, 0.0, 0.5, "made", **columns)


class Columns(unittest.TestCase):
    def test_what_is_not_said_is_filled_in(self):
        found = layout([2, 1])
        self.assertEqual(found.places.tolist(), [0, 1, 2])
        self.assertEqual(found.fields.tolist(), [-1, -1, -1])
        for name, value in (("pinned", False), ("moved", False), ("shares", 1.0), ("density_scale", 1.0), ("pages", 0)):
            self.assertEqual(getattr(found, name).tolist(), [value] * 3, name)
        for column in ISLAND_COLUMNS:
            array = getattr(found, column.name)
            self.assertEqual((array.dtype, array.shape), (np.dtype(column.dtype), (3,)), column.name)
            self.assertFalse(array.flags.writeable, column.name)

    def test_without_some_objects_the_rows_of_the_others_stay(self):
        rng = np.random.default_rng(0)
        columns = {
            "places": np.array([4, 4, 1, 0, 2], np.int32),
            "pinned": rng.random(5) > 0.5,
            "moved": rng.random(5) > 0.5,
            "shares": rng.random(5),
            "density_scale": rng.random(5),
            "pages": np.array([0, 1, 0, 1, 1], np.int32),
            "fields": np.array([3, -1, 2, 0, 1], np.int32),
        }
        before = layout([2, 1, 2], **columns)
        after = before.without({"object 1"})
        self.assertEqual([surface.objects for surface in after.surfaces], [("object 0",), ("object 2",)])
        stays = [0, 1, 3, 4]
        np.testing.assert_array_equal(after.placements, before.placements[stays])
        for name, values in columns.items():
            np.testing.assert_array_equal(getattr(after, name), values[stays], err_msg=name)
        self.assertIs(before.without({"nobody"}), before)

    def test_more_islands_get_places_behind_those_that_are_taken(self):
        before = layout([2], places=np.array([5, 2], np.int32), pinned=np.array([True, False]))
        rows = np.full((3, 6), 7.0)
        grown = before.with_more_islands(rows)
        self.assertEqual(grown["places"].tolist(), [5, 2, 6, 7, 8])
        self.assertEqual(grown["pinned"].tolist(), [True, False, False, False, False])
        self.assertEqual(grown["density_scale"].tolist(), [1.0] * 5)
        np.testing.assert_array_equal(grown["placements"], np.concatenate([before.placements, rows]))
        self.assertEqual(layout([0]).with_more_islands(rows[:1])["places"].tolist(), [0])

    def test_files_keep_their_names(self):
        self.assertEqual(
            [column.entry for column in ISLAND_COLUMNS],
            ["places", "pinned", "moved", "shares", "squeezed", "pages", "fields"],
        )


if __name__ == "__main__":
    unittest.main()
