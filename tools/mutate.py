"""Change one place of the code at a time and see whether a test notices: ``tools/mutate.py [-n 20] MODULE ...``.

A nightly thing. Modules are paths below ``src/fasciculum`` or folders of them. Each change is made in a copy of the
sources, and the tests that import the module, or mirror its place, are run against that. What lives is a missing test,
or a change that makes no difference. Prints a line for each change and exits with 1 when less than 85 % were noticed.
"""

from __future__ import annotations

import argparse
import ast
import os
import random
import re
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
SOURCE = Path("src") / "fasciculum"
#: the part of all changes that tests should notice
ASKED = 0.85
#: seconds that the tests of one change may take; a change that makes them hang is noticed
PATIENCE = 600
COMPARED: dict[type, type] = {
    ast.Lt: ast.LtE, ast.LtE: ast.Lt, ast.Gt: ast.GtE, ast.GtE: ast.Gt, ast.Eq: ast.NotEq, ast.NotEq: ast.Eq,
    ast.Is: ast.IsNot, ast.IsNot: ast.Is, ast.In: ast.NotIn, ast.NotIn: ast.In,
}  # fmt: skip
COMPUTED: dict[type, type] = {
    ast.Add: ast.Sub, ast.Sub: ast.Add, ast.Mult: ast.Div, ast.Div: ast.Mult,
    ast.BitAnd: ast.BitOr, ast.BitOr: ast.BitAnd,
}  # fmt: skip


@dataclass(frozen=True)
class Change:
    """A place in a file, and what stands there instead."""

    file: Path
    line: int
    begin: int
    end: int
    old: str
    new: str

    def __str__(self) -> str:
        return f"{self.file.relative_to(SOURCE)}:{self.line}: {self.old} -> {self.new}"


def changed(node: ast.AST) -> ast.AST | None:
    """Return a node with one thing changed, None where there is nothing to change."""
    if isinstance(node, ast.Compare) and len(node.ops) == 1 and type(node.ops[0]) in COMPARED:
        return ast.Compare(node.left, [COMPARED[type(node.ops[0])]()], node.comparators)
    if isinstance(node, ast.BinOp) and type(node.op) in COMPUTED:
        return ast.BinOp(node.left, COMPUTED[type(node.op)](), node.right)
    if isinstance(node, ast.BoolOp):
        return ast.BoolOp(ast.And() if isinstance(node.op, ast.Or) else ast.Or(), node.values)
    if isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.Not):
        return node.operand
    if isinstance(node, ast.Constant) and type(node.value) in (int, float):
        return ast.Constant(node.value + 1)
    return None


def changes_in(file: Path) -> Iterator[Change]:
    """Yield every change of a file that stands on one line, within functions."""
    text = (ROOT / file).read_text(encoding="utf-8")
    lines = text.splitlines(keepends=True)
    starts = [0]
    for line in lines:
        starts.append(starts[-1] + len(line.encode()))
    for function in ast.walk(ast.parse(text)):
        if not isinstance(function, ast.FunctionDef):
            continue
        for statement in function.body:
            for node in ast.walk(statement):
                if isinstance(node, ast.JoinedStr | ast.FormattedValue) or getattr(node, "end_lineno", 0) == 0:
                    continue
                new = changed(node)
                old = ast.get_source_segment(text, node) if new is not None else None
                if new is None or old is None or node.lineno != node.end_lineno:  # type: ignore[attr-defined]
                    continue
                begin = starts[node.lineno - 1] + node.col_offset  # type: ignore[attr-defined]
                yield Change(file, node.lineno, begin, begin + len(old.encode()), old, f"({ast.unparse(new)})")  # type: ignore[attr-defined]


def tests_of(file: Path) -> list[str]:
    """Return the test modules that import a module, and those of the folder that mirrors its place."""
    name = ".".join(file.with_suffix("").parts[1:])
    found = set()
    for test in (ROOT / "tests").rglob("test_*.py"):
        text = test.read_text(encoding="utf-8")
        parent, _, leaf = name.rpartition(".")
        if re.search(rf"\b{re.escape(name)}\b|from {re.escape(parent)} import .*\b{leaf}\b", text):
            found.add(test)
    mirrored = ROOT / "tests" / file.relative_to(SOURCE).parent
    if not found and mirrored != ROOT / "tests":
        found = set(mirrored.glob("test_*.py"))
    return sorted(".".join(test.relative_to(ROOT).with_suffix("").parts) for test in found)


def noticed(change: Change, copy: Path, tests: list[str]) -> bool:
    """Tell whether a test fails with a change made in a copy of the sources."""
    place = copy / change.file
    before = place.read_bytes()
    place.write_bytes(before[: change.begin] + change.new.encode() + before[change.end :])
    environment = os.environ | {"PYTHONPATH": str(copy / "src"), "PYTHONDONTWRITEBYTECODE": "1"}
    command = [sys.executable, str(ROOT / "tools" / "test.py"), *tests]
    try:
        ended = subprocess.run(
            command, cwd=ROOT, env=environment, capture_output=True, timeout=PATIENCE, check=False
        ).returncode
    except subprocess.TimeoutExpired:
        return True
    finally:
        place.write_bytes(before)
    return ended != 0


def main() -> int:
    """Make the changes and print what became of each."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("modules", nargs="+", type=Path)
    parser.add_argument("-n", type=int, default=20, help="changes to make")
    parser.add_argument("-s", type=int, default=0, help="seed of what is chosen")
    given = parser.parse_args()
    files = []
    for module in given.modules:
        place = ROOT / SOURCE / module
        files += sorted(place.rglob("*.py")) if place.is_dir() else [place]
    every = [change for file in files for change in changes_in(file.relative_to(ROOT))]
    chosen = random.Random(given.s).sample(every, min(given.n, len(every)))
    killed, tried = 0, 0
    with tempfile.TemporaryDirectory() as folder:
        copy = Path(folder)
        shutil.copytree(ROOT / "src", copy / "src")
        for change in chosen:
            tests = tests_of(change.file)
            if not tests:
                print(f"no test  {change}", flush=True)
                tried += 1
                continue
            good = noticed(change, copy, tests)
            killed, tried = killed + good, tried + 1
            print(f"{'noticed' if good else 'LIVES  '}  {change}", flush=True)
    print(f"{killed} of {tried} noticed")
    return int(killed < ASKED * tried)


if __name__ == "__main__":
    raise SystemExit(main())
