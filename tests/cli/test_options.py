"""Every setting that has an option: given on the command line, it comes out as it was written."""

import unittest

from fasciculum.cli.arguments import Parser, WrongUsage, parser
from fasciculum.cli.options import with_options
from fasciculum.model.bake_settings import BakeSettings
from fasciculum.model.delivery import DeliverySettings
from fasciculum.model.settings import settings_of
from fasciculum.model.sheet import SheetSettings
from fasciculum.model.unwrapping import UnwrapSettings

HOLDERS = (SheetSettings, UnwrapSettings, BakeSettings, DeliverySettings)
#: options of settings that are read together with others, and have their own tests
TOGETHER = {"--name"}


def parsed(*words):
    return parser(Parser).parse_args(["make", "model.glb", "--out", "out", *words])


class EveryOption(unittest.TestCase):
    def entries(self):
        for holder in HOLDERS:
            for entry in settings_of(holder):
                if entry.setting.option and entry.setting.option not in TOGETHER:
                    yield holder, entry

    def words(self, entry):
        """Yield words for an option and the value that they stand for."""
        told = entry.setting
        if entry.type is bool:
            if entry.default:
                yield [f"--no-{told.option[2:]}"], False
            yield [told.option], True
            return
        for value in entry.choices:
            yield [told.option, str(value)], value
        if entry.choices or entry.type is str:
            return
        low = told.low if told.low is not None else 0
        high = told.high if told.high is not None else 1e6
        for value in (low, high, low + (high - low) * 0.25):
            value = entry.type(value)
            yield [told.option, repr(value)], value

    def test_each_value_comes_out_as_it_was_written(self):
        count = 0
        for holder, entry in self.entries():
            for words, value in self.words(entry):
                count += 1
                result = getattr(with_options(parsed(*words), holder()), entry.name)
                self.assertEqual(result, value, words)
        self.assertGreater(count, 120)

    def test_without_options_everything_is_at_its_default(self):
        for holder in HOLDERS:
            self.assertEqual(with_options(parsed(), holder()), holder())

    def test_one_option_changes_nothing_else(self):
        for holder, entry in self.entries():
            words, _ = list(self.words(entry))[-1] if entry.type is not str else (None, None)
            if words is None:
                continue
            changed = with_options(parsed(*words), holder())
            for other in settings_of(holder):
                if other.name != entry.name:
                    self.assertEqual(getattr(changed, other.name), other.default, (words, other.name))

    def refused(self, *words):
        with self.assertRaises(SystemExit) as caught:
            parsed(*words)
        self.assertIsInstance(caught.exception, WrongUsage)
        self.assertEqual(caught.exception.code, 2)
        return caught.exception.message

    def test_numbers_beyond_their_limits_are_refused_with_the_option_s_name(self):
        import contextlib
        import io

        with contextlib.redirect_stderr(io.StringIO()):
            for _, entry in self.entries():
                told = entry.setting
                if entry.type not in (int, float) or entry.choices:
                    continue
                for limit, beyond in ((told.low, -1), (told.high, 1)):
                    if limit is not None:
                        # an unsigned word: argparse takes what begins with a dash for an option
                        message = self.refused(f"{told.option}={entry.type(limit + beyond * max(abs(limit), 1))}")
                        self.assertIn(told.option, message)
                self.assertIn(told.option, self.refused(f"{told.option}=many"))
                self.assertIn(told.option, self.refused(f"{told.option}=nan"))

    def test_words_that_are_no_choice_are_refused(self):
        import contextlib
        import io

        with contextlib.redirect_stderr(io.StringIO()):
            for _, entry in self.entries():
                if entry.choices:
                    self.assertIn(entry.setting.option, self.refused(f"{entry.setting.option}=zebra"))

    def test_options_are_not_shortened(self):
        import contextlib
        import io

        with contextlib.redirect_stderr(io.StringIO()):
            self.refused("--padd", "4")


if __name__ == "__main__":
    unittest.main()
