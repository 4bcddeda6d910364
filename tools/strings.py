"""List every text that a user can read, with its file and line: ``tools/strings.py [FOLDER ...]``.

Texts are found by where they stand: labels, tips and titles that are given to the window's parts, what settings,
commands and options say of themselves, findings, errors with their hints, and what is said while work goes on.
"""

from __future__ import annotations

import ast
import sys
from collections.abc import Iterator
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
SOURCE = ROOT / "src" / "fasciculum"
#: functions and methods whose texts are read by users
SHOWN = {
    "setText", "setToolTip", "setPlaceholderText", "setTitle", "setWindowTitle", "setAccessibleName", "setPrefix",
    "setSuffix", "addItem", "addAction", "addTab", "addMenu", "QLabel", "QPushButton", "QAction", "QCheckBox", "Switch",
    "heading", "note", "fold", "say", "setting", "Command", "Finding", "update", "part", "add_argument", "command",
    "apply", "drawText", "write", "print", "counted",
}  # fmt: skip
#: what a text has to have to be more than a word for the program itself
LEAST = 3


def texts_of(node: ast.AST) -> Iterator[tuple[int, str]]:
    """Yield the texts in a call's arguments; what is filled in stands as ``{}``."""
    if isinstance(node, ast.Constant) and isinstance(node.value, str):
        yield node.lineno, node.value
    elif isinstance(node, ast.JoinedStr):
        yield node.lineno, "".join(part.value if isinstance(part, ast.Constant) else "{}" for part in node.values)
    elif isinstance(node, (ast.BinOp, ast.IfExp, ast.Tuple, ast.List, ast.Dict)):
        for child in ast.iter_child_nodes(node):
            yield from texts_of(child)


def shown_in(file: Path) -> Iterator[tuple[int, str, str]]:
    """Yield the line, the place and the text of all that a file shows."""
    for node in ast.walk(ast.parse(file.read_text(encoding="utf-8"))):
        if not isinstance(node, ast.Call):
            continue
        name = node.func.attr if isinstance(node.func, ast.Attribute) else getattr(node.func, "id", "")
        if name not in SHOWN and not name.endswith(("Error", "Input", "File")):
            continue
        for argument in [*node.args, *(keyword.value for keyword in node.keywords)]:
            for line, text in texts_of(argument):
                if len(text.strip()) >= LEAST and any(letter.isalpha() for letter in text):
                    yield line, name, text


def main() -> int:
    """Print all, sorted by file and line."""
    folders = [Path(word).resolve() for word in sys.argv[1:]] or [SOURCE]
    count = 0
    for file in sorted(path for folder in folders for path in folder.rglob("*.py")):
        for line, name, text in sorted(set(shown_in(file))):
            print(f"{file.relative_to(ROOT)}:{line}: {name}: {text!r}")
            count += 1
    print(f"{count} texts", file=sys.stderr)
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
