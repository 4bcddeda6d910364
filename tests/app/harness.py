"""A window to test with: real mouse and key events, and waiting that lets the event loop run."""

import atexit
import logging
import sys
import tempfile
import time
import unittest
from pathlib import Path
from unittest import mock

from PySide6.QtCore import QEventLoop, QMimeData, QPoint, QPointF, Qt, QTimer, QUrl
from PySide6.QtGui import QDropEvent, QMouseEvent, QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from fasciculum.app.frame.bundle_list import KEY
from fasciculum.app.frame.window import USUAL
from fasciculum.app.start import make_window
from fasciculum.jobs.runner import Runner
from tests.builders import SQUARE, SQUARE_NORMALS, SQUARE_TRIANGLES, Glb, smooth_image, square_uvs

#: seconds that anything is waited for
PATIENCE = 300.0
#: workers that a window left idle; the next window takes one over instead of loading all kernels again
PARKED = {}


def take_over(runner, start=Runner.start):
    """Start a runner with a parked worker where there is one."""
    parked = PARKED.get(tuple(runner.warm))
    if not parked:
        start(runner)
        return
    runner.process, runner.connection = parked.pop()
    runner._ready = True
    runner.reconnected()


def park(runner, close=Runner.close):
    """Keep a runner's worker for the next window if it has nothing to do."""
    until = time.monotonic() + 1.0
    while runner.connection is not None and runner.unfinished and time.monotonic() < until:
        # a picture that is under way is waited for: that takes less than a new process
        for job in runner.unfinished[1:]:
            runner.cancel(job)
        runner.unfinished[0].finished = None
        runner.connection.poll(0.02)
        runner.poll()
    idle = runner._ready and not runner.unfinished and runner.connection is not None and not runner.connection.poll()
    if idle and runner.process.poll() is None:
        PARKED.setdefault(tuple(runner.warm), []).append((runner.process, runner.connection))
        runner.process = runner.connection = None
        return
    close(runner)


def end_parked():
    for parked in PARKED.values():
        for process, connection in parked:
            connection.close()
            process.wait()


Runner.start, Runner.close = take_over, park
atexit.register(end_parked)

LEFT, MIDDLE = Qt.MouseButton.LeftButton, Qt.MouseButton.MiddleButton


def small_model(path, count=4):
    """Squares side by side, two materials, the last one blended."""
    glb = Glb()
    materials = [glb.material(glb.texture(smooth_image(32, seed=s))) for s in range(2)]
    glass = glb.material(pbr={"baseColorFactor": [0.2, 0.5, 0.4, 0.5]}, alphaMode="BLEND")
    for number in range(count):
        material = glass if number == count - 1 else materials[number % 2]
        glb.node(
            f"Plate {number + 1}",
            glb.mesh(
                glb.primitive(SQUARE, SQUARE_TRIANGLES, material, [square_uvs((1 + number, 1))], NORMAL=SQUARE_NORMALS)
            ),
            translation=[1.2 * number, 0, 0],
        )
    return Path(glb.write(path))


class Faults(logging.Handler):
    """Keeps the faults of the program that worker processes log."""

    def __init__(self, faults):
        super().__init__(logging.ERROR)
        self.faults = faults

    def emit(self, record):
        if "fault of the program" in record.msg:
            self.faults.append(record.getMessage())


class WindowCase(unittest.TestCase):
    """Has a window with an empty project before each test.

    The tests of a class share one, since making it takes longer than most tests; with ``shares`` off each has its own.
    """

    shares = True
    #: the window that the tests of a class share
    shared = None

    def setUp(self):
        self.application = QApplication.instance() or QApplication([])
        self.folder = Path(tempfile.mkdtemp())
        self.window = type(self).__dict__.get("shared") or make_window(self.application)
        type(self).shared = None
        self.stands = True
        self.workspace = self.window.workspace
        # tests bundle by hand what they look at
        self.workspace.proposes = False
        self.window.show()
        self.said = []
        self.workspace.said.connect(self.hear)
        # Qt goes on after what a slot raises; a test does not
        self.faults = []
        self.enterContext(mock.patch.object(sys, "excepthook", lambda *fault: self.faults.append(fault)))
        self.addCleanup(lambda: self.assertEqual(self.faults, [], "raised in a slot or by a worker"))
        self.enterContext(mock.patch.object(logging.getLogger("fasciculum"), "handlers", [Faults(self.faults)]))
        self.addCleanup(self.close)

    def hear(self, words, state):
        self.said.append((state, words))

    def close(self):
        if not self.stands:
            return
        self.stands = False
        # one that is left open would take all events of the tests that follow
        while (popup := QApplication.activePopupWidget()) is not None:
            popup.close()
        passed = not any(error for _, error in self._outcome.result.failures + self._outcome.result.errors if _ is self)
        if self.shares and passed and self.emptied():
            self.workspace.said.disconnect(self.hear)
            type(self).shared = self.window
            return
        self.end(self.window)

    def emptied(self):
        """Start over with an empty project; tells whether nothing is left of what the test did."""
        window, workspace = self.window, self.workspace
        for widget in QApplication.topLevelWidgets():
            if widget is not window and widget.isVisible():
                widget.close()
        runners = workspace.worker.runner, workspace.viewer.runner
        for runner in runners:
            for job in runner.unfinished:
                runner.cancel(job)
        until = time.monotonic() + 2.0
        while any(runner.unfinished for runner in runners):
            if time.monotonic() > until:
                return False
            self.pump(0.01)
        for runner in runners:
            runner.jobs.clear()
        workspace.queue_changed.emit()
        workspace.new()
        window.resize(USUAL)
        self.pump(0.01)
        return window.isVisible() and not any(runner.unfinished for runner in runners)

    @classmethod
    def tearDownClass(cls):
        if cls.__dict__.get("shared") is not None:
            cls.end(cls.shared)
            cls.shared = None

    @staticmethod
    def end(window):
        window.files.leaving = True
        window.close()
        window.workspace.close()
        window.deleteLater()
        loop = QEventLoop()
        QTimer.singleShot(20, loop.quit)
        loop.exec()

    def pump(self, seconds=0.05):
        loop = QEventLoop()
        QTimer.singleShot(int(seconds * 1000), loop.quit)
        loop.exec()

    def wait(self, condition, words="it", seconds=60.0):
        # far longer than it takes: the machine may be busy, and only what fails waits to the end
        seconds = max(seconds, PATIENCE)
        until = time.monotonic() + seconds
        while not condition():
            self.assertLess(time.monotonic(), until, f"waited in vain for {words}; said: {self.said}")
            self.pump(0.02)

    def idle(self):
        """Wait until no work runs or waits and the views have had a moment."""
        calm = 0
        until = time.monotonic() + PATIENCE
        while calm < 3:
            self.assertLess(time.monotonic(), until, "the queue never came to rest")
            self.pump(0.025)
            busy = self.workspace.worker.runner.unfinished or self.workspace.viewer.runner.unfinished
            calm = 0 if busy else calm + 1

    def drop(self, *paths):
        """Drop files on the window."""
        data = QMimeData()
        data.setUrls([QUrl.fromLocalFile(str(path)) for path in paths])
        event = QDropEvent(QPointF(400, 300), Qt.DropAction.CopyAction, data, LEFT, Qt.KeyboardModifier.NoModifier)
        self.window.dropEvent(event)

    def gathered(self, count=4):
        """Drop a small model and wait for it."""
        model = small_model(self.folder / "plates.glb", count)
        self.drop(model)
        self.wait(lambda: len(self.workspace.document.scene.objects) == count, "the objects")
        self.idle()
        return model

    # -- the list ---------------------------------------------------------------------------------------------

    def row(self, key):
        tree = self.window.bundles.tree
        for index in range(tree.topLevelItemCount()):
            top = tree.topLevelItem(index)
            if top.data(0, KEY) == key:
                return top
            for number in range(top.childCount()):
                if top.child(number).data(0, KEY) == key:
                    return top.child(number)
        raise AssertionError(f"{key} is not in the list")

    def click_row(self, key, modifiers=Qt.KeyboardModifier.NoModifier):
        tree = self.window.bundles.tree
        row = self.row(key)
        tree.scrollToItem(row)
        QTest.mouseClick(tree.viewport(), LEFT, modifiers, tree.visualItemRect(row).center())

    def drag_rows(self, onto):
        """Drop what is chosen in the list onto a row."""
        tree = self.window.bundles.tree
        place = tree.visualItemRect(self.row(onto)).center()
        data = tree.mimeData(tree.selectedItems())
        event = QDropEvent(QPointF(place), Qt.DropAction.MoveAction, data, LEFT, Qt.KeyboardModifier.NoModifier)
        tree.dropEvent(event)
        self.pump()

    # -- hands ------------------------------------------------------------------------------------------------

    def setting(self, stage, name):
        """The control of a setting, its fold opened as an artist opens it."""
        rows = {
            "lay out": (self.window.settings.lay_out.rows, self.window.settings.lay_out.unwrapping.rows),
            "bake": (self.window.settings.bake.rows,),
            "deliver": (self.window.settings.deliver.rows,),
        }[stage]
        control = next(part.controls[name] for part in rows if name in part.controls)
        self.unfold(control)
        return control

    def unfold(self, widget):
        """Open the fold that a control is in by clicking its title."""
        for column in self.window.settings.panels.values():
            for fold in getattr(column, "folds", {}).values():
                if widget is not fold.head and fold.isAncestorOf(widget) and not fold.open and fold.isVisible():
                    QTest.mouseClick(fold.head, LEFT, Qt.KeyboardModifier.NoModifier, fold.head.rect().center())
                    self.pump(0.02)

    def click(self, widget, place=None):
        self.unfold(widget)
        QTest.mouseClick(widget, LEFT, Qt.KeyboardModifier.NoModifier, place or widget.rect().center())
        self.pump(0.02)

    def keys(self, key, modifiers=Qt.KeyboardModifier.NoModifier, widget=None):
        QTest.keyClick(widget or self.window, key, modifiers)
        self.pump(0.02)

    def drag(self, widget, start, end, button=LEFT, steps=5):
        """Press, move in steps, let go."""
        start, end = QPointF(start), QPointF(end)
        self.mouse(widget, "press", start, button=button)
        for step in range(1, steps + 1):
            self.mouse(widget, "move", start + (end - start) * (step / steps), button=button)
            self.pump(0.01)
        self.mouse(widget, "release", end, button=button)
        self.pump(0.02)

    def mouse(self, widget, kind, point, modifiers=Qt.KeyboardModifier.NoModifier, *, button=LEFT):
        """Send one mouse event: press, move (with the button held) or release."""
        nothing = Qt.MouseButton.NoButton
        type_, pressed, held = {
            "press": (QMouseEvent.Type.MouseButtonPress, button, button),
            "move": (QMouseEvent.Type.MouseMove, nothing, button),
            "release": (QMouseEvent.Type.MouseButtonRelease, button, nothing),
        }[kind]
        event = QMouseEvent(type_, point, widget.mapToGlobal(point), pressed, held, modifiers)
        QApplication.sendEvent(widget, event)

    def wheel(self, widget, point, turn):
        point = QPointF(point)
        event = QWheelEvent(
            point,
            QPointF(widget.mapToGlobal(point)),
            QPoint(),
            QPoint(0, turn),
            Qt.MouseButton.NoButton,
            Qt.KeyboardModifier.NoModifier,
            Qt.ScrollPhase.NoScrollPhase,
            False,
        )
        QApplication.sendEvent(widget, event)
        self.pump(0.02)

    def choose(self, box, value):
        """Choose an entry of a drop-down list with the keyboard, as an artist may."""
        index = box.findData(value)
        self.assertGreaterEqual(index, 0, f"{value} is not offered")
        self.unfold(box)
        box.setFocus()
        while box.currentIndex() != index:
            QTest.keyClick(box, Qt.Key.Key_Down if box.currentIndex() < index else Qt.Key.Key_Up)
        self.pump(0.02)
