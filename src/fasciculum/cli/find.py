"""Everything that has a name, found by that name, by the other words under which people know it, or by its text.

The window's search and ``fasciculum find`` ask the same index.
"""

from __future__ import annotations

import argparse
import json
import re
from collections.abc import Iterable, Sequence
from dataclasses import asdict, dataclass
from functools import cache
from importlib import resources
from typing import Any

from fasciculum.checks.registry import all_checks
from fasciculum.cli.aliases import ALIASES
from fasciculum.cli.arguments import parser
from fasciculum.model.bake_settings import BakeSettings
from fasciculum.model.budget import Budget
from fasciculum.model.choices import Treatment
from fasciculum.model.delivery import DeliverySettings
from fasciculum.model.maps import KINDS
from fasciculum.model.settings import settings_of
from fasciculum.model.sheet import SheetSettings
from fasciculum.model.unwrapping import UnwrapSettings

#: hits that are shown at most
MOST = 10
#: the stage whose panel holds the settings of a class
STAGES = {
    SheetSettings: "Lay out",
    UnwrapSettings: "Lay out",
    BakeSettings: "Bake",
    Budget: "Check",
    DeliverySettings: "Deliver",
}
#: how much a word of the query is worth: that stands in an alias as it is, in the title, begins a word of the title or
#: of an alias, has one letter wrong in one of these, stands in the text
EXACT, IN_TITLE, IN_ALIAS, BEGINS, MISSPELT, IN_TEXT = 14.0, 10.0, 9.0, 5.0, 4.0, 1.5
#: what a kind is worth beside others that match as well
KIND_WORTH = {"command": 0.6, "setting": 0.5, "map": 0.7, "treatment": 0.4, "view": 0.3, "check": 0.2, "page": 0.1}
#: letters from which a misspelt one is forgiven
LONG = 4
#: spellings that count as one
SPELLINGS = {"colour": "color", "grey": "gray", "centre": "center", "metre": "meter", "lightmaps": "lightmap"}


@dataclass(frozen=True)
class Entry:
    """Something that can be found.

    Attributes
    ----------
    title, kind, where : str
        What it is called; ``command``, ``setting``, ``map``, ``check``, ``treatment``, ``view``, ``page``, ``option``
        or ``verb``; where it stands in the window.
    option, shortcut, page : str, optional
        On the command line, on the keyboard, and in the guide: a path under ``docs/guide`` with an anchor.
    text : str
        What it does, in a sentence.
    name : str
        By which the window knows it.
    aliases : tuple of str
        The other words under which people know it.
    """

    title: str
    kind: str
    where: str | None = None
    option: str | None = None
    shortcut: str | None = None
    page: str | None = None
    text: str = ""
    name: str = ""
    aliases: tuple[str, ...] = ()

    def told(self) -> dict[str, Any]:
        """Return what a report says of it."""
        entry = asdict(self)
        return {key: value for key, value in entry.items() if key not in ("name", "aliases")}


def aliases_of(kind: str, name: str) -> tuple[str, ...]:
    """Return the other words under which people know something."""
    return tuple(word.strip() for word in ALIASES.get(f"{kind}:{name}", "").split(",") if word.strip())


@cache
def entries() -> tuple[Entry, ...]:
    """Return everything that can be found without a project."""
    return (*_commands(), *_settings(), *_maps(), *_checks(), *_treatments(), *_folds(), *_options(), *_pages())


def _commands() -> Iterable[Entry]:
    text = resources.files("fasciculum.cli").joinpath("commands.json").read_text()
    for one in json.loads(text):
        kind = "view" if one["id"].startswith("lens_") else "command"
        menu = one["menu"].capitalize() or None
        known = aliases_of(kind, one["id"])
        shortcut = one["shortcut"].split("|")[0] or None
        yield Entry(one["title"], kind, menu, None, shortcut, None, one["tip"], one["id"], known)


def _settings() -> Iterable[Entry]:
    for owner, stage in STAGES.items():
        for one in settings_of(owner):
            told, name = one.setting, f"{owner.__name__}.{one.name}"
            if not told.label:
                continue
            where = f"{stage}, {told.fold}" if told.fold else stage
            known = (*aliases_of("setting", name), *(str(word) for word in told.words.values()))
            page = f"docs/guide/{stage.lower().replace(' ', '-')}.md"
            yield Entry(told.label, "setting", where, told.option or None, None, page, told.tip, name, known)


def _maps() -> Iterable[Entry]:
    for name, kind in KINDS.items():
        text = f"A map of {kind.channels} {'channel' if kind.channels == 1 else 'channels'}."
        option, known = f"--maps {name}", (*aliases_of("map", name), name.replace("_", " "))
        yield Entry(kind.title, "map", "Bake, Maps", option, None, "docs/guide/bake.md", text, name, known)


def _checks() -> Iterable[Entry]:
    for check in all_checks():
        title = check.id.replace("_", " ").capitalize()
        text = "Findings: " + ", ".join(code.replace("_", " ") for code in check.codes) + "."
        known = (*aliases_of("check", check.id), *(code.replace("_", " ") for code in check.codes))
        yield Entry(title, "check", "Check", None, None, "docs/guide/check.md", text, check.id, known)


#: what treatments are called where they are listed, and what they mean
TREATMENTS = {
    Treatment.BAKE: ("Baked into the sheet", "The material's texels are drawn into the bundle's maps."),
    Treatment.LANE: ("On a lane", "The texture repeats along a strip of the sheet, at no further cost."),
    Treatment.APART: (
        "Kept apart",
        "The material is delivered unchanged, with its own textures and draw call.",
    ),
    Treatment.CUT: (
        "Cut at its repeats",
        "The surface is cut where the texture repeats, so that one repeat is stored.",
    ),
    Treatment.SLICE: ("In a slice", "The texture becomes one layer of a texture array."),
    Treatment.SWATCH: ("On a swatch", "A flat colour takes a few texels."),
    Treatment.BLOCK: ("In shared blocks", "Islands that read the same part of a texture share one place."),
}


#: parts of the window's panels by stage and fold: what is done there
FOLDS = {
    ("Gather", "Models"): "The model files of the project, with buttons to remove them.",
    ("Gather", "Plan"): "What bundling would cost, before packing. Click a plan to apply it.",
    (
        "Gather",
        "Treatments",
    ): "How each material is treated: baked, in shared blocks, on a lane, kept apart, cut, in a slice, on a swatch.",
    ("Gather", "Pairing"): "Which high-poly objects are read into which low-poly ones.",
    ("Gather", "Lights"): "Suns, lamps and the sky: switched, changed and added.",
    ("Gather", "Layers"): "Moss, dirt or paint over the objects' materials.",
    ("Gather", "Loose objects"): "Put all loose objects into bundles by a rule.",
    ("Gather", "UV sets"): "The UV sets of objects: copied, swapped, renamed, deleted, overlaps selected.",
    ("Lay out", "Sheet"): "Use an existing trim sheet or palette instead of a packed sheet.",
    ("Lay out", "By hand"): "Seams, projections and islands, by hand.",
    ("Lay out", "Density multiplier"): "A factor on the density of chosen objects.",
    ("Lay out", "Layout versions"): "Layouts saved under names, to compare and use again.",
    ("Bake", "Packed"): "Files composed of channels of maps.",
    ("Bake", "Named bakes"): "Maps and bake settings saved under names, run one after the other.",
    ("Bake", "Preview"): "A small bake of the object under the pointer.",
    ("Bake", "High to low"): "Distance within which rays look for high-poly surfaces.",
    ("Check", "Findings"): "What is wrong, and what to do about it.",
    ("Check", "Budgets"): "Limits that the result keeps, and what it comes to.",
    ("Check", "Earlier delivery"): "What differs from a model that was delivered before.",
    ("Deliver", "Delivery"): "Presets of engine conventions: channels, normal direction, names.",
    ("Deliver", "Will be written"): "The files that a delivery would write.",
}


def _folds() -> Iterable[Entry]:
    for (stage, fold), text in FOLDS.items():
        page = f"docs/guide/{stage.lower().replace(' ', '-')}.md"
        name = f"{stage}/{fold}"
        yield Entry(fold, "view", stage, None, None, page, text, name, aliases_of("view", name))


def _treatments() -> Iterable[Entry]:
    for way, (title, text) in TREATMENTS.items():
        known = (*aliases_of("treatment", str(way)), "treatment")
        yield Entry(title, "treatment", "Gather, Treatments", None, None, "docs/guide/gather.md", text, str(way), known)


def _options() -> Iterable[Entry]:
    told = {one.setting.option for owner in STAGES for one in settings_of(owner) if one.setting.option}
    results: set[str] = set()
    for action in parser()._actions:
        if not isinstance(action, argparse._SubParsersAction):
            continue
        helps = {one.dest: one.help or "" for one in action._choices_actions}
        for verb, command in action.choices.items():
            yield Entry(
                verb, "verb", None, f"fasciculum {verb}", None, None, helps[verb], verb, aliases_of("verb", verb)
            )
            for one in command._actions:
                name = next((option for option in one.option_strings if option.startswith("--")), "")
                if not name or name in told | results | {"--help"}:
                    continue
                results.add(name)
                text = (one.help or "").replace("%%", "%")
                title, line = name.strip("-").replace("-", " ").capitalize(), f"fasciculum {verb} {name}"
                yield Entry(title, "option", None, line, None, None, text, name, aliases_of("option", name))


def _pages() -> Iterable[Entry]:
    folder = resources.files("fasciculum").joinpath("guide")
    for page in sorted((one for one in folder.iterdir() if one.name.endswith(".md")), key=lambda one: one.name):
        name, heading = page.name.removesuffix(".md"), ""
        for line in page.read_text().splitlines():
            if line.startswith("#"):
                heading = line.lstrip("# ").strip()
                anchor = re.sub(r"[^a-z0-9 -]", "", heading.lower()).replace(" ", "-")
                top = line.startswith("# ")
                known = aliases_of("page", name) if top else ()
                path = f"docs/guide/{name}.md#{anchor}"
                yield Entry(
                    heading, "page", "Guide (F1)", None, None, path, f"A page of the guide: {heading}.", name, known
                )
            elif match := re.match(r"^- \*\*(.+?)\*\*", line):
                path = f"docs/guide/{name}.md#{re.sub(r'[^a-z0-9 -]', '', heading.lower()).replace(' ', '-')}"
                text = re.sub(r"[*`]", "", line.lstrip("- "))
                title = match[1].strip(":.")
                yield Entry(title, "page", "Guide (F1)", None, None, path, text, name)


# -- matching ---------------------------------------------------------------------------------------------------------


@cache
def normal_words(text: str) -> tuple[str, ...]:
    """Return the words of a text as they are compared: lower case, singular, without hyphens, in one spelling."""
    words = re.findall(r"[a-z0-9/]+", text.lower().replace("-", " ").replace("_", " ").replace("’", ""))
    return tuple(_plain(word) for word in words)


def _plain(word: str) -> str:
    for one, other in SPELLINGS.items():
        word = word.replace(one, other)
    if word.endswith("ise") and len(word) > LONG:
        word = word[:-3] + "ize"
    if word.endswith("ies") and len(word) > LONG:
        return word[:-3] + "y"
    if word.endswith("s") and not word.endswith("ss") and len(word) > 3:
        return word[:-1]
    return word


def one_off(a: str, b: str) -> bool:
    """Tell whether two words differ by one letter: another one, one more, one less, or two that changed places."""
    if a == b or abs(len(a) - len(b)) > 1:
        return a == b
    first = next((n for n, (x, y) in enumerate(zip(a, b, strict=False)) if x != y), min(len(a), len(b)))
    rest_a, rest_b = a[first:], b[first:]
    if len(a) == len(b):
        swapped = len(rest_a) > 1 and rest_a[:2] == rest_b[1::-1] and rest_a[2:] == rest_b[2:]
        return rest_a[1:] == rest_b[1:] or swapped
    return rest_a[1:] == rest_b if len(a) > len(b) else rest_a == rest_b[1:]


def worth(entry: Entry, query: str) -> float:
    """Return how well an entry answers a query, 0 when some word of it is nowhere in it."""
    wanted = normal_words(query)
    if not wanted:
        return 0.0
    title, text = normal_words(entry.title), normal_words(entry.text)
    phrases = [normal_words(alias) for alias in entry.aliases]
    joined = "".join(wanted)
    total = 0.0
    if wanted == title or joined == "".join(title):
        total += 2 * EXACT
    elif wanted in phrases or any(joined == "".join(phrase) for phrase in phrases):
        # what comes first among the other words is meant first
        total += EXACT - 0.2 * next(n for n, phrase in enumerate(phrases) if joined == "".join(phrase))
    known = {word for phrase in phrases for word in phrase}
    name = set(normal_words(entry.option or "")) | set(normal_words(entry.name))
    if total and joined not in (*wanted, ""):
        return total + IN_ALIAS + KIND_WORTH.get(entry.kind, 0.0)
    whole = total > 0
    for word in wanted:
        result = _word_worth(word, title, known, name, text)
        if result <= 0 and not whole:
            return 0.0
        total += result / len(wanted)
    # the shorter title is the more of it what was asked for
    return total + KIND_WORTH.get(entry.kind, 0.0) - 0.02 * len(title)


def _word_worth(
    word: str, title: Sequence[str], known: Iterable[str], name: Iterable[str], text: Sequence[str]
) -> float:
    if word in title:
        return IN_TITLE
    if word in known:
        return IN_ALIAS
    if word in name:
        return IN_ALIAS - 1
    every = (*title, *known)
    # hits come as one types: the beginning of a title is meant first
    if any(one.startswith(word) for one in title):
        return BEGINS
    if len(word) > 1 and any(one.startswith(word) for one in every):
        return BEGINS - 0.5
    if len(word) >= LONG and any(one_off(word, one) for one in every if len(one) >= LONG):
        return MISSPELT
    return IN_TEXT if word in text else 0.0


def search(query: str, among: Sequence[Entry] | None = None, most: int = MOST) -> list[Entry]:
    """Return the entries that answer a query, best first."""
    ranked = [(worth(entry, query), number, entry) for number, entry in enumerate(among or entries())]
    ranked = [one for one in ranked if one[0] > 0]
    ranked.sort(key=lambda one: (-one[0], one[1]))
    return [entry for _, _, entry in ranked[:most]]


def find(query: str, *, as_json: bool) -> int:
    """Print what a query finds, and return the exit code: 0 with hits, 1 without."""
    hits = search(query)
    if as_json:
        print(json.dumps({"version": 1, "hits": [entry.told() for entry in hits]}, ensure_ascii=False))
    elif not hits:
        print(f"Nothing is known as “{query}”. Try another word, or the guide: docs/guide/no-time.md.")
    for entry in [] if as_json else hits:
        places = [part for part in (entry.where, entry.shortcut, entry.option) if part]
        print(f"{entry.title} ({entry.kind})" + (f" · {' · '.join(places)}" if places else ""))
        if entry.text:
            print(f"    {entry.text}")
    return 0 if hits else 1
