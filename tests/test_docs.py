"""What the documents promise of the tests: every row of docs/formats.md names one that is there."""

import importlib.util
import re
import unittest
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]


class Formats(unittest.TestCase):
    def test_each_row_names_a_test(self):
        rows = [line for line in (ROOT / "docs" / "formats.md").read_text().splitlines() if line.startswith("| ")]
        rows = [row for row in rows if not row.startswith("| Feature")]
        self.assertGreater(len(rows), 70)
        for row in rows:
            match = re.search(r"`(tests\.[\w.]+)\.(\w+)\.(test_\w+)` \|$", row)
            self.assertIsNotNone(match, row)
            module, case, name = match.groups()
            text = (ROOT / (module.replace(".", "/") + ".py")).read_text()
            self.assertRegex(text, rf"class {case}\(", row)
            self.assertIn(f"def {name}(", text, row)


class Settings(unittest.TestCase):
    def test_the_table_is_as_the_code_declares_it(self):
        spec = importlib.util.spec_from_file_location("settings_table", ROOT / "tools" / "settings_table.py")
        tool = importlib.util.module_from_spec(spec)
        spec.loader.exec_module(tool)
        self.assertEqual((ROOT / "docs" / "settings.md").read_text(), tool.page(), "run tools/settings_table.py")


if __name__ == "__main__":
    unittest.main()
