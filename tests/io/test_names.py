"""Names of files and objects: safe on every system, never taken twice, whatever artists call things."""

import random
import re
import unittest

from fasciculum.io.names import RESERVED, file_name, unused_file
from fasciculum.io.objects import plain_name, unique_name

#: letters that make trouble somewhere
LETTERS = "aZ09 .-_/\\:*?\"<>|\n\t\0äßñ漢🚡é̀\u2028\ud800~$%&'()+,;=@[]^`{}"


def random_name(chance):
    return "".join(chance.choice(LETTERS) for _ in range(chance.randrange(0, 120)))


class Files(unittest.TestCase):
    def test_every_name_is_one_that_every_system_takes(self):
        chance = random.Random(1)
        for _ in range(3000):
            name = file_name(random_name(chance))
            self.assertRegex(name, r"\A[A-Za-z0-9._-]{1,81}\Z")
            self.assertFalse(name.startswith((".", "-")), name)
            self.assertNotIn(name.lower().split(".")[0], RESERVED)

    def test_plain_names_stay_what_they_are(self):
        for name in ("station", "Hut_door-2", "a.b", "x" * 80):
            self.assertEqual(file_name(name), name)
        self.assertEqual(file_name("Hütte mit Tür"), "Hutte_mit_Tur")
        self.assertEqual([file_name(name) for name in ("", "...", "漢")], ["untitled"] * 3)
        self.assertEqual([file_name(name) for name in ("CON", "nul.png", "com1")], ["CON_", "nul.png_", "com1_"])

    def test_no_two_files_differ_by_case_alone(self):
        chance = random.Random(2)
        for _ in range(30):
            taken, result = set(), []
            for _ in range(60):
                wanted = chance.choice(["Board", "board", "BOARD", "Tür", "Tur", random_name(chance)])
                result.append(unused_file(wanted, taken, chance.choice([".png", ".glb"])))
            self.assertEqual(len({name.lower() for name in result}), len(result))
            self.assertEqual({name.lower() for name in result}, taken)

    def test_numbers_begin_at_two(self):
        taken = set()
        names = [unused_file(wanted, taken, ".png") for wanted in ("board", "Board", "board")]
        self.assertEqual(names, ["board.png", "Board_2.png", "board_3.png"])


class Objects(unittest.TestCase):
    def test_names_are_one_line_without_controls(self):
        chance = random.Random(3)
        for _ in range(2000):
            name = plain_name(random_name(chance))
            self.assertTrue(name and name == name.strip())
            self.assertIsNone(re.search(r"[\x00-\x1f\x7f\u2028\u2029\ud800-\udfff]", name))
        self.assertEqual(plain_name(" \n\t"), "unnamed")
        self.assertEqual(plain_name("Roof\npost"), "Roof post")
        self.assertEqual(plain_name("漢字 🚡"), "漢字 🚡")

    def test_each_gets_a_name_of_its_own(self):
        chance = random.Random(4)
        for remembered in (None, {}):
            taken = set()
            for _ in range(400):
                name = unique_name(chance.choice(["post", "post 2", "post 3", "beam"]), taken, remembered)
                self.assertNotIn(name, taken)
                taken.add(name)

    def test_remembering_where_the_counting_stands_changes_no_name(self):
        chance = random.Random(5)
        wanted = [chance.choice(["post", "post 2", "beam"]) for _ in range(300)]
        plain, counted, numbers = set(), set(), {}
        for name in wanted:
            one, two = unique_name(name, plain), unique_name(name, counted, numbers)
            self.assertEqual(one, two)
            plain.add(one)
            counted.add(two)


if __name__ == "__main__":
    unittest.main()
