"""What the desktop and shells know of the program: completion, menu entry, icon, file type, manual page."""

from __future__ import annotations

import argparse
import shutil
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

from fasciculum import __version__
from fasciculum.cli.arguments import parser
from fasciculum.errors import OutputError, UsageError

NAME = "org.fasciculum.Fasciculum"
SHARED = Path(__file__).parents[1] / "desktop"


def print_completion(shell: str) -> int:
    """Print what completes the command line in a shell."""
    import shtab

    print(shtab.complete(parser(argparse.ArgumentParser), shell))
    return 0


def entries(home: Path) -> Iterator[tuple[Path, Path | str]]:
    """Yield where each file goes, below the user's data folder, and what it is: a file of ours, or text."""
    command = shutil.which("fasciculum") or f"{sys.executable} -m fasciculum"
    menu = (SHARED / f"{NAME}.desktop").read_text()
    yield home / "applications" / f"{NAME}.desktop", menu.replace("Exec=fasciculum", f"Exec={command}")
    yield home / "icons" / "hicolor" / "scalable" / "apps" / f"{NAME}.svg", SHARED / f"{NAME}.svg"
    yield home / "mime" / "packages" / f"{NAME}.xml", SHARED / f"{NAME}.xml"
    yield home / "metainfo" / f"{NAME}.metainfo.xml", SHARED / f"{NAME}.metainfo.xml"
    yield home / "man" / "man1" / "fasciculum.1", manual()


def manage(parsed: argparse.Namespace) -> int:
    """Install or remove the desktop's entries, or tell where they would go.

    Raises
    ------
    UsageError, OutputError
    """
    from platformdirs import user_data_path

    if parsed.install and parsed.remove:
        raise UsageError("--install and --remove do not go together.", hint="Choose one.")
    home = user_data_path()
    for place, what in entries(home):
        try:
            if parsed.install:
                place.parent.mkdir(parents=True, exist_ok=True)
                if isinstance(what, Path):
                    shutil.copyfile(what, place)
                else:
                    place.write_text(what)
            elif parsed.remove:
                place.unlink(missing_ok=True)
        except OSError as error:
            raise OutputError(
                f"it cannot be written ({error.strerror or error}).", file=str(place), hint="Check who owns the folder."
            ) from error
        print(place)
    if parsed.install or parsed.remove:
        for command in (
            ["update-desktop-database", str(home / "applications")],
            ["update-mime-database", str(home / "mime")],
        ):
            if shutil.which(command[0]):
                subprocess.run(command, check=False, capture_output=True)
    return 0


def manual() -> str:
    """Return the manual page: every command with its options."""
    whole = parser(argparse.ArgumentParser)
    lines = [
        f'.TH FASCICULUM 1 "" "Fasciculum {__version__}" "User commands"',
        ".SH NAME",
        "fasciculum \\- pack the UVs of many objects, build atlases, bake many materials into one texture set",
        ".SH SYNOPSIS",
        ".B fasciculum",
        "[\\fICOMMAND\\fR] [\\fIOPTIONS\\fR]",
        ".SH COMMANDS",
    ]
    (commands,) = [action for action in whole._actions if isinstance(action, argparse._SubParsersAction)]
    for name, command in commands.choices.items():
        lines += [f".SS {name}", _plain(command.description or "")]
        for action in command._actions:
            if action.help is argparse.SUPPRESS or action.dest == "help":
                continue
            value = action.metavar if isinstance(action.metavar, str) else ""
            head = ", ".join(action.option_strings) or value or action.dest
            words = f"\\fB{_plain(head)}\\fR" + (f" \\fI{_plain(value)}\\fR" if action.option_strings and value else "")
            lines += [".TP", words, _plain((action.help or "").replace("%%", "%"))]
    lines += [
        ".SH EXIT STATUS",
        "0 done; 1 done, with findings of severity error; 2 wrong usage; 3 input could not be read; 4 output could not "
        "be written; 5 cancelled; 70 a fault of the program.",
    ]
    return "\n".join(lines) + "\n"


def _plain(words: str) -> str:
    """Return words as roff takes them."""
    result = words.replace("\\", "\\e").replace("-", "\\-")
    return f"\\&{result}" if result.startswith((".", "'")) else result
