"""Many bakes one after the other: a failure stops that one alone, cancel is soon, the end is told on the desktop."""

import os
from unittest import mock

from jeepney import HeaderFields

from fasciculum.app.frame import notifier
from fasciculum.app.frame.notifier import Notifier, notify, summary
from fasciculum.jobs.runner import CANCELLED, DONE, FAILED
from fasciculum.session import commands
from fasciculum.session.tasks import Kind
from tests.app.harness import WindowCase
from tests.builders import SQUARE, SQUARE_NORMALS, SQUARE_TRIANGLES, Glb, smooth_image, square_uvs


class Queue(WindowCase):
    def plates(self, count, edge=16):
        """Gather boards with a texture each, every one a bundle that is laid out."""
        glb = Glb()
        for number in range(count):
            material = glb.material(glb.texture(smooth_image(edge, seed=number)))
            primitive = glb.primitive(SQUARE, SQUARE_TRIANGLES, material, uvs=[square_uvs()], NORMAL=SQUARE_NORMALS)
            glb.node(f"Board {number}", glb.mesh(primitive), translation=[1.5 * number, 0, 0])
        self.drop(glb.write(self.folder / "boards.glb"))
        self.wait(lambda: len(self.workspace.document.scene.objects) == count, "the boards")
        self.idle()
        names = [f"Board {number}" for number in range(count)]

        def bundled(document):
            for name in names:
                document = commands.add_bundle(document, name, [name])
            return commands.set_sheet(document, names, width=32, height=32, padding=2, seconds=0.0)

        self.workspace.apply("bundles", bundled)
        self.workspace.pack(names)
        self.idle()
        return names

    def test_twenty_with_one_that_fails(self):
        names = self.plates(20)
        told = []
        watching = Notifier(self.workspace, lambda *words: told.append(words), lambda: True)
        image = self.workspace.document.scene.images[7]
        (self.workspace.session.store.folder / f"{image.pixels}.npy").unlink()
        with mock.patch.object(notifier, "LONG", 0.0):
            self.workspace.bake(names)
            self.idle()
            self.wait(lambda: told, "the word")
        made = [name for name in names if self.workspace.document.bundle(name).texturing is not None]
        self.assertEqual(made, [name for name in names if name != "Board 7"])
        jobs = [job for job in self.workspace.worker.runner.jobs if job.title.startswith("Bake Board")]
        self.assertEqual([job.title for job in jobs if job.state == FAILED], ["Bake Board 7"])
        self.assertEqual(sum(job.state == DONE for job in jobs), 19)
        self.assertTrue(all(job.log for job in jobs if job.state == DONE))
        self.assertTrue(any("Bake Board 7" in words and "19 of 20 done" in words for _, words in told), told)
        self.assertEqual(summary(jobs), "19 of 20 done; failed: Bake Board 7")
        watching.deleteLater()

    def test_a_bake_is_cancelled_in_the_middle_and_nothing_of_it_is_kept(self):
        (name,) = self.plates(1, 256)
        self.workspace.apply("large", lambda d: commands.set_sheet(d, [name], width=4096, height=4096))
        self.workspace.apply("slow", lambda d: commands.set_bake(d, [name], samples=16))
        self.workspace.pack([name])
        self.idle()
        self.workspace.bake([name])
        job = next(job for job in reversed(self.workspace.worker.runner.jobs) if job.title == f"Bake {name}")
        self.wait(lambda: job.fraction > 0.15, "the middle of it")
        self.workspace.scheduler.cancel(Kind.BAKE)
        self.wait(lambda: job.over, "its end")
        self.assertEqual(job.state, CANCELLED)
        self.assertLess(job.fraction, 1.0)
        self.assertIsNone(self.workspace.document.bundle(name).texturing)
        self.idle()

    def test_without_a_desktop_nothing_happens(self):
        with mock.patch.dict(os.environ, {"DBUS_SESSION_BUS_ADDRESS": "unix:path=/nowhere/at/all"}):
            self.assertFalse(notify("title", "words"))
        with mock.patch.dict(os.environ):
            os.environ.pop("DBUS_SESSION_BUS_ADDRESS", None)
            self.assertFalse(notify("title", "words"))

    def test_the_desktop_is_asked_as_its_specification_says(self):
        with mock.patch.object(notifier, "open_dbus_connection") as opened:
            self.assertTrue(notify("Station: done", "2 of 2 done"))
        message = opened.return_value.__enter__.return_value.send_and_get_reply.call_args.args[0]
        fields = message.header.fields
        self.assertEqual(fields[HeaderFields.signature], "susssasa{sv}i")
        self.assertEqual((fields[HeaderFields.member], fields[HeaderFields.interface]), ("Notify", notifier.SERVICE))
        self.assertEqual(message.body[3:5], ("Station: done", "2 of 2 done"))
        # it can be written as the wire has it
        self.assertGreater(len(message.serialise(serial=1)), 100)
