"""Make the pictures of docs/screenshots from the demo: ``tools/screenshots.py [FOLDER]``. Look at each afterwards."""

from __future__ import annotations

import contextlib
import os
import sys
import tempfile
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path

os.environ.setdefault(
    "QT_QPA_PLATFORM", f"offscreen:configfile={Path(__file__).resolve().parents[1] / 'tests' / 'app' / 'screen.json'}"
)

import numpy as np
from PySide6.QtCore import QEventLoop, QPoint, QPointF, Qt, QTimer
from PySide6.QtGui import QMouseEvent
from PySide6.QtWidgets import QApplication, QWidget

from fasciculum.app.demo import open_demo
from fasciculum.app.folds import FoldColumn
from fasciculum.app.frame.window import Window
from fasciculum.app.start import make_window
from fasciculum.model.choices import Compression
from fasciculum.session.commands import set_bake, set_delivery, set_sheet

ROOT = Path(__file__).resolve().parents[1]


def pump(seconds: float) -> None:
    """Let the event loop run."""
    loop = QEventLoop()
    QTimer.singleShot(int(seconds * 1000), loop.quit)
    loop.exec()


def idle(window: Window) -> None:
    """Wait until nothing runs."""
    calm = 0
    while calm < 8:
        pump(0.05)
        runners = (window.workspace.worker.runner, window.workspace.viewer.runner)
        calm = 0 if any(runner.unfinished for runner in runners) else calm + 1


@contextlib.contextmanager
def only(panel: FoldColumn, *titles: str) -> Iterator[None]:
    """Have these folds of a panel open and no others, for as long as it takes."""
    opened = {title: fold.open for title, fold in panel.folds.items()}
    for title, fold in panel.folds.items():
        fold.set_open(title in titles)
    yield
    for title, fold in panel.folds.items():
        fold.set_open(opened[title])


def carry(window: Window) -> None:
    """Take up an island of middling size and hold it over its neighbours."""
    sheet = window.sheet
    own = sheet.drawn.boxes
    place = int(np.argsort((own[:, 2] - own[:, 0]) * (own[:, 3] - own[:, 1]))[-6])
    middle = sheet.islands[place].box.center()
    at = sheet.to_widget(middle.x(), middle.y())
    window.hand.choose([place])
    button = Qt.MouseButton.LeftButton
    for kind, point, pressed in (
        (QMouseEvent.Type.MouseButtonPress, at, button),
        (QMouseEvent.Type.MouseMove, at + QPointF(-12, 8), Qt.MouseButton.NoButton),
        (QMouseEvent.Type.MouseMove, at + QPointF(-44, 26), Qt.MouseButton.NoButton),
    ):
        event = QMouseEvent(kind, point, sheet.mapToGlobal(point), pressed, button, Qt.KeyboardModifier.AltModifier)
        QApplication.sendEvent(sheet, event)


def unwrapping(window: Window, shot: Callable[[str], None]) -> None:
    """Unwrap some parts, and show a checker on them with edges picked."""
    workspace = window.workspace
    workspace.set_stage("lay out")
    workspace.select({"Bench", "Crate", "Hut door"} & {item.key for item in workspace.document.scene.objects})
    window.act("unwrap_anew")()
    workspace.pack()
    idle(window)
    workspace.set_view(lens="checker")
    window.frame_selection()
    idle(window)
    panel = window.settings.lay_out
    panel.reveal(panel.by_hand)
    pump(0.2)
    window.settings.areas["lay out"].ensureWidgetVisible(panel.by_hand.reshapes["island_relax"], 0, 10)
    key = next(iter(sorted(workspace.selection)))
    window.act("pick_edges")()
    graph = window.shaper.graph(key)
    longest = int(graph.lengths.argmax())
    triangle = int(graph.half_edges(np.array([longest]))[0]) // 3
    middle = graph.points[graph.ends[longest]].mean(axis=0)
    window.shaper.pick_edge(key, triangle, middle, path=False, more=False)
    window.shaper.pick_loop()
    idle(window)
    shot("unwrapping")
    window.act("put_away")()
    workspace.set_view(lens="colour")


def plans(window: Window, shot: Callable[[str], None]) -> None:
    """Point at the plan with the fewest draw calls, then look at the ways of a material in force."""
    workspace, panel = window.workspace, window.settings.panels["gather"]
    with only(panel, "Plan"):
        plot = panel.plan.plot
        while not plot.plans:
            pump(0.1)
        idle(window)
        plot.point(min(range(len(plot.plans)), key=lambda number: plot.plans[number].draw_calls))
        idle(window)
        shot("plan")
        plot.point(-1)
    with only(panel, "Treatments"):
        workspace.select((), ("Opaque",))
        workspace.apply("Quick", lambda document: set_sheet(document, ["Opaque"], seconds=0.0))
        workspace.pack(["Opaque"])
        idle(window)
        panel.ways.material.setCurrentText("Platform planks")
        panel.ways.material.activated.emit(panel.ways.material.currentIndex())
        workspace.set_view(lens="way")
        pump(0.6)
        idle(window)
        shot("ways")
        workspace.set_view(lens="colour")
        workspace.session.undo()
        workspace.session.undo()


def pairing(window: Window, shot: Callable[[str], None]) -> None:
    """Show a detailed door with its pair, and how far it is looked for."""
    workspace, panel = window.workspace, window.settings.gather
    workspace.set_stage("gather")
    with only(panel, "Pairing"):
        workspace.select({"Hut door"})
        window.model.frame()
        idle(window)
        workspace.set_view(lens="reach", high=True)
        idle(window)
        shot("pairing")
    workspace.set_view(lens="colour", high=False)
    workspace.select((), ("Opaque",))
    window.model.frame()
    workspace.set_stage("bake")
    idle(window)


def light(window: Window, shot: Callable[[str], None]) -> None:
    """Bake the light of dusk onto a light sheet, and compare it with the source in the same light."""
    workspace, panel = window.workspace, window.settings.gather
    wishes = {"maps": ("auto", "lit", "light"), "light_uv": True, "light_width": 512, "light_height": 512}
    names = [bundle.name for bundle in workspace.document.bundles]
    workspace.apply("Light", lambda document: set_bake(document, names, light_rays=32, **wishes))
    workspace.bake(names)
    idle(window)
    workspace.set_stage("gather")
    with only(panel, "Lights"):
        window.lights.choose("Sun")
        workspace.set_view(lens="light", map="light", exposure=1.0, side="wipe")
        window.model.camera = replace(
            window.model.camera, yaw=28.0, pitch=14.0, distance=window.model.camera.distance * 0.62
        )
        window.model.ask(whole=True)
        pump(1.0)
        idle(window)
        pump(1.0)
        shot("light")
        workspace.set_view(lens="colour", map="", exposure=0.0)
    workspace.session.undo()
    workspace.session.undo()
    workspace.set_stage("bake")
    idle(window)


def layers(window: Window, shot: Callable[[str], None]) -> None:
    """Show the steps with dirt and moss laid over them, and the handles of a layer."""
    workspace, panel = window.workspace, window.settings.gather
    workspace.set_stage("gather")
    with only(panel, "Layers"):
        workspace.select({"Step 1", "Step 2", "Step 3"})
        window.layers.choose(len(window.layers.stack) - 1)
        workspace.set_view(side="source")
        window.model.frame()
        idle(window)
        pump(1.0)
        idle(window)
        shot("layers")
    workspace.set_view(side="result")


def trims(window: Window, shot: Callable[[str], None]) -> None:
    """Show the crates on the boards of a given sheet."""
    workspace, panel = window.workspace, window.settings.lay_out
    bundle = workspace.document.bundle("Wood")
    workspace.set_stage("lay out")
    with only(panel, "Sheet"):
        workspace.select(bundle.objects, (bundle.name,))
        workspace.set_view(side="result")
        window.given.chosen = 0
        window.given.changed.emit()
        idle(window)
        window.frame_selection()
        idle(window)
        shot("trims")
    workspace.select((), ("Opaque",))
    window.model.frame()


def channels(window: Window, shot: Callable[[str], None]) -> None:
    """Put a file together of maps' channels, and look at a map of floats."""
    workspace, panel = window.workspace, window.settings.bake
    packed = ("mask=occlusion,1-roughness,metallic", "tint=base_color.r,base_color.g,base_color.b,0.5")
    workspace.apply("Packed", lambda document: set_bake(document, ["Opaque"], channels=packed, format="exr", bits=32))
    workspace.bake(["Opaque"])
    idle(window)
    with only(panel, "Settings of one map", "Packed"):
        panel.choose("normal")
        sheet = window.sheet
        sheet.bar.exposure.setValue(4)
        idle(window)
        pump(0.5)
        sheet.bar.point_at(200.5, 300.5, sheet.sheet_size())
        shot("channels")
        sheet.bar.exposure.setValue(0)
    workspace.session.undo()
    workspace.session.undo()
    workspace.bake(["Opaque"])
    idle(window)


def main() -> int:
    """Take the pictures."""
    folder = Path(sys.argv[1]) if len(sys.argv) > 1 else ROOT / "docs" / "screenshots"
    folder.mkdir(parents=True, exist_ok=True)
    # nothing of whoever takes the pictures is seen on them
    os.environ["XDG_STATE_HOME"] = tempfile.mkdtemp()
    application = QApplication([])
    window = make_window(application)
    workspace = window.workspace
    window.show()
    window.setFocus()

    def shot(name: str, over: QWidget | None = None) -> None:
        pump(0.3)
        picture = window.grab()
        if over is not None:
            from PySide6.QtGui import QPainter

            painter = QPainter(picture)
            painter.drawPixmap(window.mapFromGlobal(over.pos()), over.grab())
            painter.end()
        picture.save(str(folder / f"{name}.png"))
        print(folder / f"{name}.png")

    pump(0.5)
    shot("empty")
    open_demo(workspace)
    idle(window)
    window.setFocus()
    workspace.set_stage("gather")
    plans(window, shot)
    shot("gather")
    window.repairs.open_table()
    idle(window)
    table = window.repairs.table
    table.move(window.mapToGlobal(QPoint(150, 120)))
    shot("textures", table)
    table.close()
    names = [bundle.name for bundle in workspace.document.bundles]
    workspace.pack(names)
    idle(window)
    workspace.set_stage("lay out")
    workspace.set_view(lens="object")
    workspace.select({"Hut door"})
    idle(window)
    shot("lay-out")
    workspace.set_view(lens="colour")
    workspace.select((), ("Opaque",))
    idle(window)
    carry(window)
    shot("hand")
    window.sheet.mouse.cancel()
    window.hand.choose([])
    workspace.apply("Turns", lambda document: set_sheet(document, ["Opaque"], turns="any", seconds=30.0))
    workspace.pack(["Opaque"])
    pump(1.0)
    workspace.stop_early()
    idle(window)
    window.batch_list.add()
    idle(window)
    workspace.bake(names)
    while workspace.worker.runner.running is None or workspace.worker.runner.running.fraction < 0.3:
        pump(0.02)
    # where it goes is a folder of whoever takes the pictures
    workspace.say("")
    window.queue.open()
    pump(0.2)
    shot("queue", window.queue.dialog)
    window.queue.dialog.close()
    idle(window)
    workspace.select((), ("Opaque",))
    workspace.set_stage("bake")
    idle(window)
    shot("bake")
    layers(window, shot)
    trims(window, shot)
    pairing(window, shot)
    light(window, shot)
    channels(window, shot)
    workspace.check()
    idle(window)
    workspace.set_stage("check")
    idle(window)
    shot("check")
    workspace.set_stage("deliver")
    shot("deliver")
    workspace.apply("Compress", lambda document: set_delivery(document, compress=Compression.BC))
    workspace.check()
    idle(window)
    workspace.select((), ("Opaque",))
    workspace.set_view(lens="blocks", mip=3)
    idle(window)
    with only(window.settings.deliver, "Compression"):
        pump(0.5)
        shot("compression")
    workspace.set_view(lens="colour", mip=0)
    workspace.session.undo()
    workspace.check()
    idle(window)
    workspace.apply("Join", lambda document: set_delivery(document, combine="bundle", region=8.0))
    window.settings.deliver.reveal(window.settings.deliver.rows.control("combine"))
    window.files.keeper.sources_changed.emit([workspace.document.scene.sources[0].path])
    shot("reload")
    window.notices.withdraw("sources")
    workspace.session.undo()
    window.open_search()
    window.searching.field.setText("pa")
    shot("find-by-name", window.searching)
    window.searching.close()
    unwrapping(window, shot)
    workspace.close()
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
