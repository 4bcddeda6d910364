"""The demo station in the window."""

from __future__ import annotations

from fasciculum.app.workspace import Workspace
from fasciculum.errors import MissingFile
from fasciculum.model.document import Document
from fasciculum.session.loading import demo_document, demo_model


def open_demo(workspace: Workspace) -> None:
    """Gather and bundle the demo station in place of the present project."""
    try:
        model = demo_model()
    except MissingFile as error:
        workspace.say(str(error), "broken")
        return

    def take(document: Document) -> None:
        workspace.bundle_names, workspace.selection = (), frozenset()
        workspace.session.open(document, None)
        workspace.set_stage("lay out")
        workspace.frame_wanted.emit()

    workspace.submit(
        "Open the demo station", demo_document, str(model), str(workspace.session.store.folder), finished=take
    )
