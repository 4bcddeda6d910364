"""Missing and odd textures put right: located, allowed, done without; and the table that lists every texture."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import partial
from pathlib import Path

from PySide6.QtWidgets import QFileDialog, QWidget

from fasciculum.app.panels.textures import TextureTable
from fasciculum.app.parts import IMAGES
from fasciculum.app.workspace import Workspace
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import Copies, ObjectPolicy
from fasciculum.model.document import Document
from fasciculum.model.finding import ALLOW, LOCATE, Finding
from fasciculum.model.scene import Image
from fasciculum.session import commands
from fasciculum.session.reloading import with_file, with_folder

#: what the button under a finding says for each remedy
WORDS = {LOCATE: "Locate …", ALLOW: "Allow its folder …"}

#: how many texels a sheet may have along an edge when it is made larger
MOST_EDGE = 8192


def _bundles(workspace: Workspace, matter: Sequence[Finding]) -> list[Bundle]:
    """Return the bundles that findings are about, by name or by an object of theirs."""
    names, keys = {finding.bundle for finding in matter}, {finding.object for finding in matter}
    return [one for one in workspace.document.bundles if one.name in names or keys & set(one.objects)]


def _scale_sheets(workspace: Workspace, matter: Sequence[Finding], factor: float) -> None:
    def change(document: Document) -> Document:
        for bundle in _bundles(workspace, matter):
            sides = {
                side: int(min(max(getattr(bundle.sheet, side) * factor, 16), MOST_EDGE)) for side in ("width", "height")
            }
            document = commands.set_sheet(document, [bundle.name], **sides)
        return document

    workspace.apply("Make sheets larger" if factor > 1 else "Make sheets smaller", change)


def _add_padding(workspace: Workspace, matter: Sequence[Finding]) -> None:
    def change(document: Document) -> Document:
        for bundle in _bundles(workspace, matter):
            document = commands.set_sheet(document, [bundle.name], padding=max(2 * bundle.sheet.padding, 2))
        return document

    workspace.apply("Double the padding", change)


def _unwrap(workspace: Workspace, matter: Sequence[Finding]) -> None:
    keys = [finding.object for finding in matter if finding.object]
    workspace.apply(
        "Unwrap",
        lambda document: commands.set_shaping(document, keys, lambda _, one: replace(one, policy=ObjectPolicy.UNWRAP)),
    )


def _set_bake(workspace: Workspace, matter: Sequence[Finding], label: str, **values: object) -> None:
    names = [bundle.name for bundle in _bundles(workspace, matter)]
    workspace.apply(label, lambda document: commands.set_bake(document, names, **values))


def _part_blocks(workspace: Workspace, matter: Sequence[Finding]) -> None:
    names = [bundle.name for bundle in _bundles(workspace, matter)]
    workspace.apply("Keep blocks apart", lambda document: commands.set_sheet(document, names, blocks=True))


def _pack(workspace: Workspace, matter: Sequence[Finding]) -> None:
    workspace.pack([bundle.name for bundle in _bundles(workspace, matter)], fresh=True)


def _bake(workspace: Workspace, matter: Sequence[Finding]) -> None:
    workspace.pack_and_bake([bundle.name for bundle in _bundles(workspace, matter)])


#: for the codes of findings what the program can do: what the button says, and what it does
REMEDIES: dict[str, tuple[str, Callable[[Workspace, Sequence[Finding]], None]]] = {
    "does_not_fit": ("Make larger", partial(_scale_sheets, factor=2.0)),
    "blurred": ("Make larger", partial(_scale_sheets, factor=2.0)),
    "differs": ("Make larger", partial(_scale_sheets, factor=2.0)),
    "low_fill": ("Make smaller", partial(_scale_sheets, factor=0.5)),
    "mixing": ("Double the padding", _add_padding),
    "shared_blocks": ("Keep blocks apart", _part_blocks),
    "quality_missed": ("Make larger", partial(_scale_sheets, factor=2.0)),
    "suspicious_uv_set": ("Unwrap", _unwrap),
    "overlap": ("Pack", _pack),
    "gap": ("Pack", _pack),
    "margin": ("Pack", _pack),
    "bake_failed": ("Bake again", _bake),
    "surroundings_differ": ("Part copies", partial(_set_bake, label="Part copies", copies=Copies.PART)),
    "light_shared": ("Use a lightmap", partial(_set_bake, label="Use a lightmap", light_uv=True)),
}


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

    @staticmethod
    def words_for(finding: Finding) -> str:
        """Return what the button says that applies a finding's remedy, nothing where it has to be done by hand."""
        words, _ = REMEDIES.get(finding.code, ("", None))
        return WORDS.get(finding.act, words)

    def apply(self, matter: Sequence[Finding]) -> None:
        """Apply the remedy of findings of one kind."""
        finding = matter[0]
        if not finding.act:
            _, act = REMEDIES[finding.code]
            act(self.workspace, matter)
        elif finding.act == ALLOW:
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
            self.window, f"Where is {name}?", start, f"Images and libraries ({IMAGES} *.mtl);;All (*)"
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
