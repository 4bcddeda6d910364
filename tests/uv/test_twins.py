"""Twins: alike after any turn, mirroring, scaling and in any order; apart with one difference."""

import unittest

import numpy as np

from fasciculum.uv.twins import Candidate, find_twins


def blob(rng, count=9):
    """An irregular fan, with UVs of its own and one colour."""
    angles = np.sort(rng.uniform(0, 2 * np.pi, count))
    rim = np.column_stack([np.cos(angles), np.sin(angles)]) * rng.uniform(0.5, 1.5, (count, 1))
    corners = np.stack([np.zeros((count, 2)), rim, np.roll(rim, -1, axis=0)], axis=1)
    content = np.concatenate([corners * 0.1 + 0.3, np.full((count, 3, 4), 0.5)], axis=2)
    return corners, content


def candidate(corners, content, material=0, **more):
    return Candidate(corners, content, np.full(len(corners), material, np.int64), 2, **more)


def copy_of(rng, corners, content, *, mirror=False, scale=1.0, repeats=(0, 0)):
    """The same island elsewhere: turned, scaled, its triangles and corners in another order."""
    angle = rng.uniform(0, 2 * np.pi)
    matrix = np.array([[np.cos(angle), -np.sin(angle)], [np.sin(angle), np.cos(angle)]]) * scale
    if mirror:
        matrix = matrix @ np.diag([-1.0, 1.0])
    present = corners @ matrix.T + rng.uniform(-5, 5, 2)
    read = content.copy()
    read[..., :2] += repeats
    order = rng.permutation(len(corners))
    present, read = present[order], read[order]
    for t in range(len(present)):
        turn = rng.permutation(3)
        present[t], read[t] = present[t][turn], read[t][turn]
    return present, read


class Finding(unittest.TestCase):
    def setUp(self):
        self.rng = np.random.default_rng(11)

    def test_copies_of_twelve_parts_are_twelve(self):
        parts = [blob(self.rng, int(self.rng.integers(3, 14))) for _ in range(12)]
        islands = [candidate(*part) for part in parts]
        for number in range(78):
            corners, content = parts[number % 12]
            moved = copy_of(
                self.rng,
                corners,
                content,
                mirror=bool(self.rng.integers(2)),
                scale=float(self.rng.uniform(0.3, 4)),
                repeats=tuple(self.rng.integers(-3, 4, 2)),
            )
            islands.append(candidate(*moved))
        twins = find_twins(islands)
        self.assertEqual(twins.places, 12)
        for index, (leader, row) in enumerate(zip(twins.leader, twins.maps, strict=True)):
            matrix = row.reshape(2, 3)
            present = islands[index].corners.reshape(-1, 2) @ matrix[:, :2].T + matrix[:, 2]
            self.assertEqual(index % 12, leader % 12)
            # every corner falls on one of the leader's
            home = islands[leader].corners.reshape(-1, 2)
            near = np.abs(present[:, None] - home[None]).max(axis=2).min(axis=1)
            self.assertLess(near.max(), 1e-5 * np.ptp(home))

    def test_one_difference_keeps_apart(self):
        corners, content = blob(self.rng)
        other = content.copy()
        other[3, 1, 0] += 0.01
        tinted = content.copy()
        tinted[0, 0, 2] = 0.6
        bent = corners.copy()
        bent[2, 1] *= 1.01
        half = content.copy()
        half[..., 0] += 0.5
        islands = [
            candidate(corners, content),
            candidate(corners, other),
            candidate(corners, tinted),
            candidate(bent, content),
            candidate(corners, half),
            candidate(corners, content, material=1),
        ]
        self.assertEqual(find_twins(islands).places, len(islands))

    def test_rules_keep_objects_apart(self):
        corners, content = blob(self.rng)
        mirrored = copy_of(self.rng, corners, content, mirror=True)
        turned = copy_of(self.rng, corners, content)
        for rule, places in (("together", 1), ("unmirrored", 2), ("apart", 3)):
            islands = [candidate(corners, content), candidate(*mirrored, rule=rule), candidate(*turned, rule=rule)]
            self.assertEqual(find_twins(islands).places, places, rule)

    def test_many_are_found_soon(self):
        corners, content = blob(self.rng, 5)
        islands = [candidate(*copy_of(self.rng, corners, content)) for _ in range(1500)]
        self.assertEqual(find_twins(islands).places, 1)


if __name__ == "__main__":
    unittest.main()
