"""Missing and odd textures put right: located, allowed, done without; and the table that lists every texture."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import QFileDialog, QWidget

from fasciculum.app.panels.textures import TextureTable
from fasciculum.app.workspace import Workspace
from fasciculum.model.finding import ALLOW, LOCATE, Finding
from fasciculum.model.scene import Image
from fasciculum.session import commands
from fasciculum.session.reloading import with_file, with_folder

#: what the button under a finding says for each remedy
WORDS = {LOCATE: "Locate …", ALLOW: "Allow its folder …"}


class Repairs:
    """Applies remedies."""

    def __init__(self, workspace: Workspace, window: QWidget) -> None:
        self.window, self.workspace = window, workspace
        self.table: TextureTable | None = None

    def open_table(self) -> None:
        """Open the table of textures."""
        if self.table is None:
            self.table = TextureTable(self.workspace, self, self.window)
        self.table.refresh()
        self.table.show()
        self.table.raise_()

    def image_named(self, name: str) -> Image | None:
        """Return the missing image of a name."""
        images = self.workspace.document.scene.images
        return next((image for image in images if image.missing and image.name == name), None)

    def apply(self, finding: Finding) -> None:
        """Apply a finding's remedy."""
        if finding.act == ALLOW:
            image = self.image_named(finding.image)
            self.allow_folder(str(Path(image.path).resolve().parent) if image is not None and image.path else "")
        elif finding.act == LOCATE:
            self.locate(finding.image)

    def locate(self, name: str) -> None:
        """Ask where a missing file is; its siblings are looked for in the same folder."""
        image = self.image_named(name)
        start = str(Path(image.path).parent) if image is not None and image.path else ""
        while start and not Path(start).is_dir():
            start = str(Path(start).parent)
        result, _ = QFileDialog.getOpenFileName(
            self.window, f"Where is {name}?", start, "Images and libraries (*.png *.jpg *.jpeg *.webp *.mtl);;All (*)"
        )
        if not result:
            return
        lookup = self.workspace.document.lookup
        if image is None or not image.path or Path(result).name.lower() == Path(image.path).name.lower():
            lookup = with_folder(lookup, str(Path(result).parent))
        else:
            lookup = with_file(lookup, image.path, result)
        self.workspace.reload(lookup, f"Looked in {Path(result).parent}")

    def allow_folder(self, start: str = "") -> None:
        """Ask for a folder that models may refer into."""
        result = QFileDialog.getExistingDirectory(self.window, "Allow models to refer into", start)
        if result:
            self.workspace.reload(with_folder(self.workspace.document.lookup, result), f"Allowed {result}")

    def do_without(self, name: str) -> None:
        """Accept that an image is missing."""
        self.workspace.apply(
            f"Use the factor colour for {name}", lambda document: commands.accept_missing(document, name)
        )
