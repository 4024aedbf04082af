"""Typed values that are computed from others: a slug of a title, a sum, a date some days later."""

import operator
import re
from bisect import bisect_right
from collections.abc import Callable, Iterable, Iterator, Sequence
from datetime import datetime
from decimal import Decimal, InvalidOperation
from itertools import permutations
from typing import NamedTuple

from msgspec.structs import replace

from dynamikos.core.correlation import value_shapes
from dynamikos.core.correlation.model import Strand
from dynamikos.core.values.filters import slug

FURTHEST_DAYS = 800
MOST_SOURCES, MOST_OF_TWO = 80, 16  # values that are tried alone, and in pairs
SHORTEST = 4  # signs of a value that is found in another by no chance
LENGTHS = re.compile(r"len|length|count|size|chars|signs", re.I)
Row = tuple[str, ...]  # a value in each recording


class Way(NamedTuple):
    """How a value comes from others: in words, and as the inside of a hole; `{0}` and `{1}` are the
    others.

    Of two that turn each other round (a sum and a difference) the one of the lower `rank` is meant.
    """

    words: str
    expression: str
    rank: int = 0


SINGLE: tuple[tuple[Way, Callable[[str], str]], ...] = (
    (Way("the slug of {0}", "{0} | slug"), slug),
    (Way("the slug of {0} with _", "{0} | slug('_')"), lambda text: slug(text, "_")),
    (Way("{0} in small letters", "{0} | lower"), str.lower),
    (Way("{0} in capitals", "{0} | upper"), str.upper),
    (Way("{0} without the blanks around it", "{0} | trim"), str.strip),
    (Way("the first word of {0}", "{0} | before(' ')"), lambda text: text.partition(" ")[0]),
    (Way("{0} without its first word", "{0} | after(' ')"), lambda text: text.partition(" ")[2]),
    (
        Way("what stands before the @ of {0}", "{0} | before('@')"),
        lambda text: text.partition("@")[0],
    ),
)
OPERATIONS: tuple[tuple[str, str, Callable[[Decimal, Decimal], Decimal]], ...] = (
    ("the sum of {0} and {1}", "+", operator.add),
    ("{0} times {1}", "*", operator.mul),
    ("{0} less {1}", "-", operator.sub),
)
MARKS = (" ", "-", "_", ".", ", ", "/")


def with_computed(strands: Sequence[Strand]) -> list[Strand]:
    """`strands`, those that are typed and come from other values with how (`pattern`, `made_by`,
    `made_from`).

    A way counts when it holds in every recording that has the values; with one recording only a
    slug of some length does.
    """
    sources = _Sources(
        [each for each in strands if each.kind in ("typed", "issued") and each.uses and each.value]
    )
    every = [
        (way, strand, from_)
        for strand in strands
        if strand.kind == "typed" and strand.uses
        for way, from_ in _ways(strand, sources)
    ]
    taken: dict[str, tuple[Way, tuple[Strand, ...]]] = {}
    for way, strand, from_ in sorted(every, key=lambda each: each[0].rank):
        if strand.name not in taken and not any(
            _leads(taken, each.name, strand.name) for each in from_
        ):
            taken[strand.name] = way, from_
    return [
        _told(strand, *taken[strand.name]) if strand.name in taken else strand for strand in strands
    ]


def _leads(taken: dict[str, tuple[Way, tuple[Strand, ...]]], name: str, to: str) -> bool:
    """Whether a value is computed, by way of others too, from the one named `to`: then that is not
    computed from it.
    """
    return name == to or any(
        _leads(taken, each.name, to) for each in taken.get(name, (None, ()))[1]
    )


def _told(strand: Strand, way: Way, from_: tuple[Strand, ...]) -> Strand:
    words = way.words.format(*(each.name for each in from_))
    return replace(
        strand,
        pattern=words,
        made_by=way.expression,
        made_from=tuple(each.uses[0] for each in from_),
        reasons=(*strand.reasons, f"is {words} in every recording"),
    )


class _Sources:
    """Values that others may come from, by when they are first sent and by what can be made of them
    in the first recording: what is looked for is looked up, not tried with each.
    """

    def __init__(self, strands: Sequence[Strand]) -> None:
        # of those sent together the first comes last
        order = sorted(range(len(strands)), key=lambda at: (_first(strands[at]), -at))
        self._sorted = [strands[at] for at in order]
        self._firsts = [_first(each) for each in self._sorted]
        self._made: dict[str, list[tuple[int, Strand]]] = {}
        for each in strands:
            for number, (_, compute) in enumerate(SINGLE):
                self._made.setdefault(compute(each.value), []).append((number, each))

    def before(self, strand: Strand) -> list[Strand]:
        """The nearest that are sent no later, nearest first."""
        end = bisect_right(self._firsts, _first(strand))
        near = [
            each
            for each in self._sorted[max(0, end - MOST_SOURCES - 1) : end]
            if each is not strand
        ]
        return near[::-1][:MOST_SOURCES]

    def making(self, value: str) -> dict[str, list[int]]:
        """By name those of which `value` can be made, with the numbers of the ways in SINGLE."""
        found: dict[str, list[int]] = {}
        for number, each in self._made.get(value, ()):
            found.setdefault(each.name, []).append(number)
        return found


def _ways(strand: Strand, sources: _Sources) -> Iterator[tuple[Way, tuple[Strand, ...]]]:
    """How a value can be computed of one before it, or of two: by what holds in every recording."""
    others, making = sources.before(strand), sources.making(strand.value)
    several = len(set(filter(None, strand.values))) > 1
    enough = several or (len(strand.value) >= 8 and re.search(r"[-_]", strand.value))
    for each in others:
        numbers = making.get(each.name, ()) if enough else ()
        for way in _of_one(strand, each, [n for n in numbers if several or n < 2], several):
            yield way, (each,)
    if several:
        yield from _of_two(strand, others[:MOST_OF_TWO])


def _of_one(strand: Strand, other: Strand, numbers: Sequence[int], several: bool) -> Iterator[Way]:
    """By the ways of SINGLE that may fit; with `several` recordings as a date, a length or with
    more text around it, too.
    """
    further = [way for fits, way in FURTHER if several and fits(strand, other)]
    rows = _rows(strand, (other,)) if numbers or further else []
    if not rows or all(mine == theirs for mine, theirs in rows):
        return  # the same value has the same source
    for number in numbers:
        way, compute = SINGLE[number]
        if _computes(compute, rows) and _tells(way, rows):
            yield way
    yield from filter(None, (way(rows) for way in further))


def _computes(compute: Callable[[str], str | None], rows: Sequence[tuple[str, ...]]) -> bool:
    """Whether each recording's value is what is computed of the other."""
    return all(mine and compute(theirs) == mine for mine, theirs in rows)


def _first(strand: Strand) -> int:
    return min(use.entry for use in strand.uses)


def _rows(strand: Strand, sources: Sequence[Strand]) -> list[Row]:
    """(the value, those of the sources) of each recording that has all of them."""
    rows = zip(strand.values, *(each.values for each in sources), strict=True)
    return [tuple(value for value in row if value) for row in rows if all(row)]


def _tells(way: Way, rows: Sequence[Row]) -> bool:
    """Whether it is no chance: what differs has three signs at least."""
    return all(len(mine) >= 3 for mine, *_ in rows)


def _days(rows: Sequence[Row]) -> Way | None:
    """The same number of days from one date to the other in every recording."""
    shifts, forms = set(), set()
    for mine, theirs in rows:
        form, other = value_shapes.as_date(mine), value_shapes.as_date(theirs)
        if not form or not other:
            return None
        shifts.add((datetime.strptime(mine, form) - datetime.strptime(theirs, other)).days)
        forms.add((form, other))
    if len(shifts) != 1 or len(forms) != 1 or len(rows) < 2:
        return None
    days, (form, other) = shifts.pop(), forms.pop()
    if abs(days) > FURTHEST_DAYS:
        return None
    words = (
        f"{{0}} {'plus' if days > 0 else 'less'} {abs(days)} day{'s' * (abs(days) != 1)}"
        if days
        else "{0} written otherwise"
    )
    reads = "" if other == "%Y-%m-%d" else f", '{other}'"
    shift = f", days={days}" if days else ""
    return Way(words, f"{{0}} | date('{form}'{reads}{shift})", 1 if days >= 0 else 4)


def _length(rows: Sequence[Row]) -> Way | None:
    if all(mine == str(len(theirs)) for mine, theirs in rows):
        return Way("the length of {0}", "{0} | length")
    return None


def _longer(rows: Sequence[Row]) -> Way | None:
    """The same text before and after the other value in every recording: “…, revised”."""
    around = set()
    for mine, theirs in rows:
        before, found, after = mine.partition(theirs)
        if not found or len(theirs) < SHORTEST:
            return None
        around.add((before, after))
    if len(around) != 1 or len({theirs for _, theirs in rows}) < 2:
        return None
    before, after = around.pop()
    if not before + after or len(before + after) > 200 or re.search(r"['\\{}]", before + after):
        return None
    said = [f"“{before}” before it"] * bool(before) + [f"“{after}” after it"] * bool(after)
    parts = [f"'{before}'"] * bool(before) + ["{0}"] + [f"'{after}'"] * bool(after)
    return Way(f"{{0}} with {' and '.join(said)}", " ~ ".join(parts), 2)


# of ways that need several recordings: where one may fit, and what it comes to
FURTHER: tuple[tuple[Callable[[Strand, Strand], bool], Callable[[Sequence[Row]], Way | None]], ...]
FURTHER = (
    (lambda strand, other: bool(value_shapes.as_date(strand.value)), _days),
    (lambda strand, other: bool(LENGTHS.search(strand.name)), _length),
    (lambda strand, other: len(other.value) >= SHORTEST and other.value in strand.value, _longer),
)


def _of_two(strand: Strand, others: Sequence[Strand]) -> Iterator[tuple[Way, tuple[Strand, ...]]]:
    numeric = _number(strand.value) is not None
    pairs: Iterable[tuple[Strand, ...]]
    if numeric:
        pairs = permutations([each for each in others if _number(each.value) is not None], 2)
    else:
        begin = [each for each in others if strand.value.startswith(each.value)]
        end = [each for each in others if strand.value.endswith(each.value)]
        pairs = ((a, b) for a in begin for b in end if a is not b)
    for a, b in pairs:
        rows = _rows(strand, (a, b))
        if len(rows) < 2 or len({mine for mine, *_ in rows}) < 2:
            continue
        if numeric:
            way = _arithmetic(rows)
            if way is not None:
                yield way, (a, b)
            continue
        for mark in MARKS:
            if all(first + mark + second == mine for mine, first, second in rows):
                yield (
                    Way(f"{{0}} and {{1}} with “{mark}” between them", f"{{0}} ~ '{mark}' ~ {{1}}"),
                    (a, b),
                )


def _arithmetic(rows: Sequence[Row]) -> Way | None:
    """A sum, product or difference of numbers that are large enough to be no chance."""
    numbers = [[_number(text) for text in row] for row in rows]
    whole = [[each for each in row if each is not None] for row in numbers]
    places = {len(mine.partition(".")[2]) for mine, *_ in rows}
    if any(
        len(row) < 3 or abs(row[0]) < 10 or row[1] in (0, 1) or row[2] in (0, 1) for row in whole
    ):
        return None
    if len(places) != 1:
        return None
    fixed = places.pop()
    tail = f" | fixed({fixed})" if fixed else ""
    for rank, (words, sign, compute) in enumerate(OPERATIONS, 3):
        if all(compute(a, b) == mine for mine, a, b in whole):
            return Way(words, f"({{0}} | number {sign} {{1}} | number){tail}", rank)
    return None


def _number(text: str | None) -> Decimal | None:
    if text is None or not re.fullmatch(r"-?\d{1,12}(\.\d{1,6})?", text):
        return None
    try:
        return Decimal(text)
    except InvalidOperation:
        return None
