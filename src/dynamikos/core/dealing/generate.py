"""Columns made rather than imported: each is a function of the row's number and a seed, so that the
same rules give the same column.
"""

import random
import re
from collections.abc import Callable, Iterator
from datetime import date, timedelta
from typing import Literal

import msgspec

from dynamikos.core.errors import ImportRefused

Kind = Literal["sequence", "pattern", "number", "date", "choice", "name", "uuid"]
FORMAT = re.compile(r"(?:[^%]|%[aAbBdejmuUVwWyYGF%])*\Z")
# all of them invented, as the demo's people are
FIRST_NAMES = (
    "Ada Bran Cerys Dorin Elwa Fenn Gwil Hesper Ivo Jorun Kester Linnet Maren Nevin Orla Perrin "
    "Quill Rhosyn Severin"
    " Tamsin Ulla Veda Wilmot Yarrow Zephan Alder Briony Corin Dulcie Emrys"
).split()
LAST_NAMES = (
    "Ashdown Birkfell Coldbeck Dunmoor Elderwick Fallowmere Garthside Hollinhey Ironbridge Juniper "
    "Kettlewell Larkrise"
    " Millgarth Northolt Oakenshaw Pendrift Quarrybank Ravenscar Silverdale Thornthwaite Underhill "
    "Vexley Wintergill"
    " Yarnbury Zennor Amblecote Brackenbury Craven Drumlin Eskdale"
).split()


class ColumnRule(msgspec.Struct, frozen=True, kw_only=True):
    """How a column is made.

    sequence: `start`, `step`, `width` (padded with nought). pattern: a text in which # is a digit,
    ? a letter and {n} the row's number. number: from `low` to `high` with `places` decimals. date:
    from `first` (ISO) over `days` days, written as `form`. choice: one of `among`. name: an
    invented first and last name. uuid: version 4.
    """

    kind: Kind
    seed: int = 1
    start: int = 1
    step: int = 1
    width: int = 0
    pattern: str = ""
    low: float = 0
    high: float = 100
    places: int = 0
    first: str = "2027-01-01"
    days: int = 365
    form: str = "%Y-%m-%d"
    among: tuple[str, ...] = ()


def maker(rule: ColumnRule) -> Callable[[int], str]:
    """Function of the row's number (from 0) → cell. Raises ImportRefused for rules that make
    nothing.
    """

    def drawn(at: int) -> random.Random:
        return random.Random(f"{rule.seed}/{rule.kind}/{at}")

    match rule.kind:
        case "sequence":
            if not 0 <= rule.width <= 100:
                raise ImportRefused("a sequence is padded to 0 to 100 digits")
            return lambda at: str(rule.start + at * rule.step).zfill(rule.width)
        case "pattern":
            if not rule.pattern or len(rule.pattern) > 500:
                raise ImportRefused(
                    "a pattern is a text such as OBS-####-?? (# a digit, ? a letter, {n} the row's "
                    "number)"
                )
            parts = re.split(r"(#|\?|\{n\})", rule.pattern)

            def fill(at: int) -> str:
                source = drawn(at)
                made = {
                    "#": lambda: source.choice("0123456789"),
                    "?": lambda: source.choice("abcdefghijklmnopqrstuvwxyz"),
                    "{n}": lambda: str(at + 1),
                }
                return "".join(made[part]() if part in made else part for part in parts)

            return fill
        case "number":
            if not 0 <= rule.places <= 12 or abs(rule.low) > 1e15 or abs(rule.high) > 1e15:
                raise ImportRefused("a number has 0 to 12 decimals and lies between −10¹⁵ and 10¹⁵")
            low, high = sorted((rule.low, rule.high))
            scale = 10**rule.places
            least, most = round(low * scale), round(high * scale)
            return lambda at: f"{drawn(at).randint(least, most) / scale:.{rule.places}f}"
        case "date":
            if not FORMAT.match(rule.form) or len(rule.form) > 100:
                raise ImportRefused(
                    f"“{rule.form[:40]}” is no date format; write letters such as %d.%m.%Y or "
                    "%Y-%m-%d"
                )
            try:
                first = date.fromisoformat(rule.first)
                first + timedelta(days=rule.days)
            except (ValueError, OverflowError) as problem:
                raise ImportRefused(
                    f"“{rule.first[:40]}” and {rule.days:,} days are no range of dates; write "
                    "2027-01-31"
                ) from problem
            return lambda at: (
                first + timedelta(days=drawn(at).randrange(max(1, rule.days)))
            ).strftime(rule.form)
        case "choice":
            if not rule.among:
                raise ImportRefused(
                    "a choice needs something to choose from: write the texts, one a line"
                )
            return lambda at: drawn(at).choice(rule.among)
        case "name":
            return lambda at: (
                f"{drawn(at).choice(FIRST_NAMES)} {drawn(at + 10**9).choice(LAST_NAMES)}"
            )
        case "uuid":

            def uuid(at: int) -> str:
                h = f"{drawn(at).getrandbits(128):032x}"
                return (
                    f"{h[:8]}-{h[8:12]}-4{h[13:16]}-{'89ab'[int(h[16], 16) % 4]}{h[17:20]}-{h[20:]}"
                )

            return uuid


def column(rule: ColumnRule, rows: int) -> Iterator[str]:
    """The cells of `rows` rows. Raises ImportRefused."""
    make = maker(rule)
    return (make(at) for at in range(rows))
