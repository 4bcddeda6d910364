"""Write the table of the window's commands that `fasciculum find` reads: ``tools/commands_table.py``."""

from __future__ import annotations

import json
import os
import sys
import tempfile
from pathlib import Path

TABLE = Path(__file__).resolve().parents[1] / "src" / "fasciculum" / "cli" / "commands.json"


def table(acts: object) -> str:
    """Return the table of a window's acts as text."""
    rows = [
        {"id": act.id, "title": act.title, "tip": act.tip, "shortcut": act.shortcut, "menu": act.menu}
        for act in acts  # type: ignore[attr-defined]
    ]
    return json.dumps(rows, indent=1, ensure_ascii=False) + "\n"


def main() -> None:
    """Open a window that nobody sees, and write the table of what it can do."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    for name in ("XDG_CONFIG_HOME", "XDG_STATE_HOME", "XDG_CACHE_HOME"):
        os.environ[name] = tempfile.mkdtemp()
    from PySide6.QtWidgets import QApplication

    from fasciculum.app.start import make_window

    window = make_window(QApplication(sys.argv[:1]))
    TABLE.write_text(table(window.acts.values()))
    window.files.leaving = True
    window.workspace.close()


if __name__ == "__main__":
    main()
