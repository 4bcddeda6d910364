"""What a result has to keep: limits on draw calls, memory, sharpness, match and triangles."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, fields

from fasciculum.errors import UsageError
from fasciculum.model.settings import declared, setting

FOLD = "Budgets"
NO_LIMIT = "no limit"


@dataclass(frozen=True)
class Budget:
    """Limits that a result keeps; None where there is none."""

    draw_calls: int | None = setting(
        None,
        "Max. draw calls",
        "Highest number of draw calls of the whole delivery. More is an error among the findings.",
        fold=FOLD,
        low=1,
        high=1_000_000,
        unset=NO_LIMIT,
    )
    texture_mib: float | None = setting(
        None,
        "Max. memory",
        "Highest texture memory of the whole delivery with mip levels, uncompressed, in MiB.",
        fold=FOLD,
        unit="MiB",
        low=0.1,
        high=1e6,
        step=8.0,
        decimals=1,
        unset=NO_LIMIT,
    )
    sharpness: float | None = setting(
        None,
        "Min. sharpness",
        "Sharpness, in % of the source's, that nine tenths of the textured surface keep.",
        fold=FOLD,
        unit="%",
        low=0.05,
        high=10.0,
        step=5.0,
        unset=NO_LIMIT,
    )
    match_db: float | None = setting(
        None,
        "Min. match",
        "Lowest match of any object's base colour with its source, in dB. 38 dB and above look the same.",
        fold=FOLD,
        unit="dB",
        low=1.0,
        high=100.0,
        decimals=1,
        unset=NO_LIMIT,
    )
    triangles: int | None = setting(
        None,
        "Max. triangles",
        "Highest number of triangles of the whole delivery.",
        fold=FOLD,
        low=1,
        high=2_000_000_000,
        step=1000,
        unset=NO_LIMIT,
    )

    def limits(self) -> Iterator[tuple[str, float]]:
        """Yield the name and the value of each limit."""
        for field in fields(self):
            limit = getattr(self, field.name)
            if limit is not None:
                yield field.name, limit


NO_BUDGET = Budget()
#: figures that have to be as high as their limit at least; of the others it is the most
AT_LEAST = ("sharpness", "match_db")


def read_budget(text: str) -> Budget:
    """Return the budget of a text such as ``draw_calls=20,texture_mib=64``; an empty one has no limits.

    Raises
    ------
    UsageError
        Naming what is not known, not a number or out of range.
    """
    values: dict[str, float] = {}
    known = ", ".join(field.name for field in fields(Budget))
    for part in filter(None, (one.strip() for one in text.split(","))):
        name, _, told = part.partition("=")
        name = name.strip()
        if name not in Budget.__dataclass_fields__:
            raise UsageError(f"there is no budget {name!r}.", hint=f"There are: {known}.")
        entry = declared(Budget, name)
        try:
            value = entry.type(told)
        except ValueError as error:
            raise UsageError(f"{told!r} is not a number for {name}.", hint=f"Write {name}=NUMBER.") from error
        if not entry.allows(value):
            low, high = entry.setting.low, entry.setting.high
            raise UsageError(f"{told} is out of range for {name}.", hint=f"Write {low:g} to {high:g}.")
        values[name] = value
    return Budget(**values)  # type: ignore[arg-type]
