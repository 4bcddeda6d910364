"""What users read: every warning says what to do, and no text has words that were replaced."""

import ast
import importlib.util
import re
import unittest
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
SOURCE = ROOT / "src" / "fasciculum"
#: words of earlier labels, and what stands for them now
REPLACED = {
    r"\bBends within\b": "Curvature radius",
    r"\bclean down\b": "bleed-free",
    r"\bgive it a larger share\b": "density multiplier",
    r"\blight sheet\b": "lightmap",
    r"\bOcclusion within\b": "AO distance",
    r"\bPut away\b": "Exit tool",
    r"\bReads from\b": "High-poly sources",
    r"\bSmallest: ": "Minimum island size",
    r"\bThick from\b": "Thickness distance",
    r"\bthose that the materials need\b": "automatic",
    r"\bWeigh ways\b": "Compare treatments",
    r"\bwithin the reach\b": "ray distance",
}
#: what an English sentence does not begin a count with
COUNTS = re.compile(r"\b1 (images|objects|islands|files|bundles|draw calls|materials)\b")


def tool():
    spec = importlib.util.spec_from_file_location("strings", ROOT / "tools" / "strings.py")
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module


class Texts(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        shown_in = tool().shown_in
        cls.texts = [
            (f"{file.relative_to(SOURCE)}:{line}", text)
            for file in sorted(SOURCE.rglob("*.py"))
            for line, _, text in shown_in(file)
        ]

    def test_what_is_known_to_be_shown_is_found(self):
        found = {text for _, text in self.texts}
        for known in ("Make everything", "Findings", "{} is mirrored by a negative scale"):
            self.assertTrue(any(known in text for text in found), known)
        self.assertGreater(len(self.texts), 1500)

    def test_words_that_were_replaced_are_gone(self):
        for pattern, now in REPLACED.items():
            left = [f"{place}: {text}" for place, text in self.texts if re.search(pattern, text, re.IGNORECASE)]
            self.assertEqual(left, [], f"say {now!r}")

    def test_no_text_counts_one_as_many(self):
        self.assertEqual([text for _, text in self.texts if COUNTS.search(text)], [])


class Findings(unittest.TestCase):
    def test_every_error_and_warning_says_what_to_do(self):
        seen = 0
        for file in sorted(SOURCE.rglob("*.py")):
            for node in ast.walk(ast.parse(file.read_text())):
                if not (
                    isinstance(node, ast.Call) and getattr(node.func, "id", "") == "Finding" and len(node.args) > 2
                ):
                    continue
                severity = ast.unparse(node.args[1])
                if severity.rpartition(".")[2] not in ("ERROR", "WARNING") or file.name == "api.py":
                    # a check of somebody else's says what it wants
                    continue
                seen += 1
                remedy = node.args[3] if len(node.args) > 3 else None
                remedy = remedy or next((one.value for one in node.keywords if one.arg == "remedy"), None)
                empty = remedy is None or (isinstance(remedy, ast.Constant) and not remedy.value)
                self.assertFalse(empty, f"{file.relative_to(SOURCE)}:{node.lineno}: {ast.unparse(node.args[2])}")
        self.assertGreater(seen, 25)


if __name__ == "__main__":
    unittest.main()
