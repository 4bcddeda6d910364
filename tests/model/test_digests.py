"""Digests: what is written of a value, and that renaming changes nothing of it."""

import unittest
from dataclasses import dataclass, field, replace

from fasciculum.model.choices import Turns
from fasciculum.model.digests import digest_of, digest_text
from fasciculum.model.lighting import Lamp, LampKind, Lighting, Sky
from fasciculum.model.sheet import SheetSettings


@dataclass(frozen=True)
class Before:
    size: int = 1
    parts: tuple = ()


@dataclass(frozen=True)
class After:
    DIGEST_NAME = "Before"

    extent: int = field(default=1, metadata={"digest": "size"})
    parts: tuple = ()


class DigestText(unittest.TestCase):
    def test_it_is_what_python_writes_as_long_as_nothing_is_renamed(self):
        for value in (
            Before(2, (Before(), 1.5, "x")),
            replace(SheetSettings(), turns=Turns.ANY),
            Lighting(Sky(), (Lamp(key="a", kind=LampKind.SUN),)),
            ((1,), [2.0, None], {"a": Before()}, True),
            (),
        ):
            self.assertEqual(digest_text(value), repr(value))

    def test_renamed_classes_and_fields_are_written_under_their_old_names(self):
        self.assertEqual(digest_text(After(3, (After(),))), repr(Before(3, (Before(),))))

    def test_parts_do_not_run_into_each_other(self):
        self.assertNotEqual(digest_of("ab", "c"), digest_of("a", "bc"))


if __name__ == "__main__":
    unittest.main()
