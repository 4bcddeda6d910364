"""The maps of a given sheet: read, not baked, and delivered byte for byte."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from fasciculum.baking.required_maps import RequiredMaps
from fasciculum.errors import MissingFile
from fasciculum.io.codecs import decode
from fasciculum.io.pixels import PixelStore
from fasciculum.io.places import read_file
from fasciculum.model.bundle import Bundle
from fasciculum.model.digests import digest_of, digest_text
from fasciculum.model.given import Given, GivenMap
from fasciculum.model.maps import EMISSIVE, KINDS, ORM
from fasciculum.model.scene import MASK, Object, Scene
from fasciculum.model.texturing import BakedMap, Texturing
from fasciculum.progress import SILENT, Progress
from fasciculum.units import linear_to_srgb


def given_bytes(file: str, digest: str) -> bytes:
    """Return the bytes of a file of a given sheet.

    Raises
    ------
    MissingFile
        When it is not there, or is not what it was when the sheet was given.
    """
    data = read_file(Path(file))
    if digest_of(data) != digest:
        raise MissingFile(
            "the given texture has changed since the sheet was read.", file=file, hint="Give the sheet again."
        )
    return data


def given_needs(scene: Scene, objects: Sequence[Object], given: Given) -> RequiredMaps:
    """Return the maps that a given sheet has, and what its material is besides."""
    used = scene.materials_among([item.key for item in objects])
    has_orm = any(one.name == ORM.name for one in given.maps)
    return RequiredMaps(
        maps=tuple(one.name for one in given.maps),
        metallic=1.0 if has_orm else 0.0,
        roughness=1.0,
        strength=1.0,
        double_sided=any(material.double_sided for material in used),
        unlit=False,
        cutoff=0.5 if any(material.alpha_mode == MASK for material in used) else None,
    )


def given_digest(given: Given, name: str) -> str:
    """Return a digest of one map of a given sheet."""
    (one,) = [one for one in given.maps if one.name == name]
    return digest_of("given", one.name, one.digest, digest_text(given.looks) if given.looks else "")


def take_given(scene: Scene, bundle: Bundle, store: PixelStore, progress: Progress = SILENT) -> Texturing:
    """Return the maps of a bundle's given sheet.

    Raises
    ------
    MissingFile, MalformedFile, UnsupportedInput
    """
    given = bundle.given
    assert given is not None
    needs = given_needs(scene, [scene.object(key) for key in bundle.objects], given)
    maps = []
    for number, one in enumerate(given.maps):
        progress.update(number / len(given.maps), f"Reading {Path(one.file).name or one.name}")
        maps.append(_map(given, one, store))
    return Texturing(
        maps=tuple(maps),
        metallic=needs.metallic,
        roughness=needs.roughness,
        alpha_cutoff=needs.cutoff or 0.5,
        double_sided=needs.double_sided,
    )


def _map(given: Given, one: GivenMap, store: PixelStore) -> BakedMap:
    kind, strength = KINDS[one.name], 1.0
    if one.file:
        pixels = decode(given_bytes(one.file, one.digest), place=one.file)
    else:
        pixels, strength = palette_map(given, one.name)
    key = store.put(pixels)
    return BakedMap(
        one.name,
        key,
        pixels.shape[1],
        pixels.shape[0],
        8 * pixels.dtype.itemsize,
        kind.color_space,
        pixels.shape[2],
        strength,
        made_from=given_digest(given, one.name),
        source=one.file,
        source_digest=one.digest,
    )


def palette_map(given: Given, name: str) -> tuple[NDArray[np.uint8], float]:
    """Return one map of a palette that was made here, (H, W, C), and what its values are to be multiplied with."""
    looks = np.array(given.looks, np.float64)
    result = np.full((given.height, given.width, 3), 255, np.uint8)
    strength = 1.0
    if name == EMISSIVE.name:
        strength = max(float(looks[:, 6:9].max()), 1e-9)
        values = linear_to_srgb(looks[:, 6:9] / strength)
        result[:] = 0
    elif name == ORM.name:
        values = np.column_stack([np.ones(len(looks)), looks[:, 4:6]])
    else:
        values = linear_to_srgb(np.clip(looks[:, :3], 0, 1))
        if (looks[:, 3] < 1).any():
            values = np.column_stack([values, looks[:, 3]])
            result = np.full((given.height, given.width, 4), 255, np.uint8)
    for (x0, y0, x1, y1), value in zip(given.cells, np.round(np.clip(values, 0, 1) * 255), strict=True):
        result[int(y0) : int(y1), int(x0) : int(x1)] = value
    return result, strength
