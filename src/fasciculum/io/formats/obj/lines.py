"""The lines of an OBJ file as arrays. Numbers are read many at a time; only a line that is wrong is looked at alone."""

from __future__ import annotations

import warnings
from dataclasses import dataclass, field
from itertools import chain
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from fasciculum.errors import MalformedFile, UnsupportedInput
from fasciculum.progress import Progress

MOST_LINES = 30_000_000
MOST_CORNERS = 4096
#: statements that change what follows, and those that are known and mean nothing here
STATES = (b"usemtl", b"o", b"g", b"s", b"mtllib")
CURVES = (b"curv", b"curv2", b"surf", b"parm", b"bsp", b"con")


@dataclass(eq=False)
class Lines:
    """What an OBJ file says.

    Attributes
    ----------
    positions : ndarray of float64, shape (V, 3)
    colors : ndarray of float64, shape (V, 3), or None
    uvs : ndarray of float64, shape (U, 2)
        v up, as stored.
    normals : ndarray of float64, shape (N, 3)
    corners : ndarray of int64, shape (C, 3)
        For each corner of each face the numbers of its position, UV and normal, -1 for none.
    starts : ndarray of int64, shape (F + 1,)
        Where each face's corners begin.
    face_lines : ndarray of int64, shape (F,)
        In which line each face stands, from 0.
    states : list of (line, keyword, value)
    strokes : list of (line, keyword, tokens)
        Points and lines.
    curved : bool
        Whether there are free-form curves or surfaces, which are not read.
    """

    positions: NDArray[np.float64]
    colors: NDArray[np.float64] | None
    uvs: NDArray[np.float64]
    normals: NDArray[np.float64]
    corners: NDArray[np.int64]
    starts: NDArray[np.int64]
    face_lines: NDArray[np.int64]
    states: list[tuple[int, bytes, bytes]] = field(default_factory=list)
    strokes: list[tuple[int, bytes, list[int]]] = field(default_factory=list)
    curved: bool = False


def read_lines(data: bytes, path: Path, progress: Progress) -> Lines:
    """Read an OBJ file.

    Raises
    ------
    MalformedFile
        Names the line.
    UnsupportedInput
        When it is far too large.
    """
    return _Reader(data, path, progress).read()


class _Reader:
    def __init__(self, data: bytes, path: Path, progress: Progress) -> None:
        self.path = path
        self.progress = progress
        if data.count(b"\n") > MOST_LINES:
            raise UnsupportedInput(f"the file has more than {MOST_LINES} lines.", file=path.name, hint="Split it.")
        if b"\\\n" in data or b"\\\r\n" in data:
            data = data.replace(b"\\\r\n", b" ").replace(b"\\\n", b" ")
        self.lines = data.split(b"\n")

    def fail(self, line: int, message: str) -> MalformedFile:
        return MalformedFile(message, file=self.path.name, item=f"line {line + 1}", hint="Export the model again.")

    def read(self) -> Lines:
        places: dict[bytes, list[int]] = {b"v": [], b"vt": [], b"vn": [], b"f": []}
        states: list[tuple[int, bytes, bytes]] = []
        strokes: list[tuple[int, bytes, bytes]] = []
        curved = False
        known = {b"v ": places[b"v"], b"f ": places[b"f"]}
        for number, line in enumerate(self.lines):
            if not number & 0xFFFF:
                self.progress.update(0.4 * number / len(self.lines), f"Reading {self.path.name}")
            quick = known.get(line[:2])
            if quick is not None:
                quick.append(number)
                continue
            word, _, rest = line.strip().replace(b"\t", b" ").partition(b" ")
            if word in places:
                places[word].append(number)
            elif word in STATES:
                states.append((number, word, rest.strip()))
            elif word in (b"l", b"p"):
                strokes.append((number, word, rest))
            elif word in CURVES:
                curved = True
        self.progress.update(0.45, "Reading vertices")
        vertices, uvs, normals = self.rows(places[b"v"], 3), self.rows(places[b"vt"], 1), self.rows(places[b"vn"], 3)
        if uvs.shape[1] == 1:
            uvs = np.concatenate([uvs, np.zeros_like(uvs)], axis=1)
        colors = vertices[:, -3:] if vertices.shape[1] in (6, 7) else None
        self.progress.update(0.6, "Reading faces")
        counts = tuple(np.array(places[word], np.int64) for word in (b"v", b"vt", b"vn"))
        corners, starts = self.faces(places[b"f"], counts)
        return Lines(
            vertices[:, :3],
            colors,
            uvs[:, :2],
            normals[:, :3],
            corners,
            starts,
            np.array(places[b"f"], np.int64),
            states,
            [(line, word, self.stroke(line, word, rest, counts[0])) for line, word, rest in strokes],
            curved,
        )

    def rows(self, places: list[int], least: int) -> NDArray[np.float64]:
        """Return the numbers of lines, as many to a line as the first one has or, where lines differ, as all have."""
        if not places:
            return np.zeros((0, max(least, 2)))
        first = self.lines[places[0]].split()
        width = len(first) - 1
        skip = len(first[0]) + 1
        text = b" ".join([self.lines[number].lstrip()[skip - 1 :] for number in places])
        values = _numbers(text, np.float64)
        # lines of unlike lengths can come to the right sum
        alike = all(len(self.lines[number].split()) == width + 1 for number in places)
        if alike and values is not None and len(values) == width * len(places) and width >= least:
            result = values.reshape(-1, width)
            if not np.isfinite(result).all():
                bad = int(np.flatnonzero(~np.isfinite(result).all(axis=1))[0])
                raise self.fail(places[bad], "a number is not finite.")
            return result
        return self.rows_singly(places, least)

    def rows_singly(self, places: list[int], least: int) -> NDArray[np.float64]:
        rows = []
        for number in places:
            tokens = self.lines[number].split(b"#")[0].split()[1:]
            try:
                row = [float(token) for token in tokens[:7]]
            except ValueError:
                raise self.fail(number, "this is not a line of numbers.") from None
            if len(row) < least:
                raise self.fail(number, f"there are {len(row)} numbers where {least} are needed.")
            if not all(abs(value) < 1e300 for value in row):
                raise self.fail(number, "a number is not finite.")
            rows.append(row)
        width = min(len(row) for row in rows)
        return np.array([row[:width] for row in rows], np.float64)

    def faces(
        self, places: list[int], counts: tuple[NDArray[np.int64], ...]
    ) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        """Return the corners of faces, (C, 3), and where each face begins."""
        tokens = [self.lines[number].split(b"#")[0].split()[1:] for number in places]
        lengths = np.fromiter(map(len, tokens), np.int64, len(tokens))
        if len(lengths) and int(lengths.min()) < 3:
            raise self.fail(places[int(lengths.argmin())], "a face has fewer than three corners.")
        if len(lengths) and int(lengths.max()) > MOST_CORNERS:
            raise self.fail(places[int(lengths.argmax())], f"a face has more than {MOST_CORNERS} corners.")
        starts = np.concatenate([[0], np.cumsum(lengths)]).astype(np.int64)
        total = int(starts[-1])
        corners = self.corners_at_once(b" ".join(chain.from_iterable(tokens)), total)
        if corners is None:
            corners = np.array(
                [self.corner(places[face], token) for face, face_tokens in enumerate(tokens) for token in face_tokens],
                np.int64,
            ).reshape(-1, 3)
        line = np.repeat(np.array(places, np.int64), lengths)
        for column, lines in enumerate(counts):
            values = corners[:, column]
            # a negative number counts back from the last one before this line
            before = np.searchsorted(lines, line)
            result = np.where(values < 0, before + values, values - 1)
            given = values != 0
            wrong = given & ((result < 0) | (result >= len(lines)))
            if wrong.any():
                at = int(np.flatnonzero(wrong)[0])
                kind = ("position", "UV", "normal")[column]
                raise self.fail(int(line[at]), f"there is no {kind} {int(values[at])}; the file has {len(lines)}.")
            corners[:, column] = np.where(given, result, -1)
        if len(corners) and int(corners[:, 0].min()) < 0:
            raise self.fail(int(line[int(corners[:, 0].argmin())]), "a corner has no position.")
        return corners, starts

    @staticmethod
    def corners_at_once(text: bytes, total: int) -> NDArray[np.int64] | None:
        """Return corners that are all written alike, None where they are not; 0 stands for none."""
        slashes, doubles = text.count(b"/"), text.count(b"//")
        if slashes == 0:
            columns: tuple[int, ...] = (0,)
        elif slashes == 2 * total and doubles == total:
            columns, text = (0, 2), text.replace(b"//", b" ")
        elif slashes == total and doubles == 0:
            columns, text = (0, 1), text.replace(b"/", b" ")
        elif slashes == 2 * total and doubles == 0:
            columns, text = (0, 1, 2), text.replace(b"/", b" ")
        else:
            return None
        values = _numbers(text, np.int64)
        if values is None or len(values) != total * len(columns):
            return None
        corners = np.zeros((total, 3), np.int64)
        corners[:, columns] = values.reshape(-1, len(columns))
        return corners

    def corner(self, line: int, token: bytes) -> tuple[int, int, int]:
        parts = token.split(b"/")
        try:
            numbers = [int(part) if part else 0 for part in parts]
        except ValueError:
            raise self.fail(line, f"{token[:40].decode(errors='replace')!r} is not a corner.") from None
        if len(numbers) > 3 or not numbers[0] or any(abs(number) > 1 << 40 for number in numbers):
            raise self.fail(line, f"{token[:40].decode(errors='replace')!r} is not a corner.")
        one, two, three = [*numbers, 0, 0][:3]
        return one, two, three

    def stroke(self, line: int, word: bytes, rest: bytes, counts: NDArray[np.int64]) -> list[int]:
        numbers = [self.corner(line, token)[0] for token in rest.split(b"#")[0].split()]
        before = int(np.searchsorted(counts, line))
        results = [before + number if number < 0 else number - 1 for number in numbers]
        if any(not 0 <= number < len(counts) for number in results):
            raise self.fail(line, "a point or line names a position that does not exist.")
        return results


def _numbers(text: bytes, kind: type) -> NDArray | None:
    """Return the numbers in a text, None where something in it is none."""
    with warnings.catch_warnings():
        warnings.simplefilter("error")
        try:
            return np.fromstring(text.decode("ascii"), kind, sep=" ")
        except (DeprecationWarning, ValueError, UnicodeDecodeError):
            return None
