"""CSS selectors on a page in a time that is bounded by its size: the library's own matching of long
ones goes over a page again and again (`.z .q .q .q .q .q p` on a hundred nested elements took 42
s), and C code can't be cut off by a timer.

A selector with at most one combinator is the library's. Of a longer one the library finds the
elements that its last part fits; what has to stand around them is asked for part by part, each
element and part once.
"""

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import lru_cache

from selectolax.lexbor import LexborHTMLParser, LexborNode

from dynamikos.core.errors import RuleError

COMBINATORS = ">+~ "
PAIRS = {"(": ")", "[": "]"}
MOST_PARTS = 24


@dataclass(frozen=True, slots=True)
class Part:
    """A compound selector, and how it stands to the part before it ("" for the first)."""

    combinator: str
    compound: str


def parts_of(selector: str) -> list[list[Part]]:
    """Each alternative of a selector list as its parts.

    Raises RuleError for one that is too long, or nested too deeply to be bounded.
    """
    found = []
    for alternative in _split(selector, ","):
        parts: list[Part] = []
        text, combinator = "", ""
        for piece in _pieces(alternative.strip()):
            if piece in COMBINATORS:
                if text:
                    parts.append(Part(combinator, text))
                    text, combinator = "", " "
                if piece != " ":
                    combinator = piece
            else:
                text += piece
        if text:
            parts.append(Part(combinator, text))
        if len(parts) > MOST_PARTS:
            raise RuleError(
                f"'{selector[:80]}' has {len(parts)} parts; at most {MOST_PARTS} are looked for"
            )
        for part in parts:
            if any(len(each) > 2 for inner in _inside(part.compound) for each in parts_of(inner)):
                raise RuleError(
                    f"'{selector[:80]}': within brackets a selector has at most two parts; write "
                    "the longer one without"
                    " :has, :is or :not"
                )
        found.append(parts)
    return found


def _pieces(text: str) -> Iterator[str]:
    """Signs of a selector, with what stands in quotes or brackets, and escapes, in one piece."""
    at = 0
    while at < len(text):
        sign = text[at]
        end = at + 1
        if sign == "\\":
            end = min(len(text), at + 2)
        elif sign in "\"'":
            end = _after_quote(text, at)
        elif sign in PAIRS:
            end = _after_bracket(text, at)
        yield " " if sign.isspace() else text[at:end]
        at = end


def _after_quote(text: str, at: int) -> int:
    quote, at = text[at], at + 1
    while at < len(text) and text[at] != quote:
        at += 2 if text[at] == "\\" else 1
    return min(len(text), at + 1)


def _after_bracket(text: str, at: int) -> int:
    closing, at = PAIRS[text[at]], at + 1
    while at < len(text) and text[at] != closing:
        if text[at] in PAIRS:
            at = _after_bracket(text, at)
        elif text[at] in "\"'":
            at = _after_quote(text, at)
        else:
            at += 2 if text[at] == "\\" else 1
    return min(len(text), at + 1)


def _split(text: str, mark: str) -> list[str]:
    made, piece = [], ""
    for each in _pieces(text):
        if each == mark:
            made.append(piece)
            piece = ""
        else:
            piece += each
    return [*made, piece]


def _inside(compound: str) -> list[str]:
    """What stands in round brackets of a compound selector and may be a selector itself."""
    return [
        piece[1:-1]
        for piece in _pieces(compound)
        if piece[:1] == "(" and any(sign.isalpha() or sign in ".#[*" for sign in piece)
    ]


Find = Callable[[LexborHTMLParser], Iterator[LexborNode]]


@lru_cache(maxsize=2048)
def compile_selector(selector: str) -> Find:
    """`selector` as a function page → its elements, in the order of the page. Raises RuleError."""
    alternatives = parts_of(selector)
    if all(len(parts) <= 2 for parts in alternatives):
        return lambda page: iter(page.css(selector))

    def find(page: LexborHTMLParser) -> Iterator[LexborNode]:
        if len(alternatives) == 1:
            yield from _matching(page, alternatives[0])
            return
        wanted = {node.mem_id for parts in alternatives for node in _matching(page, parts)}
        yield from (
            node
            for node in page.css(", ".join(parts[-1].compound for parts in alternatives))
            if node.mem_id in wanted
        )

    return find


def _matching(page: LexborHTMLParser, parts: list[Part]) -> Iterator[LexborNode]:
    known: dict[
        tuple[int, int], bool
    ] = {}  # (element, number of the part) → whether it and all before it fit there
    fits: dict[int, set[int]] = {}  # number of the part → elements that its compound fits

    def holds(node: LexborNode, at: int) -> bool:
        """Whether `node` fits part `at` with all before it; an explicit stack, since pages nest
        deeper than Python calls.
        """
        todo = [(node, at)]
        while todo:
            here, number = todo[-1]
            key = (here.mem_id, number)
            if key in known:
                todo.pop()
                continue
            if here.mem_id not in fits.setdefault(number, _all(page, parts[number].compound)):
                known[key] = False
            elif number == 0:
                known[key] = True
            else:
                near = _near(here, parts[number].combinator)
                answers = [known.get((each.mem_id, number - 1)) for each in near]
                unknown = next(
                    (each for each, answer in zip(near, answers, strict=True) if answer is None),
                    None,
                )
                if True in answers or unknown is None:
                    known[key] = True in answers
                else:
                    todo.append((unknown, number - 1))
        return known[(node.mem_id, at)]

    last = len(parts) - 1
    return (node for node in page.css(parts[last].compound) if holds(node, last))


def _all(page: LexborHTMLParser, compound: str) -> set[int]:
    return {node.mem_id for node in page.css(compound)}


def _near(node: LexborNode, combinator: str) -> list[LexborNode]:
    """The elements that may stand before `combinator` when `node` stands after it."""
    found: list[LexborNode] = []
    if combinator in ("+", "~"):
        other = node.prev
        while other is not None:
            if other.is_element_node:
                found.append(other)
                if combinator == "+":
                    break
            other = other.prev
        return found
    other = node.parent
    while other is not None and other.is_element_node:
        found.append(other)
        if combinator == ">":
            break
        other = other.parent
    return found
