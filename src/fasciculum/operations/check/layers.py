"""Layers when a result is checked: over the source that it is compared with; and findings about them."""

from __future__ import annotations

from collections.abc import Iterator

from fasciculum.baking.compare import Readable
from fasciculum.baking.layered import OF_RAYS, LayeredSource
from fasciculum.baking.materials import MaterialSource
from fasciculum.baking.target import Target
from fasciculum.model.bundle import Bundle
from fasciculum.model.document import Document
from fasciculum.model.finding import WARNING, Finding
from fasciculum.model.layers import LayerProjection
from fasciculum.model.layout import Layout
from fasciculum.model.scene import Scene
from fasciculum.operations.bake.layers import layer_picture


class Over:
    """What lies over the source that a bundle is compared with.

    ``cast`` are the surfaces that have a mask which rays are cast for: these are not compared.
    """

    def __init__(self, scene: Scene, layout: Layout, target: Target, bundle: Bundle) -> None:
        self._made = scene, layout, target
        self._shaded = bundle.bake.edges, bundle.bake.edge_angle
        stacks = {number: scene.stack(surface.objects[0]) for number, surface in enumerate(layout.surfaces)}
        self.any = any(stacks.values())
        self.cast = {n for n, stack in stacks.items() if any(layer.mask.kind in OF_RAYS for layer in stack)}

    def on(self, materials: MaterialSource) -> Readable:
        """Return materials with the layers over them."""
        if not self.any:
            return materials
        edges, angle = self._shaded
        return LayeredSource(materials, *self._made, layer_picture, None, edges=edges, angle=angle)


def layer_findings(document: Document) -> Iterator[Finding]:
    """Yield what is to be said about the layers of a document."""
    scene = document.scene
    for layer in scene.layers:
        if not layer.on:
            continue
        lies_on = [item for item in scene.objects if layer.lies_on(item.key)]
        if not lies_on:
            yield Finding(
                "layer_unused",
                WARNING,
                f"{layer.name} lies on nothing: no object is called {' or '.join(layer.objects)}.",
                "Correct the names that it lies on, or take it away.",
            )
        bare = [item.key for item in lies_on if not all(primitive.has_uv(0) for primitive in scene.primitives_of(item))]
        if layer.projection is LayerProjection.UV0 and bare:
            yield Finding(
                "layer_without_uvs",
                WARNING,
                f"{layer.name} follows the first UV set, which {', '.join(bare[:3])}"
                f"{', ...' if len(bare) > 3 else ''} {'has' if len(bare) == 1 else 'have'} none of: it does not show.",
                "Project it from a box, or give the object UVs.",
                object=bare[0],
            )
