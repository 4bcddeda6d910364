"""Format, lint, types and layers, for people and CI alike. ``--fix`` formats and repairs what it can."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
PLACES = ["src", "tests", "tools", "demo", "benchmarks"]


def main() -> int:
    """Run every check and return how many failed."""
    fix = "--fix" in sys.argv[1:]
    binaries = Path(sys.executable).parent
    commands = {
        "format": [str(binaries / "ruff"), "format", *([] if fix else ["--check", "-q"]), *PLACES],
        "lint": [str(binaries / "ruff"), "check", *(["--fix"] if fix else ["-q"]), *PLACES],
        "types": [str(binaries / "mypy")],
        "layers": [str(binaries / "lint-imports")],
    }
    failed = 0
    for name, command in commands.items():
        print(f"-- {name}", flush=True)
        failed += subprocess.run(command, cwd=ROOT, check=False).returncode != 0
    print("all clean" if not failed else f"{failed} of {len(commands)} failed")
    return failed


if __name__ == "__main__":
    raise SystemExit(main())
