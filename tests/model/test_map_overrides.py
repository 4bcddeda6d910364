"""Settings of single maps and packed files as text: there and back, and what is refused."""

import unittest

from fasciculum.errors import UsageError
from fasciculum.model.choices import ColorSpace
from fasciculum.model.map_overrides import (
    ALL_THE_WAY,
    BLOCKS,
    Cell,
    ChannelFile,
    MapOverride,
    is_alpha,
    judge_depth,
    judge_pattern,
    read_channels,
    read_wish,
)
from fasciculum.model.texturing import LightFigures


class Wishes(unittest.TestCase):
    def test_every_setting_is_read_and_written_again(self):
        for text, expected in {
            "normal:size=1/2,bits=16": MapOverride("normal", size="1/2", bits=16),
            "orm:size=512x256": MapOverride("orm", size="512x256"),
            "ao:samples=16,bleed=full": MapOverride("ao", samples=16, bleed=ALL_THE_WAY),
            "height:bits=32,format=exr": MapOverride("height", bits=32, format="exr"),
            "base_color:pattern={map}_x": MapOverride("base_color", pattern="{map}_x"),
            "orm:block=bc7,toksvig=yes": MapOverride("orm", block="bc7", toksvig="yes"),
            "ao": MapOverride("ao"),
        }.items():
            with self.subTest(text):
                wish = read_wish(text)
                self.assertEqual(wish, expected)
                self.assertEqual(read_wish(wish.text) if wish.text else MapOverride(wish.name), wish)
        self.assertEqual(read_wish("ao:bleed=0").bleed, 0)
        self.assertEqual(read_wish("ao:size=1/1").size, "")
        self.assertEqual(read_wish("orm:toksvig=no").toksvig, "")

    def test_what_makes_no_sense_is_refused_with_what_would(self):
        for text, hint in {
            "sparkle:bits=8": "The nearest are",
            "normal:depth=8": "bits",
            "normal:bits": "bits",
            "normal:bits=12": "one of these",
            "normal:size=3": "px",
            "normal:size=1/3": "px",
            "normal:size=32768": "px",
            "normal:format=gif": "png",
            "normal:bleed=-1": "full",
            "normal:bleed=123456": "full",
            "normal:samples=2": "one of these",
            "normal:block=bc2": "bc7",
            "normal:toksvig=yes": "orm",
            "orm:toksvig=perhaps": "toksvig=no",
            "normal:bits=32,format=png": "EXR",
        }.items():
            with self.subTest(text), self.assertRaises(UsageError) as caught:
                read_wish(text)
            self.assertIn(hint, str(caught.exception))
        for name in BLOCKS:
            self.assertEqual(read_wish(f"normal:block={name.upper()}").block, name)

    def test_only_files_that_hold_them_take_many_bits(self):
        allowed = {("png", 8), ("png", 16), ("tga", 8), ("exr", 16), ("exr", 32), ("exr", 8), ("webp", 8)}
        for form in ("png", "webp", "tga", "exr"):
            for bits in (8, 16, 32):
                with self.subTest(form=form, bits=bits):
                    if (form, bits) in allowed:
                        judge_depth(bits, form, "map")
                    else:
                        with self.assertRaises(UsageError):
                            judge_depth(bits, form, "map")

    def test_a_size_is_a_part_of_the_sheet_or_stands_for_itself(self):
        for size, expected in {
            "": (200, 100),
            "1/4": (50, 25),
            "1/32": (6, 4),
            "64": (64, 64),
            "64x32": (64, 32),
        }.items():
            self.assertEqual(MapOverride("ao", size=size).size_on(200, 100), expected)

    def test_patterns_give_every_map_a_name_of_its_own(self):
        self.assertEqual(judge_pattern("{bundle}-{map}"), "{bundle}-{map}")
        for pattern in (
            "{name}",
            "{map}/{name}",
            "{map}\\x",
            "{nobody}_{map}",
            "{map",
            "{map}" + "x" * 120,
            "{0}{map}",
        ):
            with self.subTest(pattern), self.assertRaises(UsageError):
                judge_pattern(pattern)


class Channels(unittest.TestCase):
    def test_files_are_read_and_written_again(self):
        file = read_channels("mask=metallic,1-roughness,,0.5")
        self.assertEqual(file.cells[0], Cell("metallic"))
        self.assertEqual(file.cells[1], Cell("roughness", inverted=True))
        self.assertEqual(file.cells[2:], (Cell(value=0.0), Cell(value=0.5)))
        self.assertEqual(file.text, "mask=metallic,1-roughness,0,0.5")
        self.assertEqual(read_channels(file.text), file)
        self.assertEqual(file.maps, ("metallic", "roughness"))
        self.assertEqual(read_channels("x=normal.g,normal.r").maps, ("normal",))

    def test_a_file_is_srgb_only_where_all_its_colours_are(self):
        for text, space in {
            "a=base_color.r,base_color.g,base_color.b": ColorSpace.SRGB,
            "a=base_color.r,base_color.g,base_color.b,opacity": ColorSpace.SRGB,
            "a=base_color.r,roughness": ColorSpace.LINEAR,
            "a=base_color.r,base_color.a": ColorSpace.LINEAR,
            "a=metallic": ColorSpace.LINEAR,
        }.items():
            self.assertIs(read_channels(text).color_space, space, text)
        self.assertTrue(is_alpha(Cell("base_color", 3)))
        self.assertFalse(is_alpha(Cell("", 3)))

    def test_what_makes_no_sense_is_refused(self):
        for text in (
            "mask",
            "=metallic",
            "a b=metallic",
            "m=",
            "m=,,",
            "m=1,1,1,1,1",
            "m=2",
            "m=nothing",
            "m=metallic.g",
        ):
            with self.subTest(text), self.assertRaises(UsageError):
                read_channels(text)
        self.assertIsInstance(read_channels("m=1"), ChannelFile)


class Stops(unittest.TestCase):
    def test_light_is_brought_to_one_unless_it_is_told(self):
        self.assertEqual(LightFigures(bright=8.0).stops(None), -3)
        self.assertEqual(LightFigures(bright=8.0).stops(1.5), 1.5)
        self.assertEqual(LightFigures(bright=8.0).stops(0.0), 0.0)
        self.assertEqual(LightFigures(bright=0.5).stops(None), 1)
        self.assertEqual(LightFigures(bright=0.0).stops(None), 0)
