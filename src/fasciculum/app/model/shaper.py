"""How objects are laid flat, as the artist says it in the model view: edges, faces, projections. Not a widget."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QObject, Signal

from fasciculum.app.commands import Command
from fasciculum.app.sheet.island_editor import IslandEditor
from fasciculum.app.workspace import Workspace
from fasciculum.model.choices import ObjectPolicy, ProjectionKind
from fasciculum.model.counting import counted
from fasciculum.model.document import Document
from fasciculum.model.unwrapping import Projection, Shaping
from fasciculum.operations.lay_out import shaping
from fasciculum.operations.lay_out.lay_out import layout_digest
from fasciculum.rendering.camera import Camera
from fasciculum.session import commands
from fasciculum.uv.corners import corners_of
from fasciculum.uv.edges import EdgeGraph

#: tools of the model view: look round, pick edges, pick faces, set a projection
LOOK, EDGES, FACES, PROJECTION = "look", "edges", "faces", "projection"
KINDS = tuple(ProjectionKind)
#: objects whose edges are kept ready
MOST_GRAPHS = 6


class Shaper(QObject):
    """The tool in the model view, what is picked with it, and the acts on that."""

    changed = Signal()

    def __init__(self, workspace: Workspace, hand: IslandEditor) -> None:
        super().__init__(workspace)
        self.workspace, self.hand = workspace, hand
        self.tool = LOOK
        #: the object that edges or faces are picked on, and their numbers
        self.key = ""
        self.edges: frozenset[int] = frozenset()
        self.faces: frozenset[int] = frozenset()
        #: a projection that is being set, in the world
        self.projection: Projection | None = None
        self.camera: Callable[[], Camera] = Camera
        self._last = -1
        self._graphs: dict[tuple[int, str], EdgeGraph] = {}
        workspace.document_changed.connect(self._follow)

    def _follow(self, before: Document, after: Document) -> None:
        if before.scene is not after.scene:
            self._graphs.clear()
            self.clear()

    # -- picking ----------------------------------------------------------------------------------------------

    def graph(self, key: str) -> EdgeGraph:
        """Return the edges of an object, in the world."""
        scene = self.workspace.document.scene
        known = (id(scene), key)
        if known not in self._graphs:
            while len(self._graphs) >= MOST_GRAPHS:
                self._graphs.pop(next(iter(self._graphs)))
            self._graphs[known] = EdgeGraph(corners_of(scene, scene.object(key)).world)
        return self._graphs[known]

    def edges_in(self, key: str, half_edges: Sequence[int]) -> int:
        """Return how many edges of an object some half-edges are of."""
        result = np.array([half for half in half_edges if half < len(self.graph(key).edge_of)], np.int64)
        return len(self.graph(key).edges_of(result)) if len(result) else 0

    def set_tool(self, tool: str) -> None:
        """Choose a tool; the one that is chosen already is put away."""
        self.tool = LOOK if tool == self.tool else tool
        self.projection = None
        if self.tool in (LOOK, PROJECTION):
            self._forget_edges()
        if self.tool == LOOK:
            self.faces = frozenset()
        self.changed.emit()

    def clear(self) -> None:
        """Pick nothing."""
        self._forget_edges()
        self.faces, self.projection = frozenset(), None
        self.changed.emit()

    def _forget_edges(self) -> None:
        self.edges, self._last = frozenset(), -1

    def _on(self, key: str) -> None:
        if key != self.key:
            self.key, self.faces = key, frozenset()
            self._forget_edges()
            self.workspace.select({key})

    def pick_edge(self, key: str, triangle: int, point: NDArray[np.float64], *, path: bool, more: bool) -> None:
        """Pick the edge near a point: alone, with the others, or with the shortest way from the last one."""
        self._on(key)
        graph = self.graph(key)
        edge = graph.nearest_edge(triangle, point)
        if path and self._last >= 0:
            self.edges |= frozenset(graph.path(self._last, edge).tolist())
        elif more:
            self.edges ^= {edge}
        else:
            self.edges = frozenset({edge})
        self._last = edge
        self.changed.emit()

    def pick_loop(self) -> None:
        """Go on from every picked edge as far as it leads straight on."""
        if self.key and self.edges:
            graph = self.graph(self.key)
            results = set(self.edges)
            for edge in self.edges:
                results |= set(graph.loop(edge).tolist())
            self.edges = frozenset(results)
            self.changed.emit()

    def pick_face(self, key: str, triangle: int, *, more: bool, single: bool) -> None:
        """Pick the triangles about one up to sharp edges, or that one alone."""
        self._on(key)
        bundle = self.workspace.document.bundle_of(key)
        angle = min(bundle.sheet.unwrap.sharp if bundle else 40.0, 40.0)
        result = {triangle} if single else set(self.graph(key).flat_region(triangle, angle).tolist())
        if not more:
            self.faces = frozenset(result)
        else:
            self.faces = self.faces - result if result <= self.faces else self.faces | result
        self.changed.emit()

    # -- what is said -----------------------------------------------------------------------------------------

    def keys(self) -> list[str]:
        """Return the chosen objects that are in a bundle."""
        document = self.workspace.document
        return sorted(key for key in self.workspace.selection if document.bundle_of(key) is not None)

    def tell(self, label: str, change: Callable[[str, Shaping], Shaping], keys: Iterable[str] | None = None) -> None:
        """Change what is said about objects, as one step."""
        keys = list(self.keys() if keys is None else keys)
        if not keys:
            self.workspace.say("Choose objects of a bundle first.")
            return
        before = self.workspace.document
        self.workspace.apply(label, lambda document: commands.set_shaping(document, keys, change))
        if self.workspace.document is before:
            self.workspace.say("Nothing changed: it is set already.")

    def set_policy(self, policy: ObjectPolicy) -> None:
        """Say what is done with the chosen objects' source UVs."""
        words = {
            "unwrap": "Unwrap anew",
            "auto": "Keep clean source UVs",
            "keep": "Keep source UVs",
            "bundle": "Unwrap as the bundle's settings say",
        }
        count = len(self.keys())
        self.tell(f"{words[policy]}: {counted(count, 'object')}", lambda _, told: replace(told, policy=policy))

    def set_uv_set(self, number: int) -> None:
        """Take the chosen objects' islands from a UV set; -1 is the one that their materials read."""
        self.tell("Take islands from another UV set", lambda _, told: replace(told, uv_set=number))

    def cut(self, on: bool) -> None:
        """Make the picked edges seams, or see to it that they are none."""
        if not self.edges or self.workspace.document.bundle_of(self.key) is None:
            self.workspace.say("Pick edges of a bundled object first (E).")
            return
        scene, key = self.workspace.document.scene, self.key
        half = self.graph(key).half_edges(np.array(sorted(self.edges))).tolist()
        count = len(self.edges)
        label = f"{'Cut' if on else 'Join'} {counted(count, 'edge')} of {key}"
        self.tell(label, lambda other, told: shaping.with_seams(scene, other, told, half, on), self._alike(key))
        self._forget_edges()
        self.changed.emit()

    def _alike(self, key: str) -> list[str]:
        """Return an object and those that draw the same mesh in its bundle: what is cut in one is cut in all."""
        document = self.workspace.document
        bundle = document.bundle_of(key)
        item = document.scene.object(key)
        mesh = document.scene.nodes[item.node].mesh
        if bundle is None:
            return [key]
        return [
            other
            for other in bundle.objects
            if document.scene.nodes[document.scene.object(other).node].mesh == mesh
            and document.scene.object(other).primitives == item.primitives
            and bundle.shaping(other) == bundle.shaping(key)
        ]

    def forget(self) -> None:
        """Take back all that was said about the chosen objects."""
        self.tell("Reset seams, projections and shapes", lambda _key, _told: Shaping())

    # -- projections ------------------------------------------------------------------------------------------

    def begin_projection(self, kind: ProjectionKind) -> None:
        """Set up a projection around the chosen objects or faces, with handles."""
        box = self._box()
        if box is None:
            self.workspace.say("Choose objects of a bundle first, or faces (G).")
            return
        low, high = box
        middle, half = (low + high) / 2, (high - low) / 2
        size = float(max(half.max(), 1e-6))
        axes = np.eye(3)
        if kind == "cylinder":
            # stands along its longest side
            up = int(half.argmax())
            axes = np.roll(np.eye(3), 1 - up, axis=0)
            size = float(np.delete(half, up).max())
        if kind == "sphere":
            size = float(half.mean())
        self.tool = PROJECTION
        self._forget_edges()
        self.projection = _projection(kind, middle, axes, max(size, 1e-6))
        self.changed.emit()

    def plane_from_view(self) -> None:
        """Set up a plane that faces the camera."""
        self.begin_projection(ProjectionKind.PLANE)
        if self.projection is not None:
            camera = self.camera()
            right, up = camera.axes()
            axes = np.array([right, up, camera.backward()])
            self.projection = _projection(
                ProjectionKind.PLANE, np.array(self.projection.origin), axes, self.projection.size
            )
            self.changed.emit()

    def move_projection(self, **values: Any) -> None:
        """Change the projection that is being set; nothing is said yet."""
        if self.projection is not None:
            self.projection = replace(self.projection, **values)
            self.changed.emit()

    def apply_projection(self) -> None:
        """Say the projection that was set."""
        projection = self.projection
        if projection is None:
            return
        scene = self.workspace.document.scene
        faces = self.faces
        keys = [self.key] if faces else self.keys()
        what = f"{counted(len(faces), 'face')} of {self.key}" if faces else counted(len(keys), "object")
        self.tell(
            f"Project a {projection.kind} on {what}",
            lambda key, told: shaping.with_projection(scene, key, told, projection, faces),
            keys,
        )
        self.tool, self.projection, self.faces = LOOK, None, frozenset()
        self.changed.emit()

    def _box(self) -> tuple[NDArray[np.float64], NDArray[np.float64]] | None:
        if self.faces and self.key:
            points = self.graph(self.key).corners[sorted(self.faces)].reshape(-1, 3)
        else:
            keys = self.keys()
            if not keys:
                return None
            points = np.concatenate([self.graph(key).points for key in keys])
        return points.min(axis=0), points.max(axis=0)

    # -- islands in the sheet ---------------------------------------------------------------------------------

    def reshape(self, how: str) -> None:
        """Make the chosen islands over, in the sheet."""
        bundle, layout = self.hand.bundle, self.hand.layout
        if bundle is None or layout is None or not self.hand.places:
            return
        if self.hand.on_lightmap:
            self.workspace.say("Reshape islands on the bundle's sheet; the lightmap follows.")
            return
        on = np.flatnonzero(np.isin(layout.places, list(self.hand.places)))
        scene, name = self.workspace.document.scene, bundle.name
        fresh = layout.made_from == layout_digest(scene, bundle)

        def change(document: Document) -> Document:
            made, moved = shaping.reshaped(scene, layout, on.tolist(), how)
            if not made:
                return document
            document = commands.set_shaping(
                document, sorted(made), lambda key, told: shaping.with_hand(scene, key, told, made[key])
            )
            return commands.put_reshaped(document, name, moved, fresh=fresh)

        words = {"relax": "Relax", "straighten": "Straighten", "rectangle": "Make a rectangle of"}[how]
        before = self.workspace.document
        self.workspace.apply(f"{words} {counted(len(on), 'island')}", change)
        if self.workspace.document is before:
            self.workspace.say("These islands cannot be reshaped like this: they have no border, or no four corners.")

    # -- acts -------------------------------------------------------------------------------------------------

    def acts(self) -> list[Command]:
        """Return all that can be done to the way objects are laid flat."""

        def some() -> bool:
            return bool(self.keys())

        def scene() -> bool:
            return bool(self.workspace.document.scene.objects)

        def islands() -> bool:
            return bool(self.hand.places) and self.hand.layout is not None

        def picked() -> bool:
            return bool(self.edges)

        def setting() -> bool:
            return self.projection is not None

        def act(name: str, title: str, tip: str, call: Callable[[], None], key: str = "", when: Any = some) -> Command:
            return Command(name, title, tip, call, key, when, "surface")

        results = [
            act(
                "unwrap_anew",
                "Unwrap anew",
                "Unwrap the chosen objects and ignore their source UVs",
                partial(self.set_policy, ObjectPolicy.UNWRAP),
                "N",
            ),
            act(
                "keep_clean",
                "Keep clean source UVs",
                "Unwrap only those parts of the chosen objects whose UVs are missing, overlapping or stretched",
                partial(self.set_policy, ObjectPolicy.AUTO),
            ),
            act(
                "keep_source",
                "Keep source UVs",
                "Keep all source UVs of the chosen objects",
                partial(self.set_policy, ObjectPolicy.KEEP),
            ),
            act(
                "as_bundle",
                "Unwrap as the bundle's settings say",
                "Use the bundle's source UV setting for the chosen objects",
                partial(self.set_policy, ObjectPolicy.BUNDLE),
            ),
            act(
                "pick_edges",
                "Pick edges",
                "Pick edges in the model. Shift picks the path from the last one, Control adds one",
                partial(self.set_tool, EDGES),
                "E",
                scene,
            ),
            act(
                "pick_faces",
                "Pick faces",
                "Pick faces in the model, up to sharp edges. Alt picks single triangles, Control adds",
                partial(self.set_tool, FACES),
                "G",
                scene,
            ),
            act(
                "edge_loop",
                "Select the edge loop",
                "Extend the picked edges to their edge loop",
                self.pick_loop,
                "L",
                picked,
            ),
            act("cut_edges", "Cut along edges", "Make the picked edges seams", partial(self.cut, True), "D", picked),
            act(
                "join_edges",
                "Join along edges",
                "Make sure that the picked edges are not seams",
                partial(self.cut, False),
                "J",
                picked,
            ),
            act(
                "plane_view",
                "Project a plane from here",
                "Project a plane that faces the camera onto the chosen objects or faces",
                self.plane_from_view,
                "V",
            ),
        ]
        for kind in KINDS:
            results.append(
                act(
                    f"project_{kind}",
                    f"Project a {kind}",
                    f"Set a {kind} onto the chosen objects or faces, with handles",
                    partial(self.begin_projection, kind),
                )
            )
        results += [
            act(
                "project_apply",
                "Apply the projection",
                "Use the projection for the chosen objects' or faces' UVs (Return in the model view)",
                self.apply_projection,
                "",
                setting,
            ),
            act(
                "put_away",
                "Exit the tool",
                "Stop picking or projecting (Escape in the model view)",
                partial(self.set_tool, LOOK),
                "",
                lambda: self.tool != LOOK or bool(self.edges or self.faces),
            ),
            act(
                "forget_shaping",
                "Reset seams and projections",
                "Remove seams, projections and shapes made by hand from the chosen objects",
                self.forget,
            ),
        ]
        for how, title, tip in (
            (
                "relax",
                "Relax islands",
                "Move vertices of the chosen islands so that stretch is lowest",
            ),
            (
                "straighten",
                "Straighten islands",
                "Align nearly horizontal and vertical borders of the chosen islands to the axis",
            ),
            ("rectangle", "Make rectangles", "Make rectangles of the chosen islands, by their four sharpest corners"),
        ):
            results.append(act(f"island_{how}", title, tip, partial(self.reshape, how), "", islands))
        return results


def _projection(
    kind: ProjectionKind, middle: NDArray[np.float64], axes: NDArray[np.float64], size: float
) -> Projection:
    x, y, z = (float(value) for value in middle)
    return Projection(kind, (x, y, z), tuple(float(value) for value in axes.ravel()), float(size))
