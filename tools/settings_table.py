"""Write docs/settings.md, the table of all settings, from what is declared of them: ``tools/settings_table.py``."""

from __future__ import annotations

from pathlib import Path

from fasciculum.model.bake_settings import BakeSettings
from fasciculum.model.budget import Budget
from fasciculum.model.delivery import DeliverySettings
from fasciculum.model.settings import Declared, Stales, settings_of
from fasciculum.model.sheet import SheetSettings
from fasciculum.model.unwrapping import UnwrapSettings

PAGE = Path(__file__).resolve().parents[1] / "docs" / "settings.md"
HOLDERS = (
    ("Sheet", "Under **Lay out**; in the project file `bundles[].sheet`.", SheetSettings),
    ("Unwrapping", "Under **Lay out**, *Surfaces*; in the project file `bundles[].sheet.unwrap`.", UnwrapSettings),
    ("Maps", "Under **Bake**; in the project file `bundles[].bake`.", BakeSettings),
    (
        "Budgets",
        "Under **Check**; in the project file `budget`; on the command line `--budget NAME=LIMIT,...`.",
        Budget,
    ),
    ("Delivery", "Under **Deliver**; in the project file `delivery`.", DeliverySettings),
)
STALE = {
    Stales.NOTHING: "nothing",
    Stales.LAYOUT: "layout and maps",
    Stales.MAPS: "maps",
    Stales.DELIVERY: "delivery",
}
HEAD = """# Settings

Made by `tools/settings_table.py` from what the code declares of each setting; `tests/test_docs.py` sees to it that it
is as the code has it. Limits hold in the window, on the command line and in project files alike.
"""


def values(entry: Declared) -> str:
    """Return what a setting may be, in words."""
    told = entry.setting
    if entry.choices:
        return ", ".join(f"`{value}`" for value in entry.choices)
    if entry.type is bool:
        return "on, off"
    if entry.type is str:
        return "text"
    limits = f"{told.low:g} to {told.high:g}" if told.low is not None and told.high is not None else "a number"
    return f"{limits} {told.unit}".rstrip() + (f", or {told.unset}" if entry.optional and told.unset else "")


def default(entry: Declared) -> str:
    """Return what a setting is at first, in words."""
    value = entry.default
    if value is None:
        return entry.setting.unset
    if isinstance(value, bool):
        return "on" if value else "off"
    return "empty" if value == "" else f"`{value:g}`" if isinstance(value, float) else f"`{value}`"


def page() -> str:
    """Return the page."""
    parts = [HEAD]
    for title, where, holder in HOLDERS:
        parts.append(f"\n## {title}\n\n{where}\n")
        parts.append("| Setting | What it does | May be | At first | Option | Makes stale |\n|---|---|---|---|---|---|")
        for entry in settings_of(holder):
            told = entry.setting
            option = f"`{told.option}`" if told.option else ""
            cells = (
                f"**{told.label}** `{entry.name}`",
                told.tip,
                values(entry),
                default(entry),
                option,
                STALE[told.stales],
            )
            parts.append("| " + " | ".join(cell.replace("|", "\\|") for cell in cells) + " |")
    return "\n".join(parts) + "\n"


if __name__ == "__main__":
    PAGE.write_text(page())
    print(PAGE)
