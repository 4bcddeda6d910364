"""The window by its event loop: ``./run bench window``. Time to the first painted frame of a new process, the longest
gap of the event loop while the demo is opened, packed, baked and checked, and frames a second of both views.
"""

import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import cv2
import numpy as np
from PySide6.QtCore import QEventLoop, QPointF, QTimer
from PySide6.QtWidgets import QApplication

from fasciculum.model.layers import Axis, Mask, MaskKind

FIRST = """
import time; began = time.perf_counter()
import numba, cv2
from PySide6.QtWidgets import QApplication
from PySide6.QtCore import QTimer
from fasciculum.app.start import make_window
application = QApplication([])
window = make_window(application)
window.show()
def done():
    window.grab()
    print(time.perf_counter() - began)
    window.workspace.close()
    application.exit()
QTimer.singleShot(0, done)
application.exec()
"""


def first_frame():
    """Seconds from the interpreter's first line to a painted window, and with the interpreter's own start."""
    began = time.perf_counter()
    out = subprocess.run([sys.executable, "-c", FIRST], capture_output=True, text=True, check=True).stdout
    return float(out), time.perf_counter() - began


class Watch:
    """Notes the gaps between turns of the event loop."""

    def __init__(self):
        self.gaps, self.last = [], time.perf_counter()
        self.timer = QTimer()
        self.timer.timeout.connect(self.tick)
        self.timer.start(2)

    def tick(self):
        now = time.perf_counter()
        self.gaps.append(now - self.last)
        self.last = now

    def report(self, words):
        print(
            f"{words}: longest gap {max(self.gaps) * 1000:.0f} ms, 99.9 % under "
            f"{sorted(self.gaps)[int(len(self.gaps) * 0.999)] * 1000:.0f} ms"
        )
        self.gaps = []


def pump(seconds):
    loop = QEventLoop()
    QTimer.singleShot(int(seconds * 1000), loop.quit)
    loop.exec()


def idle(workspace):
    calm = 0
    while calm < 6:
        pump(0.05)
        busy = workspace.worker.runner.unfinished or workspace.viewer.runner.unfinished
        calm = 0 if busy else calm + 1


def main():
    import gc

    for number in range(3):
        inside, whole = first_frame()
        print(
            f"first painted frame, start {number + 1}: {inside:.2f} s ({whole:.2f} s with the interpreter and leaving)"
        )
    from fasciculum.app.demo import open_demo
    from fasciculum.app.start import make_window

    application = QApplication([])
    window = make_window(application)
    window.show()
    gc.freeze()
    gc.set_threshold(20_000, 20, 50)
    workspace = window.workspace
    pump(2)
    watch = Watch()
    open_demo(workspace)
    idle(workspace)
    watch.report("open the demo")
    names = [bundle.name for bundle in workspace.document.bundles]
    for words, work in (
        ("pack the demo", workspace.pack),
        ("bake the demo", workspace.bake),
        ("check the demo", workspace.check),
    ):
        work(names)
        idle(workspace)
        watch.report(words)
    workspace.select((), ("Station",))
    idle(workspace)
    sheet = window.sheet
    times = []
    for step in range(60):
        sheet.offset += QPointF(2 if step % 2 else -1, 1)
        began = time.perf_counter()
        sheet.grab()
        times.append(time.perf_counter() - began)
    print(f"sheet, {len(sheet.islands)} islands: {1 / statistics.median(times):.0f} frames a second while panning")
    model = window.model
    before, began = model.frames, time.perf_counter()
    while time.perf_counter() - began < 3:
        model.camera = model.camera.orbit(3, 0)
        model.ask()
        pump(0.01)
    print(f"model: {(model.frames - before) / (time.perf_counter() - began):.0f} frames a second while orbiting")
    dragged_layer(window)
    workspace.close()


def dragged_layer(window):
    """Frames a second while a layer's handle is dragged, all objects of the demo under one that is projected."""
    workspace, layers, model = window.workspace, window.layers, window.model
    with tempfile.TemporaryDirectory() as folder:
        picture = Path(folder) / "moss.png"
        cv2.imwrite(str(picture), np.random.default_rng(1).integers(40, 200, (256, 256, 3)).astype(np.uint8))
        workspace.set_view(lens="colour", side="source")
        layers.add_picture(str(picture))
        idle(workspace)
        layers.change("Mask", mask=Mask(MaskKind.FACING, Axis.Y, 0.2, 0.8))
        for on_all in (True, False):
            keys = ("*",) if on_all else ("Foundation", "Platform", "Hut *")
            layers.change("Lies on", objects=keys)
            idle(workspace)
            step, loop, begun, painted = [0], QEventLoop(), time.perf_counter(), model.frames

            def drag(step=step, loop=loop, begun=begun):
                step[0] += 1
                if time.perf_counter() - begun > 4:
                    loop.quit()
                    return
                layers.show("Move", offset=(0.01 * step[0], 0.0))

            timer = QTimer(interval=4)
            timer.timeout.connect(drag)
            timer.start()
            loop.exec()
            timer.stop()
            rate = (model.frames - painted) / (time.perf_counter() - begun)
            words = "every object" if on_all else "ten objects"
            print(f"model: {rate:.0f} frames a second while a layer over {words} is dragged")


if __name__ == "__main__":
    main()
