"""Values in the names of form fields, as the number of a record in "image-7-title".

Names say what is sent, so they are no places that are searched for values. But where a request
sends an issued value elsewhere (its address, say), and each recording's field is called by its own
value, the name is one of the value's places, too: sent as recorded, the field would be another
record's, and the application would find it empty.
"""

import re
from collections.abc import Mapping, Sequence

from msgspec.structs import replace

from dynamikos.core.correlation.answers import Answers
from dynamikos.core.correlation.model import Strand
from dynamikos.core.exchanges.form_names import form_names

PLACE = "name"  # the kind of place: "name image-7-title"


def with_field_names(
    strands: Sequence[Strand],
    main: Answers,
    others: Sequence[Answers],
    maps: Sequence[Mapping[int, int]],
) -> list[Strand]:
    """`strands`, the issued ones with a use for each field's name that holds their value; `maps`
    are the positions of the first recording's exchanges in each of the others.
    """
    at = {each.entry if each.entry >= 0 else i: i for i, each in enumerate(main.exchanges)}
    made = []
    for strand in strands:
        if strand.kind == "issued" and strand.varies:
            sent = {use.entry: use for use in strand.uses if use.entry in at}
            further = [
                replace(use, place=f"{PLACE} {name}", coding="")
                for entry, use in sent.items()
                for name in _holding(strand, at[entry], main, others, maps)
            ]
            strand = replace(strand, uses=(*strand.uses, *further)) if further else strand
        made.append(strand)
    return made


def _holding(
    strand: Strand,
    position: int,
    main: Answers,
    others: Sequence[Answers],
    maps: Sequence[Mapping[int, int]],
) -> list[str]:
    """Names of the request at `position` that are called by the value, as proven by the others."""
    held = [
        name for name in form_names(main.exchanges[position]) if word(strand.value).search(name)
    ]
    if not held:
        return []
    proven: set[str] = set()
    for other, mapped, value in zip(others, maps, strand.values[1:], strict=True):
        if value is None or value == strand.value or position not in mapped:
            continue
        there = form_names(other.exchanges[mapped[position]])
        for name in held:
            if renamed(name, strand.value, value) not in there:
                return []
            proven.add(name)
    return [name for name in held if name in proven]


def word(value: str) -> re.Pattern[str]:
    """`value` as a word of its own."""
    return re.compile(rf"(?<![A-Za-z0-9]){re.escape(value)}(?![A-Za-z0-9])")


def renamed(name: str, value: str, other: str) -> str:
    return word(value).sub(lambda _: other, name)
