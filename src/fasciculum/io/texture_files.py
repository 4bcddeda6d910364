"""Files for the images of a delivery, for formats that refer to files and hold none."""

from __future__ import annotations

from pathlib import Path

from fasciculum.io.codecs import codec_of
from fasciculum.io.names import file_name
from fasciculum.model.output import OutputScene


class TextureFiles:
    """Files for the images that materials read: those of sheets are there already, others are written beside."""

    def __init__(self, scene: OutputScene) -> None:
        self._scene = scene
        self._names: dict[int, str] = {}
        named = [image.uri for image in scene.images]
        named += [file for material in scene.materials for file in material.files.values()]
        self._taken = {name.lower() for name in named}
        #: the files that are to be written, by name
        self.files: dict[str, bytes] = {}

    def name(self, number: int) -> str:
        """Return the file of an image."""
        if number not in self._names:
            image = self._scene.images[number]
            name = image.uri
            if not name:
                codec = codec_of(image.data)
                ending = codec.suffix if codec is not None else ""
                stem = file_name(f"{self._scene.name}_{Path(image.name).stem}")
                name, count = f"{stem}{ending}", 2
                while name.lower() in self._taken:
                    name, count = f"{stem}_{count}{ending}", count + 1
                self._taken.add(name.lower())
                self.files[name] = image.data
            self._names[number] = name
        return self._names[number]
