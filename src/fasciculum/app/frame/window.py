"""The window: puts the parts together and says what can be done."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PySide6.QtCore import QByteArray, QEvent, QPoint, QSize, Qt, QTimer
from PySide6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent, QKeyEvent, QResizeEvent, QShowEvent
from PySide6.QtWidgets import (
    QAbstractButton,
    QAbstractItemView,
    QApplication,
    QComboBox,
    QFrame,
    QHBoxLayout,
    QLabel,
    QMainWindow,
    QMenu,
    QPushButton,
    QSizePolicy,
    QSplitter,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from fasciculum.app.batch_list import BatchList
from fasciculum.app.commands import add_actions
from fasciculum.app.fields import ComboBox, Slider
from fasciculum.app.following import Following
from fasciculum.app.frame.bundle_list import BundleList
from fasciculum.app.frame.command_search import CommandSearch, Hit
from fasciculum.app.frame.command_table import make_acts
from fasciculum.app.frame.files import Files
from fasciculum.app.frame.guide_pages import GuidePages
from fasciculum.app.frame.ledger_strip import LedgerStrip
from fasciculum.app.frame.notice import NoticeBar
from fasciculum.app.frame.notifier import Notifier
from fasciculum.app.frame.queue_list import QueueButton
from fasciculum.app.frame.settings_column import SettingsColumn
from fasciculum.app.frame.stage_line import StageLine
from fasciculum.app.frame.welcome import PICTURE, Welcome
from fasciculum.app.given import GivenSheets
from fasciculum.app.layers import Layers
from fasciculum.app.lights import Lights
from fasciculum.app.look import apply_theme, change_theme, theme_in_use
from fasciculum.app.model.model_view import ModelView
from fasciculum.app.model.shaper import Shaper
from fasciculum.app.pairs import Pairs
from fasciculum.app.panels.repairs import Repairs
from fasciculum.app.parts import set_state
from fasciculum.app.sheet.island_editor import IslandEditor
from fasciculum.app.sheet.sheet_map import STOP, exposure_slider
from fasciculum.app.sheet.sheet_view import SheetView
from fasciculum.app.workspace import LENS_WORDS, LENSES, Workspace
from fasciculum.cli.find import Entry, entries
from fasciculum.model.document import Document
from fasciculum.model.maps import BASE_COLOR, KINDS
from fasciculum.session import commands
from fasciculum.session.pictures import picture_of

MAP_NAMES = (*((kind.title, kind.name) for kind in KINDS.values()), ("No map", "none"))
SIDES = (("Wipe", "wipe"), ("Source", "source"), ("Result", "result"))
#: seconds for which a message stays
MESSAGE = 9
#: pixels: what the window opens with, what it needs, and below which the left column becomes a strip
USUAL, LEAST, NARROW, ROOMY = QSize(1280, 800), QSize(1040, 600), 1180, 1440
#: pixels that a title bar has at most, and milliseconds until there is one
TITLE_BAR, FRAMED = 40, 150
#: pixels for the project's name, and for what is under way, in a wide window and in a narrow one
NAME, NAME_NARROW, QUEUE, QUEUE_NARROW = 140, 60, 172, 138
#: widths of the four columns at first
WIDTHS = (232, 398, 398, 260)
#: keys that work a part which has the keyboard
PRESSING = (Qt.Key.Key_Space, Qt.Key.Key_Return, Qt.Key.Key_Enter)


class Window(QMainWindow):
    """The one window.

    Parameters
    ----------
    workspace : Workspace
    theme_name : str
        A key of `fasciculum.app.look.THEMES`.
    """

    def __init__(self, workspace: Workspace, theme_name: str = "dark") -> None:
        super().__init__()
        self.workspace = workspace
        self.theme = theme = theme_in_use(theme_name)
        self.setAcceptDrops(True)
        self.setMinimumSize(LEAST)
        self.notices = NoticeBar()
        self.files = Files(workspace, self, self.notices)
        self.repairs = Repairs(workspace, self)
        self.hand = IslandEditor(workspace)
        self.shaper = Shaper(workspace, self.hand)
        self.pairs = Pairs(workspace)
        self.lights = Lights(workspace)
        self.layers = Layers(workspace)
        self.lights.picked.connect(self.layers.rest)
        self.given = GivenSheets(workspace, self.hand)
        self.batch_list = BatchList(workspace)
        self.following = Following(workspace)
        self.files.follow = self.following
        self.guide: GuidePages | None = None
        self.given.faces = lambda: (self.shaper.key, sorted(self.shaper.faces))
        self.acts = {act.id: act for act in (*make_acts(self), *self.hand.acts(), *self.shaper.acts())}
        self.actions_ = add_actions(list(self.acts.values()), self)
        frame = QWidget()
        frame.setObjectName("frame")
        box = QVBoxLayout(frame)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(0)
        box.addWidget(self._top())
        box.addWidget(self._rule())
        self.bundles = BundleList(workspace, theme, self.act)
        names = "new_bundle", "rename_bundle", "remove_bundle", "make_loose", "remove_objects", "use_as_high", "frame"
        self.bundles.menu_actions = [(self.actions_[name], self.acts[name].enabled) for name in names]
        self.sheet = SheetView(workspace, theme, self.hand)
        self.model = ModelView(workspace, theme, self.shaper, self.pairs, self.lights, self.layers)
        hands = (self.shaper, self.pairs, self.lights, self.layers, self.given)
        self.settings = SettingsColumn(workspace, theme, self.act, self.repairs, *hands)
        self.columns = QSplitter(Qt.Orientation.Horizontal)
        self.columns.setHandleWidth(1)
        self.columns.setChildrenCollapsible(False)
        #: whether the columns are as somebody dragged them, now or before
        self._arranged = False
        self.columns.splitterMoved.connect(lambda *_: self._arrange())
        self.sheet_side = self._titled("Sheet", self._sheet_tools(), self.sheet)
        self.model_side = self._titled("Model", self._model_tools(), self.model)
        for part in (self.bundles, self.sheet_side, self.model_side, self.settings):
            self.columns.addWidget(part)
        self.settings.setMinimumWidth(252)
        self.columns.setSizes(list(WIDTHS))
        for index, stretch in enumerate((0, 1, 1, 0)):
            self.columns.setStretchFactor(index, stretch)
        self.pages = QStackedWidget()
        self.welcome = Welcome(workspace, theme, self.act, self._open_recent)
        for page in (self.welcome, self.columns):
            self.pages.addWidget(page)
        box.addWidget(self.pages, 1)
        box.addWidget(self._rule())
        box.addWidget(self.notices)
        self.message = QLabel()
        self.message.setContentsMargins(12, 5, 12, 5)
        self.message.setWordWrap(True)
        self.message.hide()
        box.addWidget(self.message)
        self.ledger = LedgerStrip(workspace, theme)
        box.addWidget(self.ledger)
        self.setCentralWidget(frame)
        self._quiet = QTimer(self, singleShot=True, interval=MESSAGE * 1000)
        self._quiet.timeout.connect(self.message.hide)
        workspace.said.connect(self.say)
        workspace.document_changed.connect(self._document_changed)
        workspace.document_changed.connect(lambda *_: self.hand.measure())
        workspace.stage_changed.connect(self._stage_changed)
        workspace.view_changed.connect(self._show_view)
        workspace.selection_changed.connect(self._show_view)
        workspace.frame_wanted.connect(self.frame_selection)
        workspace.kept.connect(self._keep_picture)
        self.widened = ""
        self._fitted = self._placed = False
        self._restore()
        self._document_changed(workspace.document, workspace.document)
        self._show_view()

    # -- parts ------------------------------------------------------------------------------------------------

    def _rule(self) -> QFrame:
        line = QFrame()
        line.setObjectName("line")
        line.setFixedHeight(1)
        return line

    def act(self, name: str) -> Callable[[], None]:
        """Return what does an act, if it can be done."""
        return lambda *_: self.acts[name].call() if self.acts[name].enabled() else None

    def _top(self) -> QWidget:
        top = QWidget()
        top.setObjectName("panel")
        top.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        line = QHBoxLayout(top)
        line.setContentsMargins(8, 3, 8, 3)
        line.setSpacing(8)
        self.project = QPushButton()
        self.project.setProperty("flat", True)
        self.project.setMaximumWidth(232)
        self.project.setToolTip("The project: new, open, save, recent (Alt+P)")
        self.project.clicked.connect(lambda: self.open_menu(self.project))
        line.addWidget(self.project, 1, Qt.AlignmentFlag.AlignLeft)
        self.stages = StageLine(self.workspace, self.theme)
        line.addWidget(self.stages)
        line.addStretch(1)
        self.stages.make_everything = self.act("make_everything")
        self.stages.open_queue = self.open_queue
        self.stages.folder = lambda: self.settings.deliver.folder.text().strip()
        self.search = QPushButton("Find  Ctrl+K")
        self.search.setToolTip("Find any command, object, bundle or setting by name (Ctrl+K)")
        self.search.clicked.connect(self.act("search"))
        self.queue = QueueButton(self.workspace, self.batch_list)
        self.notifier = Notifier(self.workspace)
        line.addWidget(self.search)
        line.addWidget(self.queue)
        return top

    def _titled(self, title: str, tools: list[QWidget], view: QWidget) -> QWidget:
        side = QWidget()
        side.setObjectName("panel")
        side.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        box = QVBoxLayout(side)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(0)
        line = QHBoxLayout()
        line.setContentsMargins(10, 3, 6, 3)
        line.setSpacing(6)
        label = QLabel(title)
        label.setStyleSheet("font-weight: 600")
        line.addWidget(label)
        line.addStretch(1)
        for tool in tools:
            line.addWidget(tool)
        box.addLayout(line)
        box.addWidget(view, 1)
        return side

    def _chooser(self, name: str, entries: tuple, tip: str, change: Callable) -> QComboBox:
        box = ComboBox()
        box.setAccessibleName(name)
        box.setToolTip(tip)
        for words, value in entries:
            box.addItem(words, value)
        box.activated.connect(lambda index: change(box.itemData(index)))
        return box

    def settings_pairing(self, name: str) -> Callable[[], None]:
        """Return what does something of the Pairing fold, under Gather."""

        def call() -> None:
            self.act("stage_gather")()
            getattr(self.settings.pairing, name)()

        return call

    def _lens(self) -> QComboBox:
        chooser = self._chooser(
            "Lens",
            tuple((LENS_WORDS.get(lens, lens.capitalize()), lens) for lens in LENSES),
            "Colouring of both views: textures, one colour per object, or density relative to the target "
            "(pale: on target, blue: fewer texels, brown: more).",
            lambda lens: self.workspace.set_view(lens=lens),
        )
        # it gives way where the window is narrow; its list shows the names whole
        chooser.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        chooser.setMinimumContentsLength(3)
        chooser.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Fixed)
        return chooser

    def _sheet_tools(self) -> list[QWidget]:
        self.sheet_lens = self._lens()
        self.map = self._chooser(
            "Map",
            MAP_NAMES,
            "The baked map shown under the islands.",
            lambda name: self.workspace.set_view(map=name),
        )
        # it gives way before the columns beside the views do
        self.map.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.map.setMinimumContentsLength(6)
        self.map.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.map.setMaximumWidth(190)
        self.mip_words = QLabel("mip 0")
        self.mip_words.setProperty("quiet", True)
        self.mip = Slider(Qt.Orientation.Horizontal)
        self.mip.setRange(0, 8)
        self.mip.setFixedWidth(44)
        self.mip.setAccessibleName("Mip level")
        self.mip.setToolTip("Show a smaller mip level of the map, as seen from a distance")
        self.mip.valueChanged.connect(lambda level: self.workspace.set_view(mip=level))
        self.sheet_whole = self._whole_button("sheet")
        return [self.sheet_lens, self.map, self.mip_words, self.mip, self.sheet_whole]

    def _model_tools(self) -> list[QWidget]:
        self.model_lens = self._lens()
        self.side = self._chooser(
            "Side",
            SIDES,
            "Source and result with a divider to drag, or one of them (Space flips)",
            lambda side: self.workspace.set_view(side=side),
        )
        self.high = QPushButton("High-poly")
        self.high.setCheckable(True)
        self.high.setToolTip("Draw high-poly models instead of their low-poly objects, on the source's side")
        self.high.clicked.connect(lambda: self.workspace.set_view(high=self.high.isChecked()))
        tip = "Brightness of the shown light, in stops relative to the bundle's exposure"
        self.exposure = exposure_slider(self.workspace, "Exposure of the model", tip, 72)
        self.model_whole = self._whole_button("model")
        return [self.model_lens, self.side, self.exposure, self.high, self.model_whole]

    def _whole_button(self, name: str) -> QPushButton:
        button = QPushButton("Maximise")
        button.setCheckable(True)
        button.setToolTip(f"Give the {name} the room of both views")
        button.setAccessibleName(f"Maximise the {name}")
        # the views' headers are full at 1280 px: the map's name needs the room more
        button.setStyleSheet("padding-left: 4px; padding-right: 4px")
        button.clicked.connect(lambda: self.widen(name if button.isChecked() else ""))
        return button

    def widen(self, name: str) -> None:
        """Give the sheet or the model the room of both, and of the left column; empty shows all."""
        self.widened = name
        self._show_strip()
        self.sheet_side.setVisible(name != "model")
        self.model_side.setVisible(name != "sheet")
        self.sheet_whole.setChecked(name == "sheet")
        self.model_whole.setChecked(name == "model")

    # -- size -------------------------------------------------------------------------------------------------

    def _restore(self) -> None:
        """Take the size that the window had last, or the usual one, as far as the screen has room."""
        stored = self.workspace.settings.value("window/geometry")
        if not (isinstance(stored, QByteArray) and self.restoreGeometry(stored)):
            self.resize(USUAL)
        self._fit()

    def _place_columns(self) -> None:
        """Give the columns the widths that they had last, once, when they are first seen."""
        if self._placed or not self.columns.isVisible():
            return
        self._placed = True
        widths = self.workspace.settings.value("window/columns")
        if isinstance(widths, QByteArray):
            self._arranged = self.columns.restoreState(widths)
        self._give_room()

    def _arrange(self) -> None:
        """Leave the columns as they were dragged, from now on."""
        self._arranged = True

    def _give_room(self) -> None:
        """Give what the left column cannot use to the sheet; what it lacks is taken from there."""
        sizes = self.columns.sizes()
        least, most = self.bundles.minimumWidth(), self.bundles.maximumWidth()
        wanted = min(max(sizes[0], least), most)
        if self.columns.isVisible() and wanted != sizes[0]:
            sizes[:2] = [wanted, sizes[0] + sizes[1] - wanted]
            self.columns.setSizes(sizes)
        half = (sizes[1] + sizes[2]) // 2
        if self.columns.isVisible() and not self._arranged and min(sizes[1:3]) > 0 and abs(sizes[1] - half) > 1:
            # a header that grew has taken its width from the other view
            self.columns.setSizes([sizes[0], half, sizes[1] + sizes[2] - half, sizes[3]])

    def _fit(self) -> None:
        """Make the window no larger than the screen with its frame."""
        screen = self.screen().availableGeometry()
        if self.isMaximized() or self.isFullScreen() or not screen.isValid():
            return
        frame = self.frameGeometry().size() - self.size()
        # a title bar that is not known yet is allowed for
        frame = frame.expandedTo(QSize(0, 0)) if self._fitted else frame.expandedTo(QSize(4, TITLE_BAR))
        room = (screen.size() - frame).expandedTo(self.minimumSize())
        if self.width() > room.width() or self.height() > room.height():
            self.resize(self.size().boundedTo(room))
        if self._fitted and not screen.contains(self.frameGeometry()):
            outer = self.frameGeometry()
            outer.moveLeft(max(min(outer.left(), screen.right() - outer.width()), screen.left()))
            outer.moveTop(max(min(outer.top(), screen.bottom() - outer.height()), screen.top()))
            self.move(outer.topLeft())

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self._place_columns()
        if not self._fitted:
            self._fitted = True
            # once whoever draws frames has put one around the window
            QTimer.singleShot(FRAMED, self._fit)

    def event(self, event: QEvent) -> bool:
        """Leave Space and Return to a button or a list that has the keyboard, before the window's own shortcuts.

        Keys that no part wants come up to the window, before they are looked up among its shortcuts and after.
        """
        if isinstance(event, QKeyEvent) and event.modifiers() == Qt.KeyboardModifier.NoModifier:
            part = self.focusWidget()
            if event.type() == QEvent.Type.ShortcutOverride and event.key() in PRESSING and _wants_keys(part):
                event.accept()
                return True
            returned = event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter)
            if event.type() == QEvent.Type.KeyPress and returned and isinstance(part, QAbstractButton):
                part.click()
                return True
        return super().event(event)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._show_strip()

    def _show_strip(self) -> None:
        narrow = self.width() < NARROW
        self.bundles.set_strip(narrow or bool(self.widened))
        self.queue.setFixedWidth(QUEUE_NARROW if narrow else QUEUE)
        # the list's names need the room more than the words on these two
        words = "Maximise" if self.width() >= ROOMY else "⤢"
        for button in (self.sheet_whole, self.model_whole):
            button.setText(words)
        self._give_room()
        self._show_name()
        self.mip_words.setVisible(self.mip.isVisibleTo(self) and not narrow)

    # -- what can be done -------------------------------------------------------------------------------------

    def filled_bundles(self) -> list[str]:
        """Return the names of all bundles that hold something."""
        return [bundle.name for bundle in self.workspace.document.bundles if bundle.objects]

    def open_menu(self, button: QPushButton) -> None:
        """Open the menu of all acts below a button."""
        menu = QMenu(self)
        for part in ("project", "edit", "work", "surface", "sheet", "view"):
            target = menu if part == "project" else menu.addMenu(part.capitalize())
            for act in self.acts.values():
                if act.menu == part:
                    action = self.actions_[act.id]
                    action.setEnabled(act.enabled())
                    if act.id in ("undo", "redo"):
                        label = getattr(self.workspace.session, f"{act.id}_label")
                        action.setText(f"{act.title} {label.lower()}" if label else act.title)
                    target.addAction(action)
            if part == "project":
                recent = menu.addMenu("Recent projects")
                for name in self.workspace.recent():
                    recent.addAction(Path(name).name, partial(self._open_recent, Path(name)))
                recent.setEnabled(not recent.isEmpty())
                menu.addSeparator()
        menu.addSeparator()
        menu.addAction(self.actions_["quit"])
        # shortcuts only work for actions that are enabled; what cannot be done is judged when it is called
        menu.aboutToHide.connect(self._enable_actions)
        menu.popup(button.mapToGlobal(QPoint(0, button.height() + 2)))
        self.menu = menu

    def _enable_actions(self) -> None:
        for action in self.actions_.values():
            action.setEnabled(True)

    # -- acts -------------------------------------------------------------------------------------------------

    def undo(self) -> None:
        """Take back the last step."""
        self.settings.commit()
        label = self.workspace.session.undo()
        self.say(f"Undone: {label}." if label else "There is nothing to undo.")

    def redo(self) -> None:
        """Do the last step again."""
        label = self.workspace.session.redo()
        self.say(f"Done again: {label}." if label else "There is nothing to do again.")

    def new_bundle(self) -> None:
        """Make a bundle of the chosen objects."""
        keys = sorted(self.workspace.selection)
        name = commands.unused_name(self.workspace.document)
        self.workspace.apply("New bundle", lambda document: commands.add_bundle(document, name, keys))
        self.workspace.select(keys, (name,))

    def remove_bundle(self) -> None:
        """Take the chosen bundles away."""
        names = self.workspace.bundle_names

        def change(document: Document) -> Document:
            for name in names:
                document = commands.remove_bundle(document, name)
            return document

        self.workspace.apply(f"Remove {', '.join(names)}", change)

    def make_loose(self) -> None:
        """Take the chosen objects out of their bundles."""
        keys = sorted(self.workspace.selection)
        self.workspace.apply("Make loose", lambda document: commands.move_objects(document, keys, ""))

    def choose_all(self) -> None:
        """Choose every object."""
        self.workspace.select({item.key for item in self.workspace.document.scene.objects})

    def choose_bundle(self) -> None:
        """Choose the objects of the chosen bundles."""
        self.workspace.select(
            {key for bundle in self.workspace.bundles for key in bundle.objects}, self.workspace.bundle_names
        )

    def main(self) -> None:
        """Do what the stage is for."""
        self.settings.commit()
        words, can = self.settings.main_words()
        if not can:
            self.say(f"{words}.")
            return
        {
            "gather": self.files.add_models,
            "lay out": self.workspace.pack,
            "bake": self.workspace.pack_and_bake,
            "check": self.workspace.check,
            "deliver": self.deliver,
        }[self.workspace.stage]()

    def deliver(self) -> None:
        """Write the results."""
        self.settings.deliver.deliver()

    def make_everything(self) -> None:
        """Bring everything up to date and deliver it, asking for a folder when none is named."""
        self.settings.commit()
        folder = self.settings.deliver.wanted_folder()
        if folder:
            self.workspace.make_everything(folder)

    def run_named_bakes(self) -> None:
        """Bake every bundle by its named bakes, into files."""
        self.settings.bake.named.ask_and_run()

    def take_plan(self, name: str) -> None:
        """Bundle everything as a plan says."""
        self.workspace.take_plan(name)

    def rename_bundle(self) -> None:
        """Give the chosen bundle another name."""
        self.bundles.rename()

    def open_guide(self, page: str = "") -> None:
        """Open the guide at a page, that of the stage unless one is named."""
        if self.guide is None:
            self.guide = GuidePages(self)
        self.guide.turn_to(page or self.workspace.stage.replace(" ", "-"))

    def open_queue(self) -> None:
        """Show what runs and waits."""
        self.queue.open()

    def leave(self) -> None:
        """Close the window, once whatever called this is over: a menu, or a question."""
        QTimer.singleShot(0, self.close)

    def open_project_menu(self) -> None:
        """Open the menu of all acts."""
        self.open_menu(self.project)

    def _open_recent(self, path: Path) -> None:
        self.files.leave_for(partial(self.workspace.open, path))

    def _keep_picture(self, path: Path) -> None:
        """Keep a small picture of a project that was saved, for the first screen."""
        target = picture_of(path)
        try:
            target.parent.mkdir(parents=True, exist_ok=True)
        except OSError:
            return
        mode = Qt.AspectRatioMode.KeepAspectRatioByExpanding
        picture = self.model.grab().scaled(PICTURE * 2, mode, Qt.TransformationMode.SmoothTransformation)
        picture.save(str(target))

    def cancel(self) -> None:
        """Stop the running work."""
        run, job = self.workspace.everything, self.workspace.worker.runner.running
        if run is not None and not run.over:
            run.cancel()
        elif job is not None:
            self.workspace.worker.runner.cancel(job)

    def flip(self) -> None:
        """Show the other side."""
        self.workspace.set_view(side="source" if self.workspace.side == "result" else "result")

    def frame_selection(self) -> None:
        """Frame the chosen objects in both views."""
        self.sheet.frame()
        self.model.frame()

    def flip_theme(self) -> None:
        """Change to the other theme, at once and for the next start."""
        other = "light" if self.theme.name == "dark" else "dark"
        self.workspace.settings.setValue("theme", other)
        change_theme(self.theme, other)
        application = QApplication.instance()
        if isinstance(application, QApplication):
            apply_theme(application, other)
        self.workspace.theme_changed.emit()
        for part in self.findChildren(QWidget):
            part.update()

    def filter_list(self) -> None:
        """Give the keyboard to the filter of the list of bundles and objects."""
        if self.bundles.filter.isVisible():
            self.bundles.filter.setFocus(Qt.FocusReason.ShortcutFocusReason)
            self.bundles.filter.selectAll()
        else:
            self.workspace.say("The list is narrow. Make the window wider to filter it.")

    def open_search(self) -> None:
        """Open the search below its button."""
        workspace = self.workspace
        controls = self.settings.named()
        hits = [Hit(entry, call) for entry in entries() if (call := self._shows(entry, controls)) is not None]
        for bundle in workspace.document.bundles:
            hits.append(Hit(Entry(bundle.name, "bundle"), partial(workspace.select, (), (bundle.name,))))
        for item in workspace.document.scene.objects:
            hits.append(Hit(Entry(item.key, "object"), partial(self._go_to, item.key)))
        known = {(entry.where or "").partition(",")[0].lower() + entry.title for entry in entries()}
        for (stage, name), control in controls.items():
            if stage + name not in known:
                entry = Entry(name, "setting", stage.capitalize(), text=control.toolTip().partition("\n")[0])
                hits.append(Hit(entry, partial(self.settings.go_to, stage, control)))
        self.searching = CommandSearch(self, hits)
        place = self.search.mapToGlobal(QPoint(0, self.search.height() + 4))
        self.searching.move(min(place.x(), self.geometry().right() - self.searching.width() - 8), place.y())
        self.searching.show()
        self.searching.field.setFocus()

    def _shows(self, entry: Entry, controls: dict[tuple[str, str], QWidget]) -> Callable[[], None] | None:
        """Return what shows or does something that can be found, None where the window has no such thing."""
        settings = self.settings
        if entry.name in self.acts:
            return partial(self._do, entry)
        if entry.kind == "page" and entry.page:
            return partial(self.open_guide, entry.page.rpartition("/")[2].partition(".")[0])
        if entry.kind == "view" and "/" in entry.name:
            return partial(settings.open_fold, *entry.name.split("/"))
        if entry.kind == "setting":
            stage = (entry.where or "").partition(",")[0].lower()
            control = controls.get((stage, entry.title))
            return None if control is None else partial(settings.go_to, stage, control)
        place = {"map": ("Bake", "Maps"), "check": ("Check", ""), "treatment": ("Gather", "Treatments")}.get(entry.kind)
        return None if place is None else partial(settings.open_fold, *place)

    def _do(self, entry: Entry) -> None:
        """Do a command that was found, or say that it cannot be done now."""
        act = self.acts[entry.name]
        if act.enabled():
            act.call()
        else:
            self.workspace.say(f"{act.title} has nothing to work on now. {act.tip}.")

    def _go_to(self, key: str) -> None:
        self.workspace.select({key})
        self.frame_selection()

    # -- signs of life ----------------------------------------------------------------------------------------

    def say(self, words: str, state: str = "") -> None:
        """Show a message above the ledger; what is broken stays until the next one."""
        self.message.setText(words)
        set_state(self.message, state)
        self.message.show()
        if state == "broken":
            self._quiet.stop()
        else:
            self._quiet.start()

    def _document_changed(self, before: Document, after: Document) -> None:
        self._show_name()
        begun = bool(after.scene.sources)
        self.pages.setCurrentWidget(self.columns if begun else self.welcome)
        self.ledger.setVisible(begun)
        self.stages.setVisible(begun)
        self._place_columns()
        if not begun:
            self.welcome.refresh()
        self._show_view()

    def _show_name(self) -> None:
        """Show the project's name, and whether it has been edited, in the room that there is."""
        document = self.workspace.document
        edited = self.workspace.session.unsaved and bool(document.scene.objects)
        room = NAME_NARROW if self.width() < NARROW else NAME
        name = self.project.fontMetrics().elidedText(document.name, Qt.TextElideMode.ElideRight, room)
        self.project.setText(f"{name}  ▾" + ("   edited" if edited else ""))
        self.setWindowTitle(f"{document.name}{' (edited)' if edited else ''} – Fasciculum")
        self.project.setAccessibleName(f"Project {document.name}{', edited' if edited else ''}")

    def _stage_changed(self) -> None:
        self._show_view()

    def _show_view(self) -> None:
        workspace = self.workspace
        for box, value in (
            (self.sheet_lens, workspace.lens),
            (self.model_lens, workspace.lens),
            (self.side, workspace.side),
            (self.map, workspace.map or BASE_COLOR.name),
        ):
            box.setCurrentIndex(box.findData(value))
        self.high.setChecked(workspace.high)
        self.high.setVisible(workspace.document.scene.detail is not None and workspace.lens != "light")
        self.exposure.setVisible(workspace.lens == "light")
        self.exposure.setValue(round(workspace.exposure * STOP))
        self.mip.setValue(workspace.mip)
        self.mip_words.setText(f"mip {workspace.mip}")
        bundle = workspace.bundle
        baked = bundle is not None and bundle.texturing is not None
        for part in (self.map, self.mip):
            part.setVisible(baked)
        self.mip_words.setVisible(baked and self.width() >= NARROW)
        # once the header has its size
        QTimer.singleShot(0, self._give_room)

    # -- files dropped, leaving -------------------------------------------------------------------------------

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        paths = [Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()]
        event.acceptProposedAction()
        self.files.take(paths)

    def closeEvent(self, event: QCloseEvent) -> None:
        if self.files.may_close():
            self.workspace.settings.setValue("window/geometry", self.saveGeometry())
            if self._placed and self._arranged:
                self.workspace.settings.setValue("window/columns", self.columns.saveState())
            event.accept()
            self.batch_list.close()
            self.workspace.close()
        else:
            event.ignore()


def _wants_keys(part: QWidget | None) -> bool:
    """Tell whether Space and Return work a part: a button, a drop-down list, or the box of a list's entry."""
    if isinstance(part, QAbstractItemView):
        return bool(part.currentIndex().flags() & Qt.ItemFlag.ItemIsUserCheckable)
    return isinstance(part, (QAbstractButton, QComboBox))
