"""Formats of model files: which there are, what reads and writes each, and what it cannot hold. One entry each.

Readers and writers are named as ``module:function`` and loaded when they are used, since whoever only asks which
formats there are should not wait for them.
"""

from __future__ import annotations

import importlib
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True)
class Format:
    """A format of model files.

    Attributes
    ----------
    name, suffix : str
        What it is called in settings and on the command line; with the point.
    tip : str
        What it holds.
    reads : str
        A function of a path and a pixel store, as `fasciculum.io.formats.gltf.reader.read_gltf`.
    writes : str
        A function of an output scene, as `fasciculum.io.formats.gltf.writer.write_glb`; empty when it is only read.
    beside : tuple of str
        Suffixes of the further files that it is written as.
    refers : bool
        It can refer to texture files, and never holds them itself.
    lacks : tuple of str
        What of a delivery it cannot hold, in words.
    layers : bool
        It can be written as a layer upon a source of its own kind, in which meshes stay as they are.
    packs : bool
        It holds its textures in any case.
    """

    name: str
    suffix: str
    tip: str
    reads: str
    writes: str = ""
    beside: tuple[str, ...] = ()
    refers: bool = False
    lacks: tuple[str, ...] = ()
    layers: bool = False
    packs: bool = False


FORMATS = (
    Format(
        "glb",
        ".glb",
        "One file that holds everything",
        "fasciculum.io.formats.gltf.reader:read_gltf",
        "fasciculum.io.formats.gltf.writer:write_glb",
    ),
    Format(
        "gltf",
        ".gltf",
        "JSON with a .bin and the textures beside it",
        "fasciculum.io.formats.gltf.reader:read_gltf",
        "fasciculum.io.formats.gltf.writer:write_gltf",
        beside=(".bin",),
        refers=True,
    ),
    Format(
        "obj",
        ".obj",
        "OBJ with MTL: in world space, without skins, animations and cameras",
        "fasciculum.io.formats.obj.reader:read_obj",
        "fasciculum.io.formats.obj.writer:write_obj",
        beside=(".mtl",),
        refers=True,
        lacks=("skins", "morph targets", "animations", "cameras", "lights", "light maps"),
    ),
    Format("dae", ".dae", "COLLADA: meshes and materials", "fasciculum.io.formats.dae:read_dae"),
    *(
        Format(name, f".{name}", "Meshes without UVs", "fasciculum.io.formats.ply_stl:read_ply_or_stl")
        for name in ("ply", "stl")
    ),
    Format(
        "usd",
        ".usd",
        "OpenUSD: a layer upon a source that is USD, else a stage. Needs the library usd-core",
        "fasciculum.io.formats.usd.reader:read_usd",
        "fasciculum.io.formats.usd.writer:write_usd",
        refers=True,
        lacks=("skins", "morph targets", "animations", "cameras", "light maps"),
        layers=True,
    ),
    Format(
        "usdz",
        ".usdz",
        "OpenUSD in one file that holds everything. Needs the library usd-core",
        "fasciculum.io.formats.usd.reader:read_usd",
        "fasciculum.io.formats.usd.writer:write_usdz",
        lacks=("skins", "morph targets", "animations", "cameras", "light maps"),
        packs=True,
    ),
    *(
        Format(name, f".{name}", "OpenUSD, by the library usd-core", "fasciculum.io.formats.usd.reader:read_usd")
        for name in ("usda", "usdc")
    ),
)
READ_FORMATS = {entry.suffix: entry for entry in FORMATS if entry.reads}
WRITTEN_FORMATS = tuple(entry for entry in FORMATS if entry.writes)


def loaded(name: str) -> Callable[..., Any]:
    """Return a function by its module and name."""
    module, _, function = name.partition(":")
    result: Callable[..., Any] = getattr(importlib.import_module(module), function)
    return result


def suffixes(last: str = "or") -> str:
    """Return the suffixes of all models that are read, in words."""
    names = list(READ_FORMATS)
    return f"{', '.join(names[:-1])} {last} {names[-1]}"
