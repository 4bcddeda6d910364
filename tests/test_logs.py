"""The log: a file that is begun anew when it is full, levels, faults of the program, records of other processes."""

import contextlib
import io
import logging
import os
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from fasciculum import logs
from fasciculum.cli import verbs
from fasciculum.cli.farm import LocalPool
from fasciculum.cli.main import main
from tests.builders import smooth_image, textured_square

LOG = logging.getLogger("fasciculum.tests.logs")


def say(words):
    LOG.warning(words)


class LogCase(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.file = self.folder / "logs" / "fasciculum.log"
        for place in ("fasciculum.logs.log_file", "fasciculum.cli.farm.log_file", "fasciculum.cli.main.log_file"):
            self.enterContext(mock.patch(place, lambda: self.file))
        self.addCleanup(logs.stop_logging)

    def run_line(self, *words):
        out, err = io.StringIO(), io.StringIO()
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
            code = main(list(map(str, words)))
        return code, err.getvalue()


class Files(LogCase):
    def test_records_from_info_on_are_kept_with_level_and_module(self):
        logs.start_logging()
        LOG.debug("not this")
        LOG.info("a word")
        (line,) = self.file.read_text().splitlines()
        self.assertRegex(line, r"^\d{4}-\d\d-\d\d .* INFO \d+ fasciculum\.tests\.logs: a word$")

    def test_a_full_file_is_begun_anew_and_few_are_kept(self):
        with mock.patch.object(logs, "MOST_BYTES", 4000):
            logs.start_logging()
            for number in range(400):
                LOG.info("line %d of many", number)
        names = sorted(path.name for path in self.file.parent.iterdir())
        self.assertEqual(names, ["fasciculum.log", *(f"fasciculum.log.{n}" for n in range(1, logs.MOST_FILES + 1))])
        self.assertTrue(all(path.stat().st_size <= 4000 for path in self.file.parent.iterdir()))
        self.assertIn("line 399 of many", self.file.read_text())

    def test_a_folder_that_cannot_be_written_stops_nothing(self):
        self.file.parent.write_text("a file where the folder should be")
        logs.start_logging()
        LOG.error("no folder to go to")
        (handler,) = (one for one in logs.ROOT.handlers if isinstance(one, logging.FileHandler))
        self.assertEqual(Path(handler.baseFilename).parent, Path(tempfile.gettempdir()))
        self.assertIn("no folder to go to", Path(handler.baseFilename).read_text())


class Lines(LogCase):
    def setUp(self):
        super().setUp()
        self.model = textured_square(smooth_image(16)).write(self.folder / "m.glb")

    def test_nothing_is_shown_unless_it_is_asked_for(self):
        for words, shown in (
            (("inspect", self.model), False),
            (("-v", "inspect", self.model), True),
            (("inspect", self.model, "-v"), True),
            (("inspect", self.model, "--log-level", "info"), True),
            (("--log-level", "error", "inspect", self.model), False),
        ):
            code, err = self.run_line(*words)
            self.assertEqual((code, "INFO" in err), (0, shown), (words, err))
        self.assertIn("inspect", self.file.read_text())

    def test_a_fault_of_the_program_is_logged_with_where_it_happened(self):
        with mock.patch.object(verbs, "run_verb", side_effect=ZeroDivisionError("made for this")):
            code, err = self.run_line("inspect", self.model)
        self.assertEqual(code, 70)
        text = self.file.read_text()
        self.assertIn("Traceback", text)
        self.assertIn("ZeroDivisionError: made for this", text)
        self.assertIn(f"inspect {self.model}", text)
        self.assertIn("fault of the program", err)

    def test_an_unknown_level_is_wrong_usage(self):
        self.assertEqual(self.run_line("inspect", self.model, "--log-level", "loud")[0], 2)


class Processes(LogCase):
    def test_what_a_process_of_the_pool_logs_is_written_here(self):
        logs.start_logging()
        pool = LocalPool(1)
        try:
            pool.submit(say, "from another process").result(300)
        finally:
            pool.stop()
            pool.close()
        self.assertRegex(self.file.read_text(), rf"WARNING (?!{os.getpid()} )\d+ .*: from another process\n")

    def test_the_place_of_the_file_is_the_users(self):
        code = "from fasciculum.logs import log_file; print(log_file())"
        told = subprocess.run(
            [sys.executable, "-c", code],
            capture_output=True,
            text=True,
            env=os.environ | {"XDG_STATE_HOME": str(self.folder)},
        )
        self.assertEqual(Path(told.stdout.strip()), self.folder / "fasciculum" / "log" / "fasciculum.log")


if __name__ == "__main__":
    unittest.main()
