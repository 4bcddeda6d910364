"""Where results are written, under which names and by which convention."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDoubleSpinBox,
    QFileDialog,
    QGridLayout,
    QHBoxLayout,
    QInputDialog,
    QLabel,
    QLineEdit,
    QPushButton,
    QSizePolicy,
    QWidget,
)

from fasciculum.app.parts import Column, Form, heading, note
from fasciculum.app.workspace import Workspace
from fasciculum.errors import FasciculumError
from fasciculum.model.delivery import PATTERN, DeliverySettings
from fasciculum.operations.deliver.conventions import BUILT_IN, delivery_name, judge_pattern
from fasciculum.operations.deliver.deliver import delivered_names
from fasciculum.operations.deliver.joining import balance
from fasciculum.operations.deliver.scene import ready_bundles
from fasciculum.session import commands
from fasciculum.session.stale import DONE, STALE, delivery_state

PACKINGS = (
    ("packed in one", "orm"),
    ("channels apart", "apart"),
    ("metal, smoothness", "metal_smoothness"),
)
GREENS = (("up (glTF)", "up"), ("down", "down"))
DEPTHS = (("as baked", 0), ("8 bits", 8), ("16 bits", 16))
TEXTURES = (("Base colour", "base_color"), ("Normal", "normal"), ("Surface", "orm"), ("Emission", "emissive"))


class DeliverPanel(Column):
    """Folder, convention, names, and what goes along."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace = workspace
        self._filling = False
        form = Form()
        self.folder = QLineEdit()
        self.folder.setPlaceholderText("a folder that the engine watches")
        form.row("Folder", self.folder, "Where the files are written. Nothing else in it is touched.")
        self.box.addWidget(form)
        self.choose = QPushButton("Choose folder …")
        self.choose.setToolTip("Choose the folder to deliver to")
        self.choose.clicked.connect(self._choose)
        self.box.addWidget(self.choose)
        self._convention()
        self._models()
        self._textures()
        self._joining()
        self.box.addSpacing(6)
        self.box.addWidget(heading("Will be written"))
        self.files = QLabel()
        self.files.setProperty("quiet", True)
        self.files.setWordWrap(True)
        self.files.setMinimumWidth(60)
        self.box.addWidget(self.files)
        self.box.addStretch(1)
        workspace.document_changed.connect(lambda *_: self.refresh())
        self.refresh()

    # -- parts ------------------------------------------------------------------------------------------------

    def _combo(self, entries: tuple, key: str) -> QComboBox:
        box = QComboBox()
        for words, value in entries:
            box.addItem(words, value)
        box.activated.connect(lambda index: self._change(**{key: box.itemData(index)}))
        return box

    def _check(self, words: str, tip: str, key: str) -> QCheckBox:
        box = QCheckBox(words)
        box.setToolTip(tip)
        box.toggled.connect(lambda on: self._change(**{key: on}))
        return box

    def _convention(self) -> None:
        self.box.addSpacing(4)
        self.box.addWidget(heading("Delivery"))
        self.title = QComboBox()
        self.title.setAccessibleName("Delivery")
        self.title.setToolTip(
            "A set of the settings below, named for the convention that it follows. The project keeps its own beside "
            "those that come along."
        )
        self.title.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.title.activated.connect(self._choose_delivery)
        self.box.addWidget(self.title)
        self.keep_as = QPushButton("Keep these as …")
        self.keep_as.setToolTip("Keep the settings below in the project, under a title of your own")
        self.keep_as.clicked.connect(self._keep_as)
        self.box.addWidget(self.keep_as)
        names = Form()
        self.name = QLineEdit()
        self.name.editingFinished.connect(lambda: self._change(name=self.name.text().strip()))
        self.name_note = note()
        names.row("Name", self.name, "The beginning of every file's name; empty takes the project's.", self.name_note)
        self.pattern = QLineEdit()
        self.pattern.editingFinished.connect(self._change_pattern)
        names.row(
            "Names",
            self.pattern,
            "How textures are named, of {name}, {bundle} and {map}. Letters that some file systems refuse become _.",
        )
        self.box.addWidget(names)

    def _models(self) -> None:
        self.box.addWidget(heading("Models"))
        row = QWidget()
        line = QHBoxLayout(row)
        line.setContentsMargins(0, 0, 0, 0)
        self.kinds: dict[str, QCheckBox] = {}
        tips = {
            "glb": "One file that holds everything",
            "gltf": "JSON with a .bin and the textures beside it",
            "obj": "OBJ with MTL: in world space, without skins, animations and cameras",
        }
        for kind in MODEL_KINDS:
            box = QCheckBox(f".{kind}")
            box.setToolTip(tips[kind])
            box.toggled.connect(self._kinds_changed)
            self.kinds[kind] = box
            line.addWidget(box)
        line.addStretch(1)
        self.box.addWidget(row)
        self.external = self._check(
            "textures beside the model",
            "The model refers to the PNG files instead of holding copies of them, where their convention is glTF's.",
            "external_textures",
        )
        self.keep = self._check(
            "keep the source UVs too",
            "Source UV sets go along after the sheet's. An engine that reads the wrong one shows nonsense: leave "
            "it off unless something needs them.",
            "keep_source_uvs",
        )
        self.box.addWidget(self.external)
        self.box.addWidget(self.keep)

    def _textures(self) -> None:
        self.box.addSpacing(4)
        self.box.addWidget(heading("Textures"))
        row = QWidget()
        grid = QGridLayout(row)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setVerticalSpacing(0)
        self.maps: dict[str, QCheckBox] = {}
        for number, (words, name) in enumerate(TEXTURES):
            box = QCheckBox(words)
            box.setToolTip(f"Write the textures of {words.lower()}")
            box.setAccessibleName(f"Write {words.lower()}")
            box.toggled.connect(self._maps_changed)
            self.maps[name] = box
            grid.addWidget(box, number // 2, number % 2)
        self.box.addWidget(row)
        form = Form()
        self.packing = self._combo(PACKINGS, "packing")
        form.row(
            "Packing",
            self.packing,
            "Which channels of the surface share a file: occlusion, roughness and metallic in one; each apart; or "
            "metallic with smoothness in its alpha, and occlusion apart.",
        )
        self.green = self._combo(GREENS, "green")
        form.row("Green", self.green, "Where green points in normal maps. Models that are written keep glTF's.")
        self.depth = self._combo(DEPTHS, "bits")
        form.row("Bits", self.depth, "Bits for each channel of the files.")
        self.box.addWidget(form)
        self.powers = self._check(
            "scale up to powers of two", "For engines that cannot use other sizes", "power_of_two"
        )
        self.box.addWidget(self.powers)

    def _joining(self) -> None:
        self.box.addSpacing(4)
        self.box.addWidget(heading("Meshes"))
        self.combine = self._check(
            "join each bundle into one mesh",
            "One draw call for each bundle; but all of it is drawn when a corner of it is in view. What moves by "
            "itself stays apart.",
            "combine",
        )
        self.box.addWidget(self.combine)
        form = Form()
        self.region = QDoubleSpinBox(minimum=0, maximum=100_000, decimals=1, suffix=" m", specialValueText="not split")
        self.region.editingFinished.connect(lambda: self._change(region=self.region.value()))
        self.balance_note = note()
        form.row(
            "Region",
            self.region,
            "Split each joined mesh by cells of space this large, in metres, so that less is drawn when little is "
            "seen.",
            self.balance_note,
        )
        self.box.addWidget(form)

    # -- changes ----------------------------------------------------------------------------------------------

    def _change(self, **values: Any) -> None:
        delivery = self.workspace.document.delivery
        if not self._filling and any(getattr(delivery, key) != value for key, value in values.items()):
            self.workspace.apply("Set delivery", lambda document: commands.set_delivery(document, **values))

    def _change_pattern(self) -> None:
        pattern = self.pattern.text().strip() or PATTERN
        try:
            judge_pattern(pattern)
        except FasciculumError as error:
            self.workspace.say(str(error), "broken")
            self.refresh()
            return
        self._change(pattern=pattern)

    def _kinds_changed(self) -> None:
        chosen = tuple(kind for kind, box in self.kinds.items() if box.isChecked())
        if not self._filling:
            self._change(models=chosen)

    def _maps_changed(self) -> None:
        if self._filling:
            return
        chosen = tuple(name for name, box in self.maps.items() if box.isChecked())
        if not chosen:
            self.workspace.say("A delivery needs at least one kind of texture.", "broken")
            self.refresh()
            return
        self._change(maps=() if len(chosen) == len(self.maps) else chosen)

    def _choose_delivery(self, index: int) -> None:
        settings: DeliverySettings = self.title.itemData(index)
        if settings != self.workspace.document.delivery:
            self.workspace.apply(
                f"Choose delivery {settings.title}", lambda document: commands.choose_delivery(document, settings)
            )

    def _keep_as(self) -> None:
        present = self.workspace.document.delivery.title
        title, done = QInputDialog.getText(self, "Keep delivery", "Title of these settings", text=present)
        if done:
            self.workspace.apply(f"Keep delivery {title}", lambda document: commands.keep_delivery(document, title))

    def _choose(self) -> None:
        found = QFileDialog.getExistingDirectory(self, "Deliver to", self.folder.text() or str(Path.home()))
        if found:
            self.folder.setText(found)

    def deliver(self) -> None:
        """Deliver to the folder that is written there, asking for one when there is none."""
        if not self.folder.text().strip():
            self._choose()
        folder = self.folder.text().strip()
        if folder:
            self.workspace.deliver(str(Path(folder).expanduser()))

    # -- what is shown ----------------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Show the settings and the names that follow from them."""
        document = self.workspace.document
        settings = document.delivery
        self._filling = True
        if not self.folder.text() and document.delivered_to:
            self.folder.setText(document.delivered_to)
        if not self.name.hasFocus():
            self.name.setText(settings.name)
        self.name.setPlaceholderText(document.name)
        if not self.pattern.hasFocus():
            self.pattern.setText(settings.pattern)
            self.pattern.setCursorPosition(0)
        self._fill_titles()
        for kind, box in self.kinds.items():
            box.setChecked(kind in settings.models)
        for name, box in self.maps.items():
            box.setChecked(not settings.maps or name in settings.maps)
        for box, value in ((self.packing, settings.packing), (self.green, settings.green), (self.depth, settings.bits)):
            box.setCurrentIndex(box.findData(value))
        self.external.setChecked(settings.external_textures)
        self.keep.setChecked(settings.keep_source_uvs)
        self.powers.setChecked(settings.power_of_two)
        self.combine.setChecked(settings.combine)
        self.region.setEnabled(settings.combine)
        if not self.region.hasFocus():
            self.region.setValue(settings.region)
        self._filling = False
        self.name_note.setText(f"written as {delivery_name(document)}")
        self._show_balance()
        self._show_files()

    def _fill_titles(self) -> None:
        document = self.workspace.document
        known = {settings.title: settings for settings in (*BUILT_IN, *document.deliveries)}
        present = document.delivery
        plain = commands.choose_delivery(document, known[present.title]).delivery if present.title in known else None
        self.title.clear()
        for settings in known.values():
            self.title.addItem(settings.title, settings)
        if plain != present:
            self.title.addItem(f"{present.title} (changed)", present)
            self.title.setCurrentIndex(self.title.count() - 1)
        else:
            self.title.setCurrentText(present.title)

    def _show_balance(self) -> None:
        document = self.workspace.document
        bundles = [bundle for bundle in document.bundles if bundle.objects]
        if not bundles or not document.delivery.combine:
            self.balance_note.setText("each object is drawn by itself" if bundles else "")
            return
        found = balance(document.scene, bundles, document.delivery)
        self.balance_note.setText(
            f"{found.calls_apart} → {found.calls_joined} draw calls; seeing a corner of an object draws "
            f"{found.seen_apart:,.0f} → {found.seen_joined:,.0f} triangles on average"
        )

    def _show_files(self) -> None:
        document = self.workspace.document
        if not ready_bundles(document):
            self.files.setText("Nothing is baked yet.")
            return
        try:
            lines = sorted(delivered_names(document), key=lambda name: name.endswith(".png"))
        except FasciculumError as error:
            lines = [str(error)]
        undone = [bundle.name for bundle in document.bundles if bundle.texturing is None and bundle.objects]
        if undone:
            lines.append(f"\n{', '.join(undone)}: not baked, delivered as they came.")
        state = {DONE: f"\nDelivered to {document.delivered_to}.", STALE: "\nThe last delivery is stale."}
        lines.append(state.get(delivery_state(document), ""))
        # names may break behind an underscore
        self.files.setText("\n".join(lines).replace("_", "_\u200b"))
