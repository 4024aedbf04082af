"""A casebook: what was pinned of runs, comparisons and trends, parts of reports, and paragraphs
between them, in the order in which it is read.
"""

from typing import Literal

import msgspec
from msgspec.structs import replace

from dynamikos.core.errors import DynamikosError
from dynamikos.core.forms import VersionedCodec

MOST_BLOCKS, MOST_SIGNS, NOTE = 300, 40_000, 2000
Part = Literal[
    "verdict",
    "objectives",
    "tested",
    "changed",
    "lanes",
    "steps",
    "failures",
    "findings",
    "capacity",
    "limits",
    "inputs",
]
What = Literal[
    "lane", "steps", "step", "objective", "finding", "suspect", "kept", "values",
    "times", "heat", "spent", "load", "failures", "capacity", "shot",
    "comparison", "difference", "tapes", "spreads", "trend",
]  # fmt: skip


class Text(
    msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True, tag_field="block", tag="text"
):
    """A person's paragraphs (`text_as_html` of page.py says how they are read)."""

    key: str
    text: str = ""


class OfReport(
    msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True, tag_field="block", tag="part"
):
    """A part of the report of a run, by its id."""

    key: str
    part: Part
    run: str


class Pin(
    msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True, tag_field="block", tag="pin"
):
    """Something that was seen: `of` names it, with the run, window and slice it was seen in, as its
    page's address does; `title` is what it was called then, should it be gone.
    """

    key: str
    what: What
    of: dict[str, str] = {}
    title: str = ""
    note: str = ""


Block = Text | OfReport | Pin


class Casebook(msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True):
    form: int = 1
    title: str
    blocks: tuple[Block, ...] = ()


CASEBOOK = VersionedCodec("casebook", Casebook)


def draft(title: str, run: str, parts: tuple[str, ...]) -> Casebook:
    """What a report of a run begins as: all its parts, with room for a word of one's own after the
    first.
    """
    blocks: list[Block] = [OfReport(key=part, part=part, run=run) for part in parts]  # type: ignore[arg-type]
    blocks.insert(1, Text(key="own"))
    return Casebook(title=title, blocks=tuple(blocks))


def fresh_key(book: Casebook, base: str) -> str:
    """A key that no block has."""
    taken = {each.key for each in book.blocks}
    return next(
        key
        for key in (base, *(f"{base}-{n}" for n in range(2, MOST_BLOCKS + 3)))
        if key not in taken
    )


def with_block(book: Casebook, block: Block, after: str | None = None) -> Casebook:
    """With one more, after the block of key `after`, at the beginning for "", else at the end; its
    key is made unique. Raises DynamikosError where it is full.
    """
    if len(book.blocks) >= MOST_BLOCKS:
        raise DynamikosError(
            f"A casebook holds {MOST_BLOCKS} blocks at most; take some out, or begin another."
        )
    made = replace(block, key=fresh_key(book, block.key))
    keys = [each.key for each in book.blocks]
    at = 0 if after == "" else keys.index(after) + 1 if after in keys else len(keys)
    return replace(book, blocks=(*book.blocks[:at], made, *book.blocks[at:]))


def without(book: Casebook, key: str) -> Casebook:
    _at(book, key)
    return replace(book, blocks=tuple(each for each in book.blocks if each.key != key))


def moved(book: Casebook, key: str, to: int) -> Casebook:
    """The block of that key at place `to` (the nearest there is). Raises DynamikosError where there
    is none.
    """
    block = book.blocks[_at(book, key)]
    rest = [each for each in book.blocks if each.key != key]
    rest.insert(max(0, min(to, len(rest))), block)
    return replace(book, blocks=tuple(rest))


def place_of(book: Casebook, key: str) -> int:
    """Raises DynamikosError where there is none."""
    return _at(book, key)


def written(book: Casebook, key: str, text: str) -> Casebook:
    """With a paragraph's text, or a pin's note. Raises DynamikosError for one that is too long, or
    gone.
    """
    at = _at(book, key)
    block = book.blocks[at]
    most = MOST_SIGNS if isinstance(block, Text) else NOTE
    if len(text) > most:
        raise DynamikosError(f"This may have {most:,} signs at most; it has {len(text):,}.")
    if isinstance(block, Text):
        made: Block = replace(block, text=text)
    elif isinstance(block, Pin):
        made = replace(block, note=text)
    else:
        raise DynamikosError(
            "A part of the report has no text of its own; add a paragraph beside it."
        )
    return replace(book, blocks=(*book.blocks[:at], made, *book.blocks[at + 1 :]))


def _at(book: Casebook, key: str) -> int:
    for at, each in enumerate(book.blocks):
        if each.key == key:
            return at
    raise DynamikosError("This block is not in the casebook any more; reload its page.")
