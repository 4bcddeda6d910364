"""The demo station in the window."""

from __future__ import annotations

from fasciculum.app.workspace import Workspace
from fasciculum.errors import MissingFile
from fasciculum.model.document import Document
from fasciculum.session.loading import demo_document, demo_models
from fasciculum.session.tasks import Kind, Task


def open_demo(workspace: Workspace) -> None:
    """Gather and bundle the demo station in place of the present project."""
    try:
        model, high = demo_models()
    except MissingFile as error:
        workspace.say(str(error), "broken")
        return

    def take(document: Document) -> None:
        workspace.bundle_names, workspace.selection = (), frozenset()
        workspace.session.open(document, None)
        workspace.show_afresh()
        workspace.set_stage("lay out")
        workspace.frame_wanted.emit()

    arguments = (str(model), str(high), str(workspace.session.store.folder))
    workspace.run(Task(Kind.OPEN, "Open the demo station", demo_document, arguments, part="demo"), take)
