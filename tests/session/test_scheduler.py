"""Tasks: what waits for what, what becomes of results, and that a renamed bundle still gets its own."""

import unittest
from dataclasses import replace

from fasciculum.model.document import Document
from fasciculum.session import commands
from fasciculum.session.scheduler import Scheduler
from fasciculum.session.tasks import Kind, Task, pack_task
from tests.documents import bare_layout
from tests.session.test_session import scene


class Hand:
    """A piece of work that is over when a test says so."""

    def __init__(self, title, finished):
        self.title, self.finished, self.over, self.stopped = title, finished, False, False
        self.state = "running"

    def end(self, value=None):
        self.over, self.state = True, "done"
        self.finished(value)


class ByHand:
    """Keeps what is handed over."""

    def __init__(self):
        self.jobs = []

    def submit(self, title, function, *arguments, finished=None, about=(), **keywords):
        self.jobs.append(Hand(title, finished))
        return self.jobs[-1]

    def cancel(self, job):
        job.over = job.stopped = True
        job.state = "cancelled"

    @property
    def open(self):
        return [job.title for job in self.jobs if not job.over]


class Holder:
    def __init__(self, document):
        self.document, self.steps = document, []

    def apply(self, label, document):
        self.steps.append(label)
        self.document = document

    def amend(self, change):
        self.document = change(self.document)


def task(kind, bundle="One", title="", part="", **more):
    return Task(kind, title or f"{kind} {bundle}", print, bundle=bundle, part=part, **more)


class SchedulerCase(unittest.TestCase):
    def setUp(self):
        self.document = commands.add_bundle(Document(scene=scene()), "One", ["n0", "n1"])
        self.holder, self.transport, self.said = Holder(self.document), ByHand(), []
        self.scheduler = Scheduler(self.holder, self.transport, self.said.append)


class Waiting(SchedulerCase):
    def test_the_same_task_is_not_handed_over_twice(self):
        self.assertIsNotNone(self.scheduler.submit(task(Kind.BAKE)))
        self.assertIsNone(self.scheduler.submit(task(Kind.BAKE)))
        self.assertIsNotNone(self.scheduler.submit(task(Kind.BAKE, part="normal")))
        self.assertIsNotNone(self.scheduler.submit(task(Kind.BAKE, bundle="Two")))
        self.transport.jobs[0].end()
        self.assertIsNotNone(self.scheduler.submit(task(Kind.BAKE)))

    def test_what_needs_another_begins_when_that_is_over(self):
        self.scheduler.submit(task(Kind.PACK))
        asked = []

        def make():
            asked.append(True)
            return task(Kind.BAKE)

        self.scheduler.want(Kind.BAKE, "One", make)
        self.scheduler.want(Kind.CHECK, "One", lambda: task(Kind.CHECK))
        self.scheduler.want(Kind.BAKE, "Two", lambda: task(Kind.BAKE, "Two"))
        # nothing is made before its turn, and another bundle's work does not wait
        self.assertEqual((self.transport.open, asked), (["pack One", "bake Two"], []))
        self.transport.jobs[0].end()
        self.assertEqual((self.transport.open, asked), (["bake Two", "bake One"], [True]))
        self.transport.jobs[2].end()
        self.assertEqual(self.transport.open, ["bake Two", "check One"])

    def test_what_waits_begins_once_the_result_is_in_not_once_the_work_is_over(self):
        seen = []
        self.scheduler.submit(task(Kind.PACK), lambda _: seen.append("taken"))
        self.scheduler.want(Kind.BAKE, "One", lambda: seen.append("made"))
        (job,) = self.transport.jobs
        job.over, job.state = True, "done"
        # whoever runs the work says so before its result is handed on
        self.scheduler.proceed()
        self.assertEqual(seen, [])
        job.end()
        self.assertEqual(seen, ["taken", "made"])

    def test_what_was_stopped_holds_nothing_up(self):
        self.scheduler.submit(task(Kind.PACK))
        self.scheduler.want(Kind.BAKE, "One", lambda: task(Kind.BAKE))
        self.scheduler.cancel(Kind.PACK, "One")
        self.scheduler.proceed()
        self.assertEqual(self.transport.open, ["bake One"])

    def test_delivering_waits_for_all_bundles(self):
        self.scheduler.submit(task(Kind.BAKE, "One"))
        self.scheduler.submit(task(Kind.BAKE, "Two"))
        self.scheduler.want(Kind.DELIVER, "", lambda: task(Kind.DELIVER, ""))
        self.transport.jobs[0].end()
        self.assertEqual(self.transport.open, ["bake Two"])
        self.transport.jobs[1].end()
        self.assertEqual(self.transport.open, ["deliver "])

    def test_nothing_is_made_where_there_is_nothing_to_do(self):
        self.scheduler.want(Kind.CHECK, "One", lambda: None)
        self.assertEqual(self.transport.jobs, [])


class Results(SchedulerCase):
    def layout(self):
        return bare_layout(made_from="made")

    def test_put_in_as_one_step(self):
        got = []
        self.scheduler.submit(pack_task(self.document, self.document.bundle("One")), got.append)
        layout = self.layout()
        self.transport.jobs[0].end(layout)
        self.assertIs(self.holder.document.bundle("One").layout, layout)
        self.assertEqual((self.holder.steps, got), (["Pack One"], [layout]))

    def test_a_bundle_renamed_meanwhile_gets_its_result(self):
        self.scheduler.submit(pack_task(self.document, self.document.bundle("One")))
        self.holder.document = commands.rename_bundle(self.document, "One", "Cabin")
        # and another one takes the name it had
        self.holder.document = commands.add_bundle(self.holder.document, "One", ["n2"])
        self.transport.jobs[0].end(self.layout())
        self.assertIsNotNone(self.holder.document.bundle("Cabin").layout)
        self.assertIsNone(self.holder.document.bundle("One").layout)

    def test_a_result_of_what_has_changed_is_set_aside_with_a_word(self):
        for change in (
            lambda document: commands.set_sheet(document, ["One"], padding=3),
            lambda document: commands.remove_bundle(document, "One"),
        ):
            self.holder.document = change(self.document)
            got = []
            self.scheduler.submit(pack_task(self.document, self.document.bundle("One")), got.append)
            self.transport.jobs[-1].end(self.layout())
            self.assertEqual((got, self.holder.steps), ([], []))
            self.assertIn("set aside", self.said.pop())

    def test_what_changes_nothing_it_depends_on_keeps_it(self):
        self.scheduler.submit(pack_task(self.document, self.document.bundle("One")))
        self.holder.document = replace(self.document, name="another name")
        self.transport.jobs[0].end(self.layout())
        self.assertEqual(self.holder.document.name, "another name")
        self.assertIsNotNone(self.holder.document.bundle("One").layout)


if __name__ == "__main__":
    unittest.main()
