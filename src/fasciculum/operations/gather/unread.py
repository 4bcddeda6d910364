"""Texture files beside the models that no material reads: forgotten ones, or ones that an export lost the link to."""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path

from fasciculum.model.counting import counted
from fasciculum.model.finding import INFO, Finding
from fasciculum.model.scene import Scene

CODE = "unread_texture"
#: what files are textures, whether they can be read here or not
SUFFIXES = frozenset(
    (
        ".png",
        ".jpg",
        ".jpeg",
        ".webp",
        ".avif",
        ".tga",
        ".bmp",
        ".tif",
        ".tiff",
        ".hdr",
        ".exr",
        ".dds",
        ".ktx",
        ".ktx2",
    )
)
#: files of a folder that are told one by one; more are told in one finding
MOST_TOLD = 8
#: entries of a folder that are looked through: one that is larger is no model's
MOST_LOOKED = 4_000


def unread_textures(scene: Scene, told: Sequence[Finding] = ()) -> list[Finding]:
    """Return findings on texture files in the folders of a scene's models that nothing in it reads.

    Parameters
    ----------
    scene : Scene
    told : sequence of Finding
        Images that another finding names are not told again.
    """
    # a path may hold what no path can, such as a zero byte; such an image was told as missing
    read = {os.path.realpath(image.path) for image in scene.images if image.path and "\0" not in image.path}
    names = {one.image for one in told if one.image}
    folders = dict.fromkeys(str(Path(source.path).resolve().parent) for source in scene.sources if source.path)
    results = []
    for folder in folders:
        files = [name for name in _textures(folder) if os.path.join(folder, name) not in read and name not in names]
        if len(files) <= MOST_TOLD:
            results += [_finding(folder, name) for name in files]
        elif files:
            listed = ", ".join(files[:MOST_TOLD])
            words = f"{counted(len(files), 'texture file')} in {folder} are read by no material: {listed}, ..."
            results.append(Finding(CODE, INFO, words, "Check that no material has lost its texture."))
    return results


def _textures(folder: str) -> list[str]:
    try:
        with os.scandir(folder) as entries:
            names = [entry.name for _, entry in zip(range(MOST_LOOKED), entries, strict=False)]
    except OSError:
        # a folder that cannot be listed was told where its models were read
        return []
    return sorted(name for name in names if Path(name).suffix.lower() in SUFFIXES)


def _finding(folder: str, name: str) -> Finding:
    words = f"{name} lies beside the models, and no material reads it."
    return Finding(CODE, INFO, words, "Check that no material has lost its texture.", image=os.path.join(folder, name))
