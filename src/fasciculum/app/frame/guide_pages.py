"""The guide in a window of its own, turned to the page that fits."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Qt, QUrl
from PySide6.QtGui import QImage, QTextCursor, QTextDocument, QTextFormat
from PySide6.QtWidgets import QDialog, QHBoxLayout, QListWidget, QListWidgetItem, QTextBrowser, QVBoxLayout, QWidget

import fasciculum

#: where the pages lie
FOLDER = Path(fasciculum.__file__).parent / "guide"
#: pages in their order, and their titles
PAGES = {
    "first": "Ten minutes with the demo",
    "no-time": "A folder and no time",
    "gather": "Gather",
    "lay-out": "Lay out",
    "bake": "Bake",
    "check": "Check",
    "deliver": "Deliver",
    "plans": "Plans and treatments",
    "density": "Texel density",
    "unwrapping": "Unwrapping and seams",
    "high-to-low": "High to low",
    "lightmaps": "Lightmaps",
    "layers": "Layers",
    "trims": "Trim sheets and palettes",
    "channels": "Channel packing and presets",
    "compression": "Compressed textures",
    "level": "A level",
    "batch": "Batch and farm",
    "watching": "Watching sources",
    "python": "Python",
    "command-line": "The command line",
    "recipes": "Recipes",
}
#: pixels that a picture is wide at most
WIDE = 600
#: pixels above a heading and beside what is typed
ROOM = 14


class _Page(QTextBrowser):
    """Shows a page; pictures are made as wide as it is."""

    def loadResource(self, kind: int, name: QUrl | str) -> object:
        if kind == QTextDocument.ResourceType.ImageResource.value:
            url = name if isinstance(name, QUrl) else QUrl(name)
            picture = QImage(str((FOLDER / url.path()).resolve() if url.isRelative() else url.toLocalFile()))
            if picture.width() > WIDE:
                return picture.scaledToWidth(WIDE, Qt.TransformationMode.SmoothTransformation)
            return picture
        return super().loadResource(kind, name)


class GuidePages(QDialog):
    """The pages beside a list of them."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Guide")
        self.resize(940, 640)
        line = QHBoxLayout(self)
        self.list = QListWidget()
        self.list.setAccessibleName("Pages of the guide")
        self.list.setFixedWidth(230)
        for name, title in PAGES.items():
            item = QListWidgetItem(title)
            item.setData(Qt.ItemDataRole.UserRole, name)
            self.list.addItem(item)
        self.page = _Page()
        self.page.setOpenLinks(False)
        self.page.anchorClicked.connect(self._follow)
        line.addWidget(self.list)
        side = QVBoxLayout()
        side.addWidget(self.page)
        line.addLayout(side, 1)
        self.list.currentItemChanged.connect(self._show)

    def turn_to(self, name: str) -> None:
        """Show a page."""
        self.list.setCurrentRow(list(PAGES).index(name if name in PAGES else "no-time"))
        self.show()
        self.raise_()
        self.activateWindow()

    def _show(self, item: QListWidgetItem | None) -> None:
        if item is None:
            return
        try:
            text = (FOLDER / f"{item.data(Qt.ItemDataRole.UserRole)}.md").read_text(encoding="utf-8")
        except OSError as error:
            text = f"This page is missing ({error.strerror}). Install Fasciculum again."
        self.page.setMarkdown(text)
        self._space()

    def _space(self) -> None:
        """Leave some room above headings and around lines to type."""
        block = self.page.document().firstBlock()
        while block.isValid():
            shape = block.blockFormat()
            if shape.headingLevel() > 1:
                shape.setTopMargin(ROOM)
            elif shape.hasProperty(QTextFormat.Property.BlockCodeLanguage) or shape.nonBreakableLines():
                shape.setLeftMargin(ROOM)
            QTextCursor(block).setBlockFormat(shape)
            block = block.next()
        self.page.moveCursor(QTextCursor.MoveOperation.Start)

    def _follow(self, url: QUrl) -> None:
        name = Path(url.path()).stem
        if name in PAGES:
            self.turn_to(name)
