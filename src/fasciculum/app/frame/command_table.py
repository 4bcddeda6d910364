"""Everything that can be done, as data: id, title, tip, act, shortcut, when, and in which menu."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Protocol

from fasciculum.app.batch_list import BatchList
from fasciculum.app.commands import Command
from fasciculum.app.following import Following
from fasciculum.app.frame.files import Files
from fasciculum.app.panels.repairs import Repairs
from fasciculum.app.workspace import LENS_WORDS, LENSES, STAGES, Workspace
from fasciculum.model.choices import Compression
from fasciculum.operations.plan.plan import NAMES


class CommandTarget(Protocol):
    """What the window does itself; the rest is done by the parts that it hands out."""

    workspace: Workspace
    files: Files
    repairs: Repairs
    batch_list: BatchList
    following: Following

    def undo(self) -> None: ...

    def redo(self) -> None: ...

    def filter_list(self) -> None: ...

    def new_bundle(self) -> None: ...

    def rename_bundle(self) -> None: ...

    def remove_bundle(self) -> None: ...

    def make_loose(self) -> None: ...

    def choose_all(self) -> None: ...

    def choose_bundle(self) -> None: ...

    def filled_bundles(self) -> list[str]: ...

    def main(self) -> None: ...

    def deliver(self) -> None: ...

    def make_everything(self) -> None: ...

    def run_named_bakes(self) -> None: ...

    def take_plan(self, name: str) -> None: ...

    def cancel(self) -> None: ...

    def open_queue(self) -> None: ...

    def flip(self) -> None: ...

    def flip_theme(self) -> None: ...

    def frame_selection(self) -> None: ...

    def widen(self, name: str) -> None: ...

    @property
    def widened(self) -> str: ...

    def open_search(self) -> None: ...

    def settings_pairing(self, name: str) -> Callable[[], None]: ...

    def open_project_menu(self) -> None: ...

    def leave(self) -> None: ...

    def open_guide(self, page: str = "") -> None: ...


def make_acts(window: CommandTarget) -> list[Command]:
    """Return everything that can be done in a window."""
    workspace = window.workspace

    def some_bundle() -> bool:
        return bool(workspace.bundle_names)

    def some_object() -> bool:
        return bool(workspace.selection)

    def scene() -> bool:
        return bool(workspace.document.scene.objects)

    def high() -> bool:
        return workspace.document.scene.detail is not None

    acts = [
        Command(
            "new",
            "New project",
            "Close this project and start an empty one",
            window.files.new,
            "Ctrl+N",
            menu="project",
        ),
        Command("open", "Open project …", "Open a saved project", window.files.open, "Ctrl+O", menu="project"),
        Command(
            "demo",
            "Open the demo station",
            "Open the ropeway station that is included",
            window.files.open_demo,
            menu="project",
        ),
        Command("save", "Save", "Save the project", window.files.save, "Ctrl+S", scene, "project"),
        Command(
            "save_as",
            "Save as …",
            "Save the project under another name",
            window.files.save_as,
            "Ctrl+Shift+S",
            scene,
            "project",
        ),
        Command(
            "add_models",
            "Add models …",
            "Add model files to the project",
            window.files.add_models,
            "Ctrl+Shift+A",
            menu="project",
        ),
        Command(
            "add_folder",
            "Add a folder …",
            "Add all models of a folder and its subfolders",
            window.files.add_folder,
            menu="project",
        ),
        Command(
            "add_high",
            "Add high-poly models …",
            "Add detailed models. Their surface is baked into the project's objects; they are not delivered",
            window.settings_pairing("choose"),
            enabled=scene,
            menu="project",
        ),
        Command(
            "add_cage",
            "Load a cage mesh …",
            "Load an inflated copy of a low-poly model. Rays start from it towards the high-poly models",
            window.settings_pairing("choose_cage"),
            enabled=high,
            menu="project",
        ),
        Command(
            "show_high",
            "Draw high-poly models",
            "Draw high-poly models instead of their low-poly objects, on the source's side of the model view",
            lambda: workspace.set_view(high=not workspace.high),
            enabled=high,
            menu="project",
        ),
        Command(
            "reload",
            "Reload sources",
            "Read the models and textures again; what did not change keeps its layout and maps",
            window.files.reload,
            "Ctrl+R",
            scene,
            "project",
        ),
        Command(
            "textures",
            "Textures",
            "Every texture with its size, users and what looks wrong; locate missing ones",
            window.repairs.open_table,
            "Ctrl+T",
            scene,
            "work",
        ),
        Command(
            "allow_folder",
            "Allow a folder …",
            "Let models refer to files in one more folder, and look for missing files there",
            window.repairs.allow_folder,
            "",
            scene,
            "work",
        ),
        Command("quit", "Quit", "Close the window. You are asked about unsaved work", window.leave, "Ctrl+Q"),
        Command(
            "undo",
            "Undo",
            "Take back the last step",
            window.undo,
            "Ctrl+Z",
            lambda: bool(workspace.session.undo_label),
            "edit",
        ),
        Command(
            "redo",
            "Redo",
            "Do the last step again",
            window.redo,
            "Ctrl+Shift+Z",
            lambda: bool(workspace.session.redo_label),
            "edit",
        ),
        Command(
            "filter_list",
            "Filter the list",
            "Type what the list of objects is to show: names, materials, states, densities",
            window.filter_list,
            "Ctrl+Shift+K",
            lambda: bool(workspace.document.scene.objects),
            menu="edit",
        ),
        Command(
            "new_bundle",
            "New bundle",
            "Put the chosen objects into a bundle of their own",
            window.new_bundle,
            "Ctrl+B",
            menu="edit",
        ),
        Command(
            "rename_bundle",
            "Rename bundle",
            "Give the chosen bundle another name",
            window.rename_bundle,
            "F2",
            some_bundle,
            "edit",
        ),
        Command(
            "remove_bundle",
            "Remove bundle",
            "Remove the chosen bundles; their objects become loose",
            window.remove_bundle,
            "Ctrl+Backspace",
            some_bundle,
            "edit",
        ),
        Command(
            "make_loose",
            "Make loose",
            "Take the chosen objects out of their bundles",
            window.make_loose,
            "Ctrl+L",
            some_object,
            "edit",
        ),
        Command(
            "remove_objects",
            "Remove from project",
            "Remove the chosen objects from the project; their files stay as they are (Delete in the list)",
            lambda: workspace.remove_objects(sorted(workspace.selection)),
            "",
            some_object,
            "edit",
        ),
        Command(
            "use_as_high",
            "Use as high-poly",
            "Use the chosen objects as high-poly models of the others, instead of delivering them",
            lambda: workspace.use_as_high(sorted(workspace.selection)),
            "",
            some_object,
            "edit",
        ),
        Command(
            "choose_all",
            "Choose all objects",
            "Choose every object of the project",
            window.choose_all,
            "Ctrl+A",
            scene,
            "edit",
        ),
        Command(
            "choose_bundle",
            "Choose the bundle's objects",
            "Choose every object of the chosen bundles",
            window.choose_bundle,
            "Ctrl+Shift+B",
            some_bundle,
            "edit",
        ),
        *(
            Command(
                f"take_{name}",
                f"Apply the plan {name}",
                "Bundle everything as this plan says, in one step",
                partial(window.take_plan, name),
                "",
                scene,
                "work",
            )
            for name in NAMES
        ),
        Command(
            "make_everything",
            "Make everything",
            "Pack, bake and check whatever is missing or stale in any bundle, and deliver",
            window.make_everything,
            "Ctrl+Shift+M",
            scene,
            "work",
        ),
        Command(
            "main",
            "Press the stage's main button",
            "Add models, pack, bake, compare or deliver, by the stage",
            window.main,
            "Ctrl+Return|Ctrl+Enter",
            menu="work",
        ),
        Command(
            "pack",
            "Pack",
            "Pack the islands of the chosen bundles",
            lambda: workspace.pack(),
            "",
            some_bundle,
            "work",
        ),
        Command(
            "pack_all",
            "Pack all bundles",
            "Pack every bundle",
            lambda: workspace.pack(window.filled_bundles()),
            "Ctrl+Alt+P",
            scene,
            "work",
        ),
        Command(
            "pack_fresh",
            "Pack from scratch",
            "Pack the chosen bundles from scratch; only pinned islands keep their place",
            lambda: workspace.pack(fresh=True),
            "Ctrl+Shift+Return",
            some_bundle,
            "work",
        ),
        Command(
            "stop_early",
            "Stop with the best so far",
            "End the running packing or light bake now and keep its best result so far",
            workspace.stop_early,
            "Ctrl+E",
            lambda: workspace.improving,
            "work",
        ),
        Command(
            "bake",
            "Bake",
            "Bake the maps of the chosen bundles",
            lambda: workspace.bake(),
            "",
            some_bundle,
            "work",
        ),
        Command(
            "bake_all",
            "Bake all bundles",
            "Bake every bundle. Bundles without a current layout are packed first",
            lambda: workspace.pack_and_bake(window.filled_bundles()),
            "Ctrl+Alt+B",
            scene,
            "work",
        ),
        Command(
            "bake_files",
            "Run all named bakes …",
            "Bake every bundle into files with each of its named bakes and presets",
            window.run_named_bakes,
            "",
            lambda: bool(workspace.document.bakes),
            "work",
        ),
        Command(
            "check",
            "Compare with source",
            "Compare every baked bundle with its source",
            lambda: workspace.check(),
            "",
            scene,
            "work",
        ),
        Command(
            "deliver",
            "Deliver",
            "Write the results",
            window.deliver,
            "",
            scene,
            "work",
        ),
        Command(
            "cancel",
            "Cancel running work",
            "Stop the running work without keeping any of it",
            window.cancel,
            "Ctrl+.",
            lambda: workspace.worker.runner.running is not None,
            "work",
        ),
        Command(
            "queue",
            "Show the queue",
            "Running and waiting work, with progress and log",
            window.open_queue,
            "Ctrl+J",
            menu="work",
        ),
        Command(
            "flip",
            "Flip source and result",
            "Show the other side of the comparison",
            window.flip,
            "Space",
            scene,
            "view",
        ),
        Command(
            "flip_compressed",
            "Flip compressed and uncompressed",
            "Show maps as the delivery compresses them, or as they were baked",
            lambda: workspace.set_view(as_compressed=not workspace.as_compressed),
            "Shift+Space",
            lambda: workspace.document.delivery.compress is not Compression.NONE,
            "view",
        ),
        Command(
            "frame",
            "Frame",
            "Show the chosen objects, or all, in both views",
            window.frame_selection,
            "F",
            scene,
            "view",
        ),
        Command(
            "widen_sheet",
            "Maximise the sheet",
            "Show the sheet alone, or both views again",
            lambda: window.widen("" if window.widened == "sheet" else "sheet"),
            "Ctrl+1",
            menu="view",
        ),
        Command(
            "widen_model",
            "Maximise the model",
            "Show the model alone, or both views again",
            lambda: window.widen("" if window.widened == "model" else "model"),
            "Ctrl+2",
            menu="view",
        ),
        Command(
            "search",
            "Find by name",
            "Find any command, object, bundle or setting",
            window.open_search,
            "Ctrl+K",
            menu="view",
        ),
        Command("guide", "Guide", "Open the guide at the page of this stage", window.open_guide, "F1", menu="view"),
        Command(
            "guide_hurry",
            "Guide: the shortest way",
            "Open the guide's shortest way from a folder of models to a delivery",
            lambda: window.open_guide("no-time"),
            menu="view",
        ),
        Command(
            "guide_recipes",
            "Guide: recipes",
            "Open the guide's recipes: props, rooms, trims, light for a level",
            lambda: window.open_guide("recipes"),
            menu="view",
        ),
        Command(
            "follow",
            "Watch sources",
            "Reload sources when they change, redo what is stale and deliver it. Choose again to stop",
            lambda: window.following.set_on(not window.following.on),
            "",
            scene,
            "project",
        ),
        Command(
            "batch_add",
            "Add to the batch list",
            "Add a copy of the open project to the batch list, to be made and delivered later",
            lambda: window.batch_list.add(),
            "",
            scene,
            "work",
        ),
        Command(
            "batch_start",
            "Run the batch list",
            "Start the jobs of the batch list, one after the other or on a farm. You can go on working",
            lambda: window.batch_list.start(),
            "",
            lambda: bool(window.batch_list.jobs),
            "work",
        ),
        Command(
            "project_menu",
            "Project menu",
            "New, open, save and recent projects",
            window.open_project_menu,
            "Alt+P",
        ),
        Command(
            "theme",
            "Light or dark",
            "Change between the dark and the light look",
            window.flip_theme,
            menu="view",
        ),
    ]
    for number, stage in enumerate(STAGES):
        acts.append(
            Command(
                f"stage_{stage.replace(' ', '_')}",
                f"Stage: {stage}",
                f"Show the settings for {stage}",
                partial(workspace.set_stage, stage),
                str(number + 1),
                menu="view",
            )
        )
    for lens in LENSES:
        acts.append(
            Command(
                f"lens_{lens}",
                f"Lens: {LENS_WORDS.get(lens, lens).lower()}",
                f"Colour both views by {lens}",
                partial(workspace.set_view, lens=lens),
                menu="view",
            )
        )
    return acts
