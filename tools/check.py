"""Format, lint, types and layers, for people and CI alike.

``--fix`` formats and repairs what it can; ``--coverage`` also runs the tests of all but the window and shows which part
of the branches they take. Compiled kernels are not seen by it.
"""

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
    if "--coverage" in sys.argv[1:]:
        coverage(binaries)
    print("all clean" if not failed else f"{failed} of {len(commands)} failed")
    return failed


def coverage(binaries: Path) -> None:
    """Show the branch coverage of the core by its own tests; it decides nothing."""
    names = [
        "tests.test_docs",
        *(f"tests.{path.parent.name}" for path in sorted((ROOT / "tests").glob("*/__init__.py"))),
    ]
    names.remove("tests.app")
    tool = str(binaries / "coverage")
    print("-- coverage", flush=True)
    subprocess.run([tool, "run", "tools/test.py", *names], cwd=ROOT, check=False)
    subprocess.run([tool, "report", "--skip-covered", "--sort=cover"], cwd=ROOT, check=False)


if __name__ == "__main__":
    raise SystemExit(main())
