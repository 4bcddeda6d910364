"""Image files into arrays and arrays into image files: one table of formats.

Dimensions are read and judged before anything is decoded. EXIF rotation is ignored, as glTF says.
"""

from __future__ import annotations

import io
import re
import tempfile
import warnings
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import OpenEXR
import PIL.Image
import PIL.TiffImagePlugin
from numpy.typing import NDArray

from fasciculum.errors import InputError, MalformedFile, OutputError, UnsupportedInput
from fasciculum.io.ktx2 import MAGIC, decode_ktx2, ktx2_size
from fasciculum.units import eight_bits

#: more texels than this are refused: 16384 x 16384
MOST_TEXELS = 16384 * 16384
#: an image beyond 8192 x 8192 must hold at least a byte for so many texels, so that a small file stays cheap
LARGE, TEXELS_PER_BYTE = 8192 * 8192, 128
#: DDS's number of the format that keeps two channels alone
TWO_CHANNELS = 83
#: texels of a picture of a sky at most
MOST_SKY = 16384 * 8192


@dataclass(frozen=True)
class Codec:
    """A format of image files.

    Attributes
    ----------
    name : str
        As the decoding library calls it.
    suffixes : tuple of str
        With the point, the usual one first.
    mime : str
    types : tuple of str
        Numbers that it stores, of a channel.
    channels : tuple of int
    starts : callable
        Whether a file that begins so is one of these.
    encode : callable, optional
        From stored values, shape (H, W, C), to a file; None for what is only read.
    portable : bool
        Whether a delivered model may hold such a file; others are written as PNG.
    linear : bool
        Whether it holds linear values, whatever it shows.
    """

    name: str
    suffixes: tuple[str, ...]
    mime: str
    types: tuple[str, ...]
    channels: tuple[int, ...]
    starts: Callable[[bytes], bool]
    encode: Callable[[NDArray[Any]], bytes] | None = None
    portable: bool = False
    linear: bool = False

    @property
    def suffix(self) -> str:
        """The usual suffix, with the point."""
        return self.suffixes[0]


def codec_of(data: bytes) -> Codec | None:
    """Return the codec of an encoded image by its first bytes, None for a format that is not read here."""
    return next((codec for codec in CODECS if codec.starts(data)), None)


def mime_type(data: bytes) -> str:
    """Return the MIME type by the first bytes, or an empty string for a format that is not read here."""
    codec = codec_of(data)
    return codec.mime if codec is not None else ""


def decode(data: bytes, *, place: str) -> NDArray[Any]:
    """Decode an encoded image.

    Parameters
    ----------
    data : bytes
    place : str
        What the image is called in messages.

    Returns
    -------
    ndarray of uint8 or uint16, shape (H, W, C) with C 3 or 4
        As stored; no colour conversion.

    Raises
    ------
    MalformedFile
        When the data is not a whole image of a known format.
    UnsupportedInput
        When it is too large, or of a format that is not read.
    """
    codec = codec_of(data)
    if codec is None:
        known = ", ".join(codec.name for codec in CODECS)
        raise UnsupportedInput(f"the image is not one of {known}.", item=place, hint="Convert it to PNG.")
    if codec is KTX2:
        pixels = decode_ktx2(data, place=place)
        return _with_z(pixels) if pixels.shape[2] == 2 else pixels
    if codec.linear:
        return _decode_linear(data, place)
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            width, height, picture = _opened(codec, data, place)
            if width * height > MOST_TEXELS:
                raise UnsupportedInput(
                    f"the image is {width} x {height}, more than 16384 x 16384.",
                    item=place,
                    hint="Scale it down.",
                )
            if width * height > LARGE and width * height > TEXELS_PER_BYTE * len(data):
                raise UnsupportedInput(
                    f"the image claims to be {width} x {height} in {len(data)} bytes.",
                    item=place,
                    hint="Scale it down.",
                )
            if picture is None or (codec is PNG and data[24:25] == b"\x10"):
                return _decode_deep(data, place)
            if codec is DDS and data[84:88] == b"DX10" and int.from_bytes(data[128:132], "little") == TWO_CHANNELS:
                return _with_z(np.asarray(picture.convert("RGB")))
            alpha = picture.mode in ("RGBA", "LA", "PA", "La", "RGBa") or "transparency" in picture.info
            return np.asarray(picture.convert("RGBA" if alpha else "RGB"))
    except InputError:
        raise
    except Exception as error:  # Pillow raises many kinds on damaged data
        raise MalformedFile(
            f"the image cannot be decoded ({error}).", item=place, hint="Save it again as PNG."
        ) from error


def texels_of(data: bytes) -> int:
    """Return how many texels an encoded image has by its header; 0 when that cannot be read."""
    codec = codec_of(data)
    if codec is None:
        return 0
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            width, height, _ = _opened(codec, data, "")
    except Exception:  # decoding says what is wrong
        return 0
    return width * height


def _opened(codec: Codec, data: bytes, place: str) -> tuple[int, int, PIL.Image.Image | None]:
    """Return width and height by the header, and the picture, whose pixels are not decoded yet.

    The picture is None for a deep TIFF, which Pillow does not read.
    """
    if codec is KTX2:
        return *ktx2_size(data), None
    if codec.linear:
        return 0, 0, None
    if codec is TIFF:
        width, height, bits = _tiff_tags(data, place)
        if max(bits) > 8:
            return width, height, None
    picture = PIL.Image.open(io.BytesIO(data), formats=(codec.name,))
    return *picture.size, picture


def _tiff_tags(data: bytes, place: str) -> tuple[int, int, tuple[int, ...]]:
    """Return the width and the height of a TIFF image, and the bits of its channels, as its header says."""
    tags = PIL.TiffImagePlugin.ImageFileDirectory_v2(data[:8])
    stream = io.BytesIO(data)
    stream.seek(tags.next)
    tags.load(stream)
    width, height = tags.get(PIL.TiffImagePlugin.IMAGEWIDTH), tags.get(PIL.TiffImagePlugin.IMAGELENGTH)
    bits = tags.get(PIL.TiffImagePlugin.BITSPERSAMPLE, (1,))
    if not isinstance(width, int) or not isinstance(height, int) or not isinstance(bits, tuple) or not bits:
        raise MalformedFile("the image cannot be decoded.", item=place, hint="Save it again as PNG.")
    return width, height, tuple(int(value) for value in bits)


def _is_tga(data: bytes) -> bool:
    """Whether a file may be TGA: the format's end says so, or its header makes sense."""
    if data[-18:-2] == b"TRUEVISION-XFILE":
        return True
    kinds = data[2:3] in (b"\x02", b"\x03", b"\x0a", b"\x0b") and data[1:2] == b"\0"
    sizes = len(data) > 18 and int.from_bytes(data[12:14], "little") > 0 and int.from_bytes(data[14:16], "little") > 0
    return kinds and sizes and data[16:17] in (b"\x08", b"\x10", b"\x18", b"\x20")


def _with_z(pixels: NDArray[np.uint8]) -> NDArray[np.uint8]:
    """Return normals whose first two channels are given, (H, W, 2 or 3), with the third that makes them one long."""
    # compiled code is loaded when such a file comes, not with every start
    from fasciculum.kernels.sampling.level_errors import derive_third

    result = np.empty((*pixels.shape[:2], 3), np.uint8)
    derive_third(np.ascontiguousarray(pixels[..., :2]), result)
    return result


def _decode_linear(data: bytes, place: str) -> NDArray[np.uint16]:
    """Return the values of an EXR or HDR image from 0 to 1 in 16 bits; what is brighter is cut off."""
    pixels = decode_exr(data, place=place) if data.startswith(EXR_MAGIC) else decode_panorama(data, place=place)
    if pixels.shape[2] == 1:
        pixels = np.repeat(pixels, 3, axis=2)
    whole = np.round(np.clip(np.nan_to_num(pixels, nan=0.0), 0, 1) * 65535)
    return np.ascontiguousarray(whole.astype(np.uint16))


def _decode_deep(data: bytes, place: str) -> NDArray[np.uint16]:
    result = cv2.imdecode(np.frombuffer(data, np.uint8), cv2.IMREAD_UNCHANGED)
    if result is None:
        raise MalformedFile("the image cannot be decoded.", item=place, hint="Save it again as PNG.")
    if result.dtype != np.uint16:
        raise MalformedFile(
            "the image's bit depth is not what its header says.", item=place, hint="Save it again as PNG."
        )
    pixels = np.asarray(result, np.uint16)
    if pixels.ndim == 2 or pixels.shape[2] == 1:
        pixels = pixels.reshape(pixels.shape[:2])
        return np.repeat(pixels[..., None], 3, axis=2)
    if pixels.shape[2] == 4:
        return np.ascontiguousarray(pixels[..., [2, 1, 0, 3]])
    return np.ascontiguousarray(pixels[..., ::-1])


def encode_png(pixels: NDArray[Any], *, fast: bool = False) -> bytes:
    """Encode an array as PNG.

    Parameters
    ----------
    pixels : ndarray of uint8 or uint16, shape (H, W, C) with C 1, 3 or 4
    fast : bool
        Larger and quicker.

    Raises
    ------
    OutputError
        When the encoder refuses.
    """
    order = [0] if pixels.shape[2] == 1 else [2, 1, 0, 3][: pixels.shape[2]]
    swapped = np.ascontiguousarray(pixels[..., order])
    done, data = cv2.imencode(".png", swapped, [cv2.IMWRITE_PNG_COMPRESSION, 1 if fast else 4])
    if not done:
        raise OutputError("the PNG encoder refused the image.")
    return bytes(data.tobytes())


def encode_tga(pixels: NDArray[Any]) -> bytes:
    """Encode an array, shape (H, W, C) with C 1, 3 or 4, as TGA, packed; 16 bits are rounded to 8."""
    shown = eight_bits(pixels)
    stream = io.BytesIO()
    shown = shown[..., 0] if shown.shape[2] == 1 else shown
    PIL.Image.fromarray(np.ascontiguousarray(shown)).save(stream, "TGA", compression="tga_rle")
    return stream.getvalue()


def encode_webp(pixels: NDArray[Any]) -> bytes:
    """Encode an array, shape (H, W, C) with C 1, 3 or 4, as lossless WebP; 16 bits are rounded to 8."""
    shown = eight_bits(pixels)
    shown = np.repeat(shown, 3, axis=2) if shown.shape[2] == 1 else shown
    stream = io.BytesIO()
    # what opacity hides is kept too
    PIL.Image.fromarray(np.ascontiguousarray(shown)).save(stream, "WEBP", lossless=True, exact=True, quality=60)
    return stream.getvalue()


def encode_exr(pixels: NDArray[Any]) -> bytes:
    """Encode an array of half or whole floats, shape (H, W, C) with C 1, 3 or 4, as EXR; no date is kept in it."""
    names = {1: "Y", 3: "RGB", 4: "RGBA"}[pixels.shape[2]]
    header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
    channels = {names: np.ascontiguousarray(pixels[..., 0] if pixels.shape[2] == 1 else pixels)}
    with tempfile.NamedTemporaryFile(suffix=".exr") as beside, OpenEXR.File(header, channels) as file:
        file.write(beside.name)
        return Path(beside.name).read_bytes()


def decode_exr(data: bytes, *, place: str) -> NDArray[np.float32]:
    """Decode an EXR file of our own, shape (H, W, C) with C 1, 3 or 4.

    Raises
    ------
    MalformedFile
    """
    try:
        with tempfile.NamedTemporaryFile(suffix=".exr") as beside:
            beside.write(data)
            beside.flush()
            with OpenEXR.File(beside.name) as file:
                result = next(file.channels()[name].pixels for name in ("RGBA", "RGB", "Y") if name in file.channels())
                pixels = np.array(result, np.float32)
    except Exception as error:  # whatever the library raises on damaged data
        raise MalformedFile(f"the image cannot be decoded ({error}).", item=place, hint="Bake it again.") from error
    return pixels if pixels.ndim == 3 else pixels[..., None]


def decode_panorama(data: bytes, *, place: str) -> NDArray[np.float32]:
    """Decode a picture of a sky, Radiance HDR or EXR, shape (H, W, 3), linear; what is no number is 0.

    Raises
    ------
    MalformedFile, UnsupportedInput
    """
    if data.startswith(EXR_MAGIC):
        pixels = decode_exr(data, place=place)
        pixels = pixels[..., :3] if pixels.shape[2] >= 3 else np.repeat(pixels, 3, axis=2)
    elif data[:2] == b"#?":
        size = re.search(rb"[-+]Y +(\d+) +[-+]X +(\d+)", data[:65536])
        if size is None or int(size[1]) * int(size[2]) > MOST_SKY:
            raise UnsupportedInput(
                "the sky picture has no size, or is larger than 16384 x 8192.", file=place, hint="Scale it down."
            )
        # what cannot be decoded is told here, and not by the library
        cv2.utils.logging.setLogLevel(cv2.utils.logging.LOG_LEVEL_SILENT)
        result = cv2.imdecode(np.frombuffer(data, np.uint8), cv2.IMREAD_UNCHANGED)
        if result is None or result.ndim != 3 or result.shape[2] != 3:
            raise MalformedFile("the sky picture cannot be decoded.", file=place, hint="Save it again.")
        pixels = np.asarray(result[..., ::-1], np.float32)
    else:
        raise UnsupportedInput(
            "this is not a sky picture.", file=place, hint="Name an equirectangular .hdr or .exr file."
        )
    if pixels.shape[0] * pixels.shape[1] > MOST_SKY:
        raise UnsupportedInput("the sky picture is larger than 16384 x 8192.", file=place, hint="Scale it down.")
    return np.ascontiguousarray(np.nan_to_num(pixels, nan=0.0, posinf=65504.0, neginf=0.0))


PNG = Codec(
    "PNG",
    (".png",),
    "image/png",
    ("uint8", "uint16"),
    (1, 3, 4),
    lambda data: data[:8] == b"\x89PNG\r\n\x1a\n",
    encode_png,
    portable=True,
)
JPEG = Codec(
    "JPEG",
    (".jpg", ".jpeg"),
    "image/jpeg",
    ("uint8",),
    (3,),
    lambda data: data[:3] == b"\xff\xd8\xff",
    portable=True,
)
WEBP = Codec(
    "WEBP",
    (".webp",),
    "image/webp",
    ("uint8",),
    (3, 4),
    lambda data: data[:4] == b"RIFF" and data[8:12] == b"WEBP",
    portable=True,
)
AVIF = Codec(
    "AVIF",
    (".avif",),
    "image/avif",
    ("uint8",),
    (3, 4),
    lambda data: data[4:8] == b"ftyp" and data[8:12] in (b"avif", b"avis"),
)
TIFF = Codec(
    "TIFF",
    (".tif", ".tiff"),
    "image/tiff",
    ("uint8", "uint16"),
    (3, 4),
    lambda data: data[:4] in (b"II*\0", b"MM\0*"),
)
BMP = Codec("BMP", (".bmp",), "image/bmp", ("uint8",), (3, 4), lambda data: data[:2] == b"BM")
DDS = Codec("DDS", (".dds",), "image/vnd-ms.dds", ("uint8",), (3, 4), lambda data: data[:4] == b"DDS ")
# the last one: it has no bytes of its own at its beginning
TGA = Codec("TGA", (".tga",), "image/x-tga", ("uint8",), (3, 4), lambda data: _is_tga(data))
#: what starts an EXR file
EXR_MAGIC = b"\x76\x2f\x31\x01"
KTX2 = Codec("KTX2", (".ktx2",), "image/ktx2", ("uint8",), (3, 4), lambda data: data.startswith(MAGIC))
EXR = Codec("EXR", (".exr",), "image/x-exr", ("uint16",), (3, 4), lambda data: data.startswith(EXR_MAGIC), linear=True)
HDR = Codec("HDR", (".hdr",), "image/vnd.radiance", ("uint16",), (3,), lambda data: data[:2] == b"#?", linear=True)
CODECS = (PNG, JPEG, WEBP, AVIF, TIFF, BMP, DDS, KTX2, EXR, HDR, TGA)
