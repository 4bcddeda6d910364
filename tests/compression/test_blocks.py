"""Every block format out and in again, by decoders that are not ours where there are any."""

import io
import struct
import unittest
from unittest import mock

import astc_encoder
import numpy as np
import PIL.Image
import texture2ddecoder
import zstandard

from fasciculum.compression import blocks
from fasciculum.compression.bc6h import decode_bc6h, encode_bc6h
from fasciculum.compression.containers import dds_file, ktx2_file
from fasciculum.compression.encoders import PACKAGES, decode_level, library
from fasciculum.compression.encoding import encode_level
from fasciculum.compression.processes import Processes
from fasciculum.errors import UnsupportedInput
from fasciculum.model.choices import Compression
from fasciculum.progress import Cancelled, Progress

ODD = ((1, 1), (4, 12), (20, 4), (37, 22))
FORMATS = {
    "bc1": blocks.BC1,
    "bc3": blocks.BC3,
    "bc4": blocks.BC4,
    "bc5": blocks.BC5,
    "bc7": blocks.BC7,
    "astc4x4": blocks.ASTC4,
    "astc6x6": blocks.ASTC6,
    "astc8x8": blocks.ASTC8,
    "etc2": blocks.ETC2,
    "etc2 with alpha": blocks.ETC2_ALPHA,
    "eac": blocks.EAC_ONE,
    "eac of two": blocks.EAC_TWO,
    "none": blocks.PLAIN,
}


def smooth(width, height, channels):
    """Waves that no block is flat in."""
    y, x = np.mgrid[0:height, 0:width]
    waves = [np.sin(x / (9.0 + c) + c) * np.cos(y / (13.0 - c)) for c in range(channels)]
    return np.round((np.stack(waves, axis=2) * 0.4 + 0.5) * 255).astype(np.uint8)


def decibels(one, two):
    error = ((one.astype(float) - two.astype(float)) ** 2).mean()
    return 99.0 if error == 0 else 10 * np.log10(255**2 / error)


def read_ktx2(data):
    """The levels of a KTX2 file, the largest first, with what its header says; written from the specification alone."""
    assert data[:12] == b"\xabKTX 20\xbb\r\n\x1a\n"
    names = "format unit width height depth layers faces levels scheme dfd dfd_size kvd kvd_size"
    head = dict(zip(names.split(), struct.unpack_from("<13I", data, 12), strict=True))
    levels = []
    for number in range(head["levels"]):
        offset, size, whole = struct.unpack_from("<3Q", data, 80 + 24 * number)
        part = data[offset : offset + size]
        if head["scheme"] == 2:
            part = zstandard.ZstdDecompressor().decompress(part)
        else:
            assert offset % 4 == 0
        assert len(part) == whole
        levels.append(part)
    total, _, version_size = struct.unpack_from("<3I", data, head["dfd"])
    assert total == head["dfd_size"] and version_size >> 16 == total - 4
    head["model"], _, head["transfer"] = data[head["dfd"] + 12 : head["dfd"] + 15]
    head["pairs"] = data[head["kvd"] : head["kvd"] + head["kvd_size"]]
    return head, levels


class RoundTrip(unittest.TestCase):
    def test_every_format_keeps_smooth_texels_on_odd_sizes_too(self):
        for name, form in FORMATS.items():
            for width, height in ODD:
                with self.subTest(format=name, size=(width, height)):
                    texels = smooth(width, height, form.channels)
                    data = encode_level(texels, form)
                    across, down = -(-width // form.edges[0]), -(-height // form.edges[1])
                    self.assertEqual(len(data), across * down * form.size)
                    decoded = decode_level(data, form, width, height)
                    self.assertEqual(decoded.shape, texels.shape)
                    self.assertGreater(decibels(decoded, texels), 28 if name == "astc8x8" else 31)

    def test_a_dds_is_read_by_another_library_with_all_its_levels(self):
        for name, mode in (("bc1", "RGBA"), ("bc3", "RGBA"), ("bc4", "L"), ("bc5", "RGB"), ("bc7", "RGBA")):
            form = FORMATS[name]
            with self.subTest(format=name):
                sizes = blocks.level_sizes(36, 20)
                self.assertEqual(sizes, [(36, 20), (18, 10), (9, 5), (4, 2), (2, 1), (1, 1)])
                levels = [encode_level(smooth(*size, form.channels), form) for size in sizes]
                data = dds_file(levels, form, 36, 20, srgb=False, alpha=form.channels == 4)
                self.assertEqual(len(data), 148 + sum(map(len, levels)))
                self.assertEqual(form.chain_bytes(36, 20), sum(map(len, levels)))
                self.assertEqual(struct.unpack_from("<I", data, 28)[0], len(sizes))
                picture = PIL.Image.open(io.BytesIO(data))
                self.assertEqual((picture.mode, picture.size), (mode, (36, 20)))
                seen = np.asarray(picture).reshape(20, 36, -1)[..., : form.channels]
                np.testing.assert_array_equal(seen, decode_level(levels[0], form, 36, 20))

    def test_colours_are_marked_as_srgb_and_opacity_as_straight(self):
        level = [encode_level(smooth(8, 8, 4), blocks.BC7)]
        for srgb, alpha, expected in ((True, True, (99, 1)), (False, False, (98, 3))):
            data = dds_file(level, blocks.BC7, 8, 8, srgb=srgb, alpha=alpha)
            number, _, _, _, flags = struct.unpack_from("<5I", data, 128)
            self.assertEqual((number, flags), expected)
            head, _ = read_ktx2(ktx2_file(level, blocks.BC7, 8, 8, srgb=srgb, zstd=False))
            self.assertEqual((head["format"], head["transfer"]), (146, 2) if srgb else (145, 1))

    def test_a_ktx2_holds_what_was_encoded_packed_or_not(self):
        for name in ("bc1", "astc6x6", "etc2 with alpha", "eac", "none"):
            form = FORMATS[name]
            levels = [encode_level(smooth(*size, form.channels), form) for size in blocks.level_sizes(20, 12)]
            for zstd in (False, True):
                with self.subTest(format=name, zstd=zstd):
                    head, found = read_ktx2(ktx2_file(levels, form, 20, 12, srgb=False, zstd=zstd))
                    self.assertEqual(found, levels)
                    self.assertEqual((head["width"], head["height"], head["faces"]), (20, 12, 1))
                    self.assertEqual(head["model"], form.model)
                    self.assertIn(b"KTXorientation\0rd\0", head["pairs"])

    def test_astc_is_read_by_its_own_reference_too(self):
        for form in (blocks.ASTC4, blocks.ASTC6, blocks.ASTC8):
            data = encode_level(smooth(48, 24, 4), form)
            context = astc_encoder.ASTCContext(
                astc_encoder.ASTCConfig(astc_encoder.ASTCProfile.LDR, *form.edges, 1, 10.0)
            )
            image = astc_encoder.ASTCImage(astc_encoder.ASTCType.U8, 48, 24, 1)
            context.decompress(data, image, astc_encoder.ASTCSwizzle.from_str("RGBA"))
            seen = np.frombuffer(image.data, np.uint8).reshape(24, 48, 4)
            self.assertLessEqual(np.abs(seen.astype(int) - decode_level(data, form, 48, 24)).max(), 1)

    def test_half_floats_keep_light_of_a_thousand_nits(self):
        y, x = np.mgrid[0:32, 0:48]
        light = np.stack([np.exp2(x / 5.0), np.exp2(x / 5.0) * 0.7, np.exp2(y / 4.0)], axis=2).astype(np.float16)
        data = encode_bc6h(light)
        decoded = decode_bc6h(data, 48, 32)
        self.assertLess(np.median(np.abs(decoded / light.astype(np.float32) - 1)), 0.03)
        # a decoder that is not ours cuts it to 8 bits: what is below 1 can be compared
        dim = (light / light.max()).astype(np.float16)
        flat = texture2ddecoder.decode_bc6(encode_bc6h(dim), 48, 32)
        seen = np.frombuffer(flat, np.uint8).reshape(32, 48, 4)[..., [2, 1, 0]]
        ours = decode_bc6h(encode_bc6h(dim), 48, 32)
        self.assertLessEqual(np.abs(seen - np.clip(ours, 0, 1) * 255).max(), 1.5)

    def test_what_no_half_float_holds_is_cut(self):
        bad = np.array([np.nan, -3.0, 7e4, 2.0], np.float32).reshape(1, 4, 1) * np.ones((4, 1, 3), np.float32)
        decoded = decode_bc6h(encode_bc6h(bad), 4, 4)
        self.assertTrue(np.isfinite(decoded).all())
        self.assertGreaterEqual(decoded.min(), 0)

    def test_bands_come_out_alike_however_many_processes_there_are(self):
        texels = smooth(512, 384, 3)
        with mock.patch("fasciculum.compression.encoding.thread_count", return_value=1):
            alone = encode_level(texels, blocks.BC1)
        self.assertEqual(encode_level(texels, blocks.BC1), alone)

    def test_a_process_that_is_lost_costs_nothing(self):
        processes = Processes()
        band = smooth(16, 16, 3), "bc1", (4, 4)
        expected = processes.encode(band)
        processes._begun[0].kill()
        processes._begun[0].wait()
        with self.assertLogs("fasciculum.compression.processes", "WARNING"):
            self.assertEqual(processes.encode(band), expected)
        self.assertEqual(processes.encode(band), expected)
        processes.close()

    def test_it_can_be_cancelled(self):
        with self.assertRaises(Cancelled):
            encode_level(smooth(1024, 512, 3), blocks.BC1, Progress(cancelled=lambda: True))

    def test_a_missing_library_says_what_to_type(self):
        for name, package in PACKAGES.items():
            with (
                mock.patch("importlib.import_module", side_effect=ImportError),
                self.assertRaises(UnsupportedInput) as caught,
            ):
                library(name)
            self.assertIn(f"pip install {package}", caught.exception.hint)


class Table(unittest.TestCase):
    def test_what_is_tried_fits_the_channels_and_grows(self):
        for family in (Compression.BC, Compression.ASTC, Compression.ETC2):
            for channels in (1, 3, 4):
                forms = blocks.candidates(family, channels, vectors=False, floats=False)
                self.assertTrue(all(form.channels >= channels for form in forms))
                sizes = [form.density for form in forms]
                self.assertEqual(sizes, sorted(sizes))
            vectors = blocks.candidates(family, 3, vectors=True, floats=False)
            self.assertTrue(all(form.channels >= 2 for form in vectors))
        self.assertEqual(blocks.candidates(Compression.BC, 3, vectors=False, floats=True), (blocks.BC6H,))
        self.assertFalse(blocks.candidates(Compression.BC, 4, vectors=False, floats=True)[0].is_block)
        self.assertFalse(blocks.candidates(Compression.ASTC, 3, vectors=False, floats=True)[0].is_block)

    def test_etc2_is_named_once_and_found_by_channels(self):
        found = [blocks.named("etc2", channels, floats=False).size for channels in (1, 2, 3, 4)]
        self.assertEqual(found, [8, 16, 8, 16])
