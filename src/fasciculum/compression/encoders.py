"""Texels to blocks and back, by libraries."""

from __future__ import annotations

import importlib
from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.compression.blocks import BlockFormat
from fasciculum.errors import UnsupportedInput

#: how hard the encoders try: levels of theirs beyond which quality hardly rises
BC1_LEVEL, BC7_PARTITIONS, ASTC_EFFORT = 5, 64, 60.0
#: where each codec's library is found
LIBRARIES = {
    "bc1": "quicktex.s3tc.bc1",
    "bc3": "quicktex.s3tc.bc3",
    "bc4": "quicktex.s3tc.bc4",
    "bc5": "quicktex.s3tc.bc5",
    "bc7": "etcpak",
    "etc2_rgb": "etcpak",
    "etc2_rgba": "etcpak",
    "eac_r": "etcpak",
    "eac_rg": "etcpak",
    "astc": "astc_encoder",
}
PACKAGES = {"quicktex": "quicktex", "etcpak": "etcpak", "astc_encoder": "astc-encoder-py"}
PACKAGES |= {"texture2ddecoder": "texture2ddecoder", "zstandard": "zstandard"}


def library(name: str) -> Any:
    """Return an optional library.

    Raises
    ------
    UnsupportedInput
        With the line to type when it is missing.
    """
    try:
        return importlib.import_module(name)
    except ImportError as error:
        package = PACKAGES[name.partition(".")[0]]
        raise UnsupportedInput(
            f"compressed textures need the package {package}, which is not installed.",
            hint=f"Type: python -m pip install {package}",
        ) from error


def _rgba(texels: NDArray[np.uint8]) -> NDArray[np.uint8]:
    """Return texels (H, W, C) with four channels: a single one as grey, two with no third, and opaque."""
    height, width, channels = texels.shape
    result = np.full((height, width, 4), 255, np.uint8)
    result[..., :channels] = texels
    if channels == 1:
        result[..., 1:3] = texels
    elif channels == 2:
        result[..., 2] = 0
    return result


def _quick(name: str, texels: NDArray[np.uint8], arguments: tuple[Any, ...]) -> bytes:
    module, quicktex = library(f"quicktex.s3tc.{name}"), library("quicktex")
    raw = quicktex.RawTexture.frombytes(_rgba(texels).tobytes(), texels.shape[1], texels.shape[0])
    return bytes(getattr(module, f"{name.upper()}Encoder")(*arguments).encode(raw).tobytes())


def _bc7(texels: NDArray[np.uint8]) -> bytes:
    etcpak = library("etcpak")
    effort = etcpak.BC7CompressBlockParams()
    effort.m_max_partitions = BC7_PARTITIONS
    # all channels count alike: most maps are no colours that an eye judges
    effort.m_perceptual, effort.m_weights = False, [1, 1, 1, 1]
    return bytes(etcpak.compress_bc7(_rgba(texels).tobytes(), texels.shape[1], texels.shape[0], effort))


def _bc6h(texels: NDArray[Any]) -> bytes:
    # compiled code is loaded when it is needed: the processes here begin in a moment without it
    from fasciculum.compression.bc6h import encode_bc6h

    return encode_bc6h(texels)


def _etc(name: str, size: int) -> Callable[[NDArray[np.uint8]], bytes]:
    def encode(texels: NDArray[np.uint8]) -> bytes:
        height, width = texels.shape[:2]
        # that library changes what it is given, so that it gets bytes of its own, and may return more than it filled
        data = getattr(library("etcpak"), f"compress_{name}")(_rgba(texels).tobytes(), width, height)
        return bytes(data[: width * height // 16 * size])

    return encode


def _astc(texels: NDArray[np.uint8], edges: tuple[int, int]) -> bytes:
    astc = library("astc_encoder")
    height, width = texels.shape[:2]
    context = astc.ASTCContext(astc.ASTCConfig(astc.ASTCProfile.LDR, *edges, 1, ASTC_EFFORT), 1)
    image = astc.ASTCImage(astc.ASTCType.U8, width, height, 1, _rgba(texels).tobytes())
    return bytes(context.compress(image, astc.ASTCSwizzle.from_str("RGBA")))


def _plain(kind: type[np.generic]) -> Callable[[NDArray[Any]], bytes]:
    def encode(texels: NDArray[Any]) -> bytes:
        if kind is np.uint8:
            return _rgba(texels).tobytes()
        whole = np.ones((*texels.shape[:2], 4), kind)
        whole[..., : texels.shape[2]] = texels
        if texels.shape[2] == 1:
            whole[..., 1:3] = texels
        return whole.tobytes()

    return encode


_ENCODE: dict[str, Callable[[NDArray[Any]], bytes]] = {
    "bc1": lambda texels: _quick("bc1", texels[..., :3], (BC1_LEVEL,)),
    "bc3": lambda texels: _quick("bc3", texels, (BC1_LEVEL,)),
    "bc4": lambda texels: _quick("bc4", texels[..., :1], (0,)),
    "bc5": lambda texels: _quick("bc5", texels[..., :2], ()),
    "bc6h": _bc6h,
    "bc7": _bc7,
    "etc2_rgb": _etc("etc2_rgb", 8),
    "etc2_rgba": _etc("etc2_rgba", 16),
    "eac_r": _etc("eac_r", 8),
    "eac_rg": _etc("eac_rg", 16),
    "plain": _plain(np.uint8),
    "half": _plain(np.float16),
    "float": _plain(np.float32),
}
_DECODE = {
    "bc1": "decode_bc1", "bc3": "decode_bc3", "bc4": "decode_bc4", "bc5": "decode_bc5", "bc7": "decode_bc7",
    "etc2_rgb": "decode_etc2", "etc2_rgba": "decode_etc2a8", "eac_r": "decode_eacr", "eac_rg": "decode_eacrg",
}  # fmt: skip


def encode_band(texels: NDArray[Any], codec: str, edges: tuple[int, int]) -> bytes:
    """Encode whole rows of blocks, shape (H, W, C), both edges multiples of a block's."""
    return _astc(texels, edges) if codec == "astc" else _ENCODE[codec](texels)


def decode_level(data: bytes, form: BlockFormat, width: int, height: int) -> NDArray[Any]:
    """Return a level as an engine reads it, shape (H, W, channels of the format): uint8, or float32.

    Raises
    ------
    UnsupportedInput
        When the library is missing.
    """
    if not form.is_block:
        kind = {"plain": np.uint8, "half": np.float16, "float": np.float32}[form.codec]
        stored = np.frombuffer(data, kind).reshape(height, width, 4)
        return stored if kind is np.uint8 else stored.astype(np.float32)
    across, down = (-(-width // form.edges[0]) * form.edges[0], -(-height // form.edges[1]) * form.edges[1])
    if form.codec == "bc6h":
        from fasciculum.compression.bc6h import decode_bc6h

        return decode_bc6h(data, across, down)[:height, :width]
    decoder = library("texture2ddecoder")
    if form.codec == "astc":
        flat = decoder.decode_astc(data, across, down, *form.edges)
    else:
        flat = getattr(decoder, _DECODE[form.codec])(data, across, down)
    whole = np.frombuffer(flat, np.uint8).reshape(down, across, 4)[:height, :width]
    if form.channels >= 3:
        # only who decodes waits for it
        import cv2

        order = cv2.COLOR_BGRA2RGBA if form.channels == 4 else cv2.COLOR_BGRA2RGB
        return np.asarray(cv2.cvtColor(np.ascontiguousarray(whole), order))
    return np.ascontiguousarray(whole[..., [2, 1][: form.channels]])
