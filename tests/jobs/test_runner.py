"""The worker process: results, progress, cancel, death, errors."""

import logging
import os
import pickle
import signal
import tempfile
import time
import unittest
from pathlib import Path
from unittest import mock

import numpy as np

from fasciculum.errors import MalformedFile, OutputError, WorkerLost
from fasciculum.jobs.payload import read_payload, write_payload
from fasciculum.jobs.runner import CANCELLED, DONE, FAILED, RUNNING, InlineRunner, QueueEntry, Runner
from fasciculum.progress import SILENT, Cancelled, Progress


def logging_one(words, *, progress):
    logging.getLogger("fasciculum.tests").warning("said in the worker: %s", words)


def double(values, *, progress=SILENT):
    progress.update(0.5, "half way")
    return values * 2


def polite(*, progress=SILENT):
    while True:
        time.sleep(0.01)
        progress.update(0.3, "waiting")


def deaf(*, progress=SILENT):
    time.sleep(60)


def complain(*, progress=SILENT):
    raise MalformedFile("the header is wrong.", file="a.glb", item="chunk 2", hint="Export it again.")


def niceness(*, progress=SILENT):
    return os.nice(0)


def crash(*, progress=SILENT):
    return 1 // 0


def whose(*, progress=SILENT):
    return os.getpid()


class Worker(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.runner = Runner(Path(tempfile.mkdtemp()), ["numpy"])

    @classmethod
    def tearDownClass(cls):
        cls.runner.close()

    def wait(self, condition, seconds=300.0):
        until = time.monotonic() + seconds
        while not condition():
            self.assertLess(time.monotonic(), until, "nothing came")
            self.runner.poll()
            time.sleep(0.005)

    def test_values_come_back_read_only(self):
        results = []
        values = np.arange(200_000, dtype=np.float32)
        job = self.runner.submit("double", double, values, finished=results.append)
        self.wait(lambda: job.over)
        self.assertEqual(job.state, DONE)
        np.testing.assert_array_equal(results[0], values * 2)
        self.assertFalse(results[0].flags.writeable)
        self.assertEqual(list(self.runner.scratch.iterdir()), [])

    def test_jobs_run_in_turn(self):
        order = []
        jobs = [
            self.runner.submit(str(n), double, np.array([n]), finished=lambda v: order.append(int(v[0])))
            for n in range(5)
        ]
        self.wait(lambda: all(job.over for job in jobs))
        self.assertEqual(order, [0, 2, 4, 6, 8])

    def test_a_polite_job_stops_and_the_worker_stays(self):
        first = []
        job = self.runner.submit("who", whose, finished=first.append)
        self.wait(lambda: job.over)
        job = self.runner.submit("polite", polite)
        self.wait(lambda: job.fraction > 0)
        self.runner.cancel(job)
        self.wait(lambda: job.over)
        self.assertEqual(job.state, CANCELLED)
        job = self.runner.submit("who", whose, finished=first.append)
        self.wait(lambda: job.over)
        self.assertEqual(first[0], first[1])

    def test_a_deaf_job_is_ended_and_work_goes_on(self):
        job = self.runner.submit("deaf", deaf)
        after = self.runner.submit("after", double, np.ones(1))
        self.wait(lambda: job.state != "waiting")
        self.runner.cancel(job)
        # it would sleep for a minute
        self.wait(lambda: job.over)
        self.assertEqual(job.state, CANCELLED)
        self.wait(lambda: after.over)
        self.assertEqual(after.state, DONE)

    def test_a_killed_worker_is_told_and_replaced(self):
        job = self.runner.submit("deaf", deaf)
        self.wait(lambda: job.state == "running")
        os.kill(self.runner.process.pid, signal.SIGKILL)
        self.wait(lambda: job.over)
        self.assertEqual(job.state, FAILED)
        self.assertIsInstance(job.error, WorkerLost)
        self.assertIn("signal 9", str(job.error))
        job = self.runner.submit("double", double, np.ones(1))
        self.wait(lambda: job.over)
        self.assertEqual(job.state, DONE)

    def test_errors_keep_their_kind_and_fields(self):
        job = self.runner.submit("complain", complain)
        self.wait(lambda: job.over)
        self.assertIsInstance(job.error, MalformedFile)
        self.assertEqual((job.error.file, job.error.item, job.error.hint), ("a.glb", "chunk 2", "Export it again."))

    def test_a_crash_brings_its_traceback(self):
        job = self.runner.submit("crash", crash)
        self.wait(lambda: job.over)
        self.assertEqual(job.error.code, "crash")
        self.assertIn("ZeroDivisionError", job.error.message)

    def test_a_result_that_cannot_be_written_does_not_end_the_worker(self):
        def refuse(_):
            raise OutputError("the folder cannot be written.", file="x.json")

        process = self.runner.process
        job = self.runner.submit("double", double, np.ones(1), finished=refuse)
        with self.assertRaises(OutputError):
            self.wait(lambda: job.over)
        self.assertEqual(job.state, DONE)
        after = self.runner.submit("after", double, np.ones(1))
        self.wait(lambda: after.over)
        self.assertEqual(after.state, DONE)
        self.assertIs(self.runner.process, process)

    def test_arguments_that_cannot_be_handed_over_fail_and_hold_up_nothing(self):
        job = self.runner.submit("a lambda", double, lambda: 0)
        after = self.runner.submit("after", double, np.ones(1))
        self.wait(lambda: after.over)
        self.assertEqual((job.state, job.error.code, after.state), (FAILED, "crash", DONE))

    def test_what_is_over_is_forgotten_in_the_end(self):
        with mock.patch("fasciculum.jobs.runner.MOST_REMEMBERED", 3):
            jobs = [self.runner.submit(str(n), double, np.ones(1), finished=lambda _: None) for n in range(6)]
            self.wait(lambda: all(job.over for job in jobs))
        self.assertEqual(self.runner.jobs, jobs[3:])
        self.assertEqual({job.finished for job in jobs}, {None})

    def test_what_the_worker_logs_is_logged_here(self):
        with self.assertLogs("fasciculum.tests", "WARNING") as caught:
            job = self.runner.submit("logging", logging_one, "a word")
            self.wait(lambda: job.over)
        self.assertEqual([record.getMessage() for record in caught.records], ["said in the worker: a word"])
        self.assertNotEqual(caught.records[0].process, os.getpid())

    def test_the_worker_stands_back_by_ten(self):
        results = []
        job = self.runner.submit("nice", niceness, finished=results.append)
        self.wait(lambda: job.over)
        self.assertEqual(results, [max(os.nice(0), 10)])

    def test_waiting_jobs_are_cancelled_at_once(self):
        first = self.runner.submit("polite", polite)
        second = self.runner.submit("second", double, np.ones(1))
        self.runner.cancel(second)
        self.assertEqual(second.state, CANCELLED)
        self.wait(lambda: first.state == "running")
        self.runner.cancel(first)
        self.wait(lambda: first.over)


class TimeLeft(unittest.TestCase):
    """The estimate goes by how fast the work went of late."""

    def job(self, progress, until, step=0.5):
        job = QueueEntry(1, "bake", "f", (), {}, state=RUNNING)
        for tick in range(int(until / step) + 1):
            job.fraction = progress(tick * step)
            job.mark(tick * step)
        return job

    def test_even_work(self):
        self.assertAlmostEqual(self.job(lambda t: t / 100, 30).seconds_left(30), 70, delta=2)

    def test_a_slow_beginning_does_not_count_for_ever(self):
        def progress(t):
            return 0.0005 * t if t < 100 else 0.05 + 0.03 * (t - 100)

        # by all that it took so far it would take minutes more
        left = self.job(progress, 125).seconds_left(125)
        self.assertAlmostEqual(left, (1 - progress(125)) / 0.03, delta=2)

    def test_nothing_is_said_without_anything_to_go_by(self):
        self.assertIsNone(self.job(lambda t: 0.0, 60).seconds_left(60))
        self.assertIsNone(self.job(lambda t: t / 100, 1).seconds_left(1))
        job = self.job(lambda t: t / 100, 30)
        job.state = DONE
        self.assertIsNone(job.seconds_left(30))

    def test_marks_are_few(self):
        self.assertLessEqual(len(self.job(lambda t: t / 1000, 500, step=0.05).marks), 66)


class Pieces(unittest.TestCase):
    def test_payloads_carry_nested_arrays(self):
        path = Path(tempfile.mkdtemp()) / "p"
        value = {"a": (np.arange(5), "words"), "b": [np.zeros((0, 3)), None, np.ones((2, 2), np.uint8)]}
        write_payload(value, path)
        result = read_payload(path)
        np.testing.assert_array_equal(result["a"][0], value["a"][0])
        np.testing.assert_array_equal(result["b"][2], value["b"][2])
        self.assertEqual(result["b"][0].shape, (0, 3))
        self.assertFalse(path.exists())

    def test_errors_survive_pickling(self):
        error = pickle.loads(pickle.dumps(MalformedFile("m", file="f", item="i", hint="h")))
        self.assertEqual(
            (type(error), error.message, error.file, error.item, error.hint), (MalformedFile, "m", "f", "i", "h")
        )

    def test_inline(self):
        results = []
        InlineRunner().submit("double", double, np.ones(2), finished=results.append)
        np.testing.assert_array_equal(results[0], [2, 2])
        with self.assertRaises(Cancelled):
            InlineRunner(Progress(cancelled=lambda: True)).submit("double", double, np.ones(2))

    def test_parts_of_progress(self):
        seen = []
        whole = Progress(lambda fraction, words: seen.append(round(fraction, 3)))
        whole.part(0.2, 0.6).part(0.5, 1.0).update(0.5)
        self.assertEqual(seen, [0.5])


class Processes(unittest.TestCase):
    def test_who_is_there(self):
        import os
        import subprocess
        import sys

        from fasciculum.jobs.processes import alive

        self.assertTrue(alive(os.getpid()))
        other = subprocess.Popen([sys.executable, "-c", ""])
        other.wait()
        self.assertFalse(alive(other.pid))
        self.assertFalse(alive(10**30))


if __name__ == "__main__":
    unittest.main()
