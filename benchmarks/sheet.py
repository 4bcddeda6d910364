"""The sheet with many islands: ``./run bench sheet``. The longest gap of the event loop while 2,000 islands are packed,
and frames a second while a sheet of 20,000 is panned.
"""

import os
import time

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import numpy as np
from charts import mixed
from PySide6.QtCore import QEvent, QPointF, Qt
from PySide6.QtGui import QMouseEvent
from PySide6.QtWidgets import QApplication
from window import Watch, idle, pump

from fasciculum.app.start import make_window
from fasciculum.model.bundle import Bundle
from fasciculum.model.document import Document
from fasciculum.model.layout import Layout, Surface
from fasciculum.model.scene import Mesh, Node, Object, Primitive, Scene, Source
from fasciculum.model.sheet import SheetSettings


def scene_of(islands, each):
    """Return a scene of boards, each with so many charts side by side."""
    meshes, nodes, objects = [], [], []
    for number, first in enumerate(range(0, len(islands), each)):
        parts = [island + [3.0 * (k % 10), 3.0 * (k // 10)] for k, island in enumerate(islands[first : first + each])]
        corners = np.concatenate(parts).reshape(-1, 2)
        points, triangles = np.unique(np.round(corners, 6), axis=0, return_inverse=True)
        positions = np.column_stack([points, np.zeros(len(points))]).astype(np.float32)
        triangles = triangles.reshape(-1, 3).astype(np.int32)
        uvs = (points * 0.01).astype(np.float32)
        meshes.append(Mesh(f"board {number}", (Primitive(positions, triangles, None, None, (uvs,), None, -1),)))
        place = np.eye(4)
        place[0, 3] = 40.0 * number
        nodes.append(Node(f"board {number}", -1, place, number, 0, number))
        objects.append(Object(f"board {number}", number, (0,), "OPAQUE"))
    return Scene((Source("s", "s", "s"),), tuple(nodes), tuple(meshes), (), (), tuple(objects))


def pack(window):
    """Pack 2,000 islands and tell the longest gap."""
    workspace = window.workspace
    scene = scene_of(mixed(2000), 100)
    keys = tuple(item.key for item in scene.objects)
    sheet = SheetSettings(4096, 4096, padding=2, seconds=8.0)
    workspace.session.open(Document("boards", scene, (Bundle("b", keys, "OPAQUE", sheet),)), None)
    workspace.set_stage("lay out")
    idle(workspace)
    watch = Watch()
    workspace.pack(["b"])
    idle(workspace)
    layout = workspace.document.bundle("b").layout
    watch.timer.stop()
    watch.report(f"packing {layout.distinct} islands, fill {layout.fill:.3f}")


def pan(window):
    """Pan a sheet of 20,000 islands with the middle button held, and tell the frames."""
    workspace, sheet = window.workspace, window.sheet
    islands = mixed(20000)
    count = len(islands)
    rows = np.zeros((count, 6))
    rows[:, 0] = rows[:, 4] = 10
    rows[:, 2], rows[:, 5] = (np.arange(count) % 142) * 28 + 4, (np.arange(count) // 142) * 28 + 4
    island = np.repeat(np.arange(count, dtype=np.int32), [len(part) for part in islands])
    scene = scene_of(islands[:1], 1)
    surface = Surface((scene.objects[0].key,), np.concatenate(islands), island, np.zeros(len(island), bool), 1.0)
    layout = Layout((surface,), rows, 10.0, 4096, 4096, 2, 1, 2, 1, 0.0, 0.4, "")
    sheet._layout = None
    workspace.live["b"] = layout
    sheet.refresh()
    while len(sheet.islands) < count:
        pump(0.05)
    pump(0.5)

    def send(kind, point, button, held):
        modifiers = Qt.KeyboardModifier.NoModifier
        QApplication.sendEvent(sheet, QMouseEvent(kind, point, sheet.mapToGlobal(point), button, held, modifiers))

    middle, nothing = Qt.MouseButton.MiddleButton, Qt.MouseButton.NoButton
    start = QPointF(200, 300)
    send(QEvent.Type.MouseButtonPress, start, middle, middle)
    times, began = [], time.perf_counter()
    for step in range(200):
        send(QEvent.Type.MouseMove, start + QPointF(step * 1.2, step * 0.7), nothing, middle)
        sheet.repaint()
        pump(0.001)
        now = time.perf_counter()
        times.append(now - began)
        began = now
    send(QEvent.Type.MouseButtonRelease, start, middle, nothing)
    times = np.array(times)
    print(
        f"panning {count} islands: {len(times) / times.sum():.0f} frames a second, "
        f"median {np.median(times) * 1000:.1f} ms, longest {times.max() * 1000:.0f} ms"
    )


def main():
    application = QApplication([])
    window = make_window(application)
    window.show()
    pump(1.0)
    pack(window)
    pan(window)
    window.workspace.close()


if __name__ == "__main__":
    main()
