"""What is declared of settings, and that everything that follows from it agrees."""

import argparse
import contextlib
import io
import unittest
from dataclasses import dataclass, replace

from fasciculum.cli.options import add_settings, with_options
from fasciculum.model import choices
from fasciculum.model.bake_settings import BakeSettings
from fasciculum.model.choices import Choice, Grows, Turns
from fasciculum.model.delivery import DeliverySettings
from fasciculum.model.digests import digest_of
from fasciculum.model.settings import Stales, declared, rules_of, setting, settings_of
from fasciculum.model.sheet import SheetSettings
from fasciculum.model.unwrapping import UnwrapSettings
from fasciculum.project.codec import decoded, encoded

HOLDERS = (SheetSettings, UnwrapSettings, BakeSettings, DeliverySettings)
EVERY = [(holder, entry) for holder in HOLDERS for entry in settings_of(holder)]


def parse(holder, *words):
    """Return settings by options, None when they are refused."""
    parser = argparse.ArgumentParser()
    add_settings(parser, holder)
    with contextlib.redirect_stderr(io.StringIO()):
        try:
            return with_options(parser.parse_args(words), holder())
        except SystemExit:
            return None


class Declarations(unittest.TestCase):
    def test_each_says_what_it_is_and_may_be_what_it_is_at_first(self):
        for holder, entry in EVERY:
            with self.subTest(f"{holder.__name__}.{entry.name}"):
                told = entry.setting
                self.assertTrue(told.label and told.tip.endswith("."), told.tip)
                self.assertTrue(entry.allows(entry.default))
                self.assertIs(type(told.stales), Stales)
                if entry.choices:
                    self.assertLessEqual(set(entry.choices), set(told.words), "a choice without a word")

    def test_labels_and_options_stand_once(self):
        options = [entry.setting.option for _, entry in EVERY if entry.setting.option]
        self.assertEqual(len(options), len(set(options)))
        for holder in HOLDERS:
            labels = [entry.setting.label for entry in settings_of(holder)]
            self.assertEqual(len(labels), len(set(labels)), holder)

    def test_limits_hold_on_the_command_line_and_in_files_alike(self):
        for holder, entry in EVERY:
            low, high = entry.setting.low, entry.setting.high
            if entry.choices or entry.type not in (int, float) or low is None or high is None:
                continue
            with self.subTest(f"{holder.__name__}.{entry.name}"):
                for value, fine in ((low, True), (high, True), (low - 1, False), (high + 1, False)):
                    value = entry.type(value)
                    told = []
                    read = decoded(holder, {entry.name: value}, told.append)
                    self.assertEqual(getattr(read, entry.name), value if fine else entry.default)
                    self.assertEqual(bool(told), not fine)
                    if entry.setting.option:
                        result = parse(holder, f"{entry.setting.option}={value}")
                        self.assertEqual(result is not None, fine, value)
                        if result is not None:
                            self.assertEqual(getattr(result, entry.name), value)

    def test_choices_hold_on_the_command_line_and_in_files_alike(self):
        for holder, entry in EVERY:
            for value in entry.choices:
                self.assertEqual(getattr(decoded(holder, {entry.name: value}, self.fail), entry.name), value)
                if entry.setting.option:
                    result = getattr(parse(holder, entry.setting.option, str(value)), entry.name)
                    self.assertEqual((result, type(result)), (value, type(value)))
            if entry.choices:
                told = []
                read = decoded(holder, {entry.name: "sideways"}, told.append)
                self.assertEqual((getattr(read, entry.name), len(told)), (entry.default, 1))
                if entry.setting.option:
                    self.assertIsNone(parse(holder, entry.setting.option, "sideways"))

    def test_written_and_read_again(self):
        sheet = SheetSettings(512, 256, padding=3, turns=Turns.ANY, wanted=200.0, grows=Grows.TILES)
        self.assertEqual(decoded(SheetSettings, encoded(sheet), self.fail), sheet)
        for odd in (7, None, ["padding"], "x"):
            told = []
            self.assertEqual(decoded(SheetSettings, odd, told.append), SheetSettings())
            self.assertEqual(len(told), 1)

    def test_what_is_not_a_number_at_all_is_refused(self):
        for word in ("nan", "inf", "-inf", "1e400", "seven"):
            self.assertIsNone(parse(SheetSettings, f"--seconds={word}"), word)


class Rules(unittest.TestCase):
    def test_a_layout_is_told_by_what_it_is_made_by_and_nothing_else(self):
        base = list(rules_of(SheetSettings()))
        others = {"padding": 3, "turns": Turns.NONE, "width": 64, "twins": False}
        for name, value in others.items():
            self.assertNotEqual(list(rules_of(replace(SheetSettings(), **{name: value}))), base, name)
        # where a wanted density decides the size, the size that is set has no effect
        wanted = replace(SheetSettings(), wanted=200.0, grows=Grows.SIZE)
        self.assertEqual(list(rules_of(wanted)), list(rules_of(replace(wanted, width=64))))

    def test_a_setting_that_came_later_leaves_old_layouts_in_order(self):
        @dataclass(frozen=True)
        class Before:
            padding: int = setting(8, "Padding", "…", stales=Stales.LAYOUT, first=True)

        @dataclass(frozen=True)
        class After(Before):
            weave: float = setting(0.0, "Weave", "…", stales=Stales.LAYOUT)
            hue: float = setting(0.0, "Hue", "…", stales=Stales.MAPS)

        self.assertEqual(list(rules_of(After())), list(rules_of(Before())))
        self.assertEqual(list(rules_of(After(hue=1.0))), list(rules_of(Before())))
        self.assertNotEqual(list(rules_of(After(weave=1.0))), list(rules_of(Before())))

    def test_one_that_is_not_there(self):
        with self.assertRaises(KeyError):
            declared(SheetSettings, "nothing")


class Words(unittest.TestCase):
    def test_choices_are_the_words_that_files_hold(self):
        for kind in vars(choices).values():
            if isinstance(kind, type) and issubclass(kind, Choice) and kind is not Choice:
                for value in kind:
                    self.assertEqual((str(value), repr(value), f"{value}"), (value.value, repr(value.value), value))
                    self.assertEqual(digest_of(value), digest_of(value.value))


if __name__ == "__main__":
    unittest.main()
