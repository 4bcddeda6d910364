"""Traces: valid for viewers of the Trace Event Format, and their stages add up to the time that a command takes."""

import contextlib
import io
import itertools
import json
import tempfile
import time
import unittest
from pathlib import Path

from fasciculum.cli.main import main
from fasciculum.trace import STAGE, TASK, Trace, process_age, span, start_trace, stop_trace
from tests.builders import smooth_image, textured_square


class Traces(unittest.TestCase):
    def setUp(self):
        self.addCleanup(stop_trace)
        self.folder = Path(tempfile.mkdtemp())

    def valid(self, text):
        """Check a trace against the format's fields and return its spans."""
        told = json.loads(text)
        self.assertIsInstance(told["traceEvents"], list)
        for event in told["traceEvents"]:
            self.assertIn(event["ph"], ("X", "M"))
            self.assertIsInstance(event["name"], str)
            self.assertIsInstance(event["pid"], int)
            self.assertIsInstance(event["tid"], int)
            if event["ph"] == "X":
                self.assertGreaterEqual(event["ts"], 0)
                self.assertGreaterEqual(event["dur"], 0)
            else:
                self.assertIsInstance(event["args"]["name"], str)
        return [event for event in told["traceEvents"] if event["ph"] == "X"]

    def test_spans_lie_within_each_other_as_they_were(self):
        trace = start_trace()
        with span("outer", STAGE), span("inner", TASK):
            time.sleep(0.01)
        spans = {event["name"]: event for event in self.valid(trace.text())}
        outer, inner = spans["outer"], spans["inner"]
        self.assertLessEqual(outer["ts"], inner["ts"])
        self.assertGreaterEqual(outer["ts"] + outer["dur"] + 0.2, inner["ts"] + inner["dur"])
        self.assertGreaterEqual(inner["dur"], 10_000)

    def test_what_raises_is_recorded_too(self):
        trace = start_trace()
        with contextlib.suppress(KeyError), span("broken", STAGE):
            raise KeyError
        self.assertIn("broken", [event["name"] for event in self.valid(trace.text())])

    def test_steps_follow_words_and_not_the_figures_in_them(self):
        trace = Trace()
        for words in ("Reading 1 of 3", "Reading 2 of 3", "Packing", ""):
            trace.step(words)
        self.assertEqual([event["name"] for event in self.valid(trace.text())], ["Reading  of", "Packing"])

    def test_nothing_is_recorded_without_one(self):
        with span("lost", STAGE):
            pass
        self.assertNotIn("lost", start_trace().text())

    def test_the_age_of_a_process_grows_with_time(self):
        first = process_age()
        time.sleep(0.03)
        self.assertGreater(process_age(), first)

    def test_the_stages_of_a_command_add_up(self):
        model = textured_square(smooth_image()).write(self.folder / "model.glb")
        file = self.folder / "trace.json"
        began = time.monotonic()
        with contextlib.redirect_stdout(io.StringIO()), contextlib.redirect_stderr(io.StringIO()):
            code = main(["make", model, "--out", str(self.folder / "out"), "--size", "64", "--padding", "2",
                         "--seconds", "0", "--profile", str(file)])  # fmt: skip
        took = time.monotonic() - began
        self.assertEqual(code, 0)
        spans = self.valid(file.read_text())
        stages = [event for event in spans if event["cat"] == STAGE and event["name"] != "start"]
        self.assertTrue({"gather", "lay_out", "bake", "check", "deliver"} <= {event["name"] for event in stages})
        # one after the other, and together nearly all of it
        for one, two in itertools.pairwise(stages):
            self.assertLessEqual(one["ts"] + one["dur"], two["ts"] + 1)
        whole = max(event["ts"] + event["dur"] for event in spans) - stages[0]["ts"]
        self.assertGreater(sum(event["dur"] for event in stages), 0.95 * whole)
        self.assertLess(whole / 1e6, took + 0.01)

    def test_a_place_that_cannot_be_written_is_told_and_the_work_is_done(self):
        model = textured_square(smooth_image()).write(self.folder / "model.glb")
        errors = io.StringIO()
        with contextlib.redirect_stdout(io.StringIO()), contextlib.redirect_stderr(errors):
            code = main(["inspect", model, "--profile", str(self.folder / "none" / "trace.json")])
        self.assertEqual(code, 0)
        self.assertIn("the profile cannot be written", errors.getvalue())


if __name__ == "__main__":
    unittest.main()
