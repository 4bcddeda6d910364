"""PNG, JPEG and WebP into arrays; arrays into PNG.

Dimensions are read and judged before anything is decoded. EXIF rotation is ignored, as glTF says.
"""

from __future__ import annotations

import io
import warnings
from typing import Any

import cv2
import numpy as np
import PIL.Image
from numpy.typing import NDArray

from fasciculum.errors import InputError, MalformedFile, OutputError, UnsupportedInput

#: more texels than this are refused: 16384 x 16384
MOST_TEXELS = 16384 * 16384
#: an image beyond 8192 x 8192 must hold at least a byte for so many texels, so that a small file stays cheap
LARGE, TEXELS_PER_BYTE = 8192 * 8192, 128
FORMATS = {"PNG": "image/png", "JPEG": "image/jpeg", "WEBP": "image/webp"}


def mime_type(data: bytes) -> str:
    """Return the MIME type by the first bytes, or an empty string for a format that is not read here."""
    if data[:8] == b"\x89PNG\r\n\x1a\n":
        return "image/png"
    if data[:3] == b"\xff\xd8\xff":
        return "image/jpeg"
    if data[:4] == b"RIFF" and data[8:12] == b"WEBP":
        return "image/webp"
    return ""


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
    mime = mime_type(data)
    if not mime:
        raise UnsupportedInput("the image is neither PNG, JPEG nor WebP.", item=place, hint="Convert it to PNG.")
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            picture = PIL.Image.open(io.BytesIO(data), formats=tuple(FORMATS))
            width, height = picture.size
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
                    hint="Scale it down to what it shows.",
                )
            deep = mime == "image/png" and data[24:25] == b"\x10"
            if deep:
                return _decode_deep(data, place)
            alpha = picture.mode in ("RGBA", "LA", "PA", "La", "RGBa") or "transparency" in picture.info
            return np.asarray(picture.convert("RGBA" if alpha else "RGB"))
    except InputError:
        raise
    except Exception as error:  # Pillow raises many kinds on damaged data
        raise MalformedFile(
            f"the image cannot be decoded ({error}).", item=place, hint="Save it again as PNG."
        ) from error


def _decode_deep(data: bytes, place: str) -> NDArray[np.uint16]:
    found = cv2.imdecode(np.frombuffer(data, np.uint8), cv2.IMREAD_UNCHANGED)
    if found is None:
        raise MalformedFile("the image cannot be decoded.", item=place, hint="Save it again as PNG.")
    if found.dtype != np.uint16:
        raise MalformedFile("the image is not of the depth that it claims.", item=place, hint="Save it again as PNG.")
    pixels = np.asarray(found, np.uint16)
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
