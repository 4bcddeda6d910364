"""The demo station in the window."""

from __future__ import annotations

from pathlib import Path

from fasciculum.app.workspace import Workspace
from fasciculum.model.document import Document
from fasciculum.session.loading import demo_document


def demo_model() -> Path:
    """Return where the station's file is in a checkout."""
    return Path(__file__).resolve().parents[3] / "demo" / "station.glb"


def open_demo(workspace: Workspace) -> None:
    """Gather and bundle the demo station in place of the present project."""
    model = demo_model()
    if not model.exists():
        workspace.say(f"The demo station is missing: {model}. Run it from a checkout.", "broken")
        return

    def take(document: Document) -> None:
        workspace.bundle_names, workspace.selection = (), frozenset()
        workspace.session.open(document, None)
        workspace.set_stage("lay out")
        workspace.frame_wanted.emit()

    workspace.submit(
        "Open the demo station", demo_document, str(model), str(workspace.session.store.folder), finished=take
    )
