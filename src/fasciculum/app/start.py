"""Start the window."""

from __future__ import annotations

import gc
import logging
import sys
import threading
import traceback
from pathlib import Path
from types import TracebackType

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication

from fasciculum.app.demo import open_demo
from fasciculum.app.frame.window import Window
from fasciculum.app.look import apply_theme
from fasciculum.app.workspace import Workspace
from fasciculum.later import load_now
from fasciculum.logs import log_file

LOG = logging.getLogger(__name__)


def _report_crashes(workspace: Workspace) -> None:
    """Log what goes wrong in our own code and say so, instead of vanishing."""

    def hook(kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        sys.stderr.write("".join(traceback.format_exception(kind, error, trace)))
        LOG.error("fault of the program", exc_info=(kind, error, trace))
        workspace.say(f"A fault of the program: {error}. Details are in {log_file()}. Save your work.", "broken")

    sys.excepthook = hook


def make_window(application: QApplication) -> Window:
    """Return a window on an empty project."""
    workspace = Workspace()
    theme = str(workspace.settings.value("theme", "dark"))
    name = theme if theme in ("dark", "light") else "dark"
    # with a style sheet at work, every part that is put into another is styled anew: thrice the time
    application.setStyleSheet("")
    window = Window(workspace, name)
    apply_theme(application, name)
    return window


def run(files: list[str], *, demo: bool = False) -> int:
    """Open the window, on files or on the demo station, and run until it is closed."""
    application = QApplication(sys.argv[:1])
    application.setApplicationName("fasciculum")
    application.setApplicationDisplayName("Fasciculum")
    window = make_window(application)
    _report_crashes(window.workspace)
    window.show()
    # what has been loaded by now stays: looking through it again would hold up the event loop for 70 ms
    gc.freeze()
    gc.enable()
    gc.set_threshold(20_000, 20, 50)
    # beside what the artist does first, so that nothing waits for it later
    QTimer.singleShot(0, lambda: threading.Thread(target=load_now, daemon=True).start())
    if demo:
        QTimer.singleShot(0, lambda: open_demo(window.workspace))
    QTimer.singleShot(0, window.files.offer_lost_work)
    if files and not demo:
        QTimer.singleShot(0, lambda: window.files.take([Path(name) for name in files]))
    code = application.exec()
    window.workspace.close()
    return int(code)
