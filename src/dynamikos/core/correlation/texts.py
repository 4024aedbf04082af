"""Captures by text: the shape of an address, headers, where a redirect leads to, what stands before
and after.
"""

import re
from collections.abc import Iterator, Sequence
from itertools import islice
from urllib.parse import quote, quote_plus, unquote_plus, urlsplit

from dynamikos.core.captures import BetweenForm, Capture, Decoding, RegexForm
from dynamikos.core.correlation.answers import Answers
from dynamikos.core.correlation.shapes import OPEN, Shape
from dynamikos.core.exchanges.model import REDIRECTS, redirect_of

WORD = re.compile(r"[A-Za-z]{3}|[a-z]\w")


def shaped(text: str, value: str, shapes: Sequence[Shape]) -> Iterator[tuple[Capture, str, float]]:
    """The address it is sent in, as the answer writes it: the first, the last, the n-th, one of
    several.
    """
    if value not in text:
        return
    for shape in shapes:
        pattern = shape.pattern.replace("/", r"\\?/") if "\\/" in text else shape.pattern
        if "\\/" in text:
            pattern = pattern.replace(r"[^\\?/", "[^/")
        found = [match.group(1) for match in re.finditer(pattern, text)]
        if value not in found:
            continue
        place = f"address like {shape.pattern.replace(OPEN, '…')}"
        form = RegexForm(pattern=pattern)
        if found[0] == value:
            yield Capture(name="v", regex=form), place, shape.weight
        if found[-1] == value:
            yield Capture(name="v", regex=form, pick="last"), place, shape.weight - 0.05
        number = found.index(value) + 1
        if 1 < number <= 40:
            yield Capture(name="v", regex=form, pick=number), place, shape.weight - 0.1
        if len(set(found)) > 1:
            yield Capture(name="v", regex=form, pick="random"), place, shape.weight


def headers(
    answers: Answers, i: int, forms: dict[str, Decoding]
) -> Iterator[tuple[Capture, str, str]]:
    answer = answers.exchanges[i].answer
    for name, text in answer.headers if answer else ():
        if name.lower() in ("set-cookie", "date", "content-length") or (
            name.lower() == "location" and answer and answer.status in REDIRECTS
        ):
            continue
        if text in forms:
            yield Capture(name="v", header=name, decode=forms[text]), f"header {name}", name
            continue
        for written_as, decode in forms.items():
            at = text.find(written_as) if len(written_as) >= 2 else -1
            if at < 0 or not whole(text, at, len(written_as)):
                continue
            before, after = text[:at], text[at + len(written_as) : at + len(written_as) + 1]
            keep = re.search(r"[^\s;,]*\Z", before)
            lead = keep.group(0) if keep else ""
            ending = re.escape(after) if after else r"\s;,"
            pattern = f"{re.escape(lead)}([^{ending}]+)"
            form = RegexForm(pattern=pattern, header=name)
            yield Capture(name="v", regex=form, decode=decode), f"header {name}", f"{name} {lead}"


# a capture, where it takes from, and what tells of it: words, or how alike they are (0 to 1)
Candidate = tuple[Capture, str, str | float]


def addresses(
    answers: Answers, i: int, value: str, shapes: Sequence[Shape] = ()
) -> Iterator[Candidate]:
    """Parts of the address a redirect leads to."""
    answer = answers.exchanges[i].answer
    location = answer.header("location") if answer and answer.status in REDIRECTS else None
    if not location or redirect_of(answers.exchanges[i]) is None:
        return
    yield from _fields(location, value)
    yield from _path_segments(location, value, shapes)
    for written_as in (value, quote(value, safe="")):
        at = location.find(written_as)
        if at > 0 and whole(location, at, len(written_as)):
            told = re.search(r"[^/?&=]*[/?&=]?[^/?&=]*[/?&=.,;:~-]?\Z", location[:at])
            text = told.group(0) if told else location[:at]
            made = Capture(name="v", address=f"{re.escape(text)}([^/?&#;,]+)")
            yield made, "redirect's address", text


def _fields(location: str, value: str) -> Iterator[Candidate]:
    """Those of its query and its fragment."""
    parts = urlsplit(location)
    for source, lead in ((parts.query, "[?&]"), (parts.fragment, "[#&]")):
        for pair in source.split("&"):
            name, _, text = pair.partition("=")
            if text and unquote_plus(text) == value:
                decode: Decoding = "percent" if text != value else ""
                address = f"{lead}{re.escape(name)}=([^&#]+)"
                made = Capture(name="v", address=address, decode=decode)
                yield made, f"redirect's address, query {name}", name


def _path_segments(location: str, value: str, shapes: Sequence[Shape]) -> Iterator[Candidate]:
    segments = urlsplit(location).path.split("/")
    for number, segment in enumerate(segments):
        if segment not in (value, quote(value, safe=""), quote_plus(value)):
            continue
        before = segments[number - 1] if number else ""
        coded: Decoding = "percent" if segment != value else ""
        address = f"/{re.escape(before)}/([^/?#]+)" if before else r"://[^/]+/([^/?#]+)"
        place = f"redirect's address, path after {before or '/'}"
        yield Capture(name="v", address=address, decode=coded), place, before
        # of the request's own address and those it leads to, the last one
        same = any(shape.literal in location for shape in shapes)
        made = Capture(name="v", address=address, decode=coded, pick="last")
        yield made, place, 0.9 if same else before


def whole(text: str, at: int, size: int) -> bool:
    """Whether text[at:at+size] stands by itself, not inside of a longer word."""
    first, last = text[at], text[at + size - 1]
    if at and _wordy(text[at - 1]) and _wordy(first):
        lead = text[max(0, at - 6) : at]
        if not re.search(
            r"%[0-9A-Fa-f]{2}\Z|\\u[0-9A-Fa-f]{4}\Z|\\x[0-9A-Fa-f]{2}\Z|\\[nrt]\Z", lead
        ):
            return False
    end = at + size
    return not (end < len(text) and _wordy(text[end]) and _wordy(last))


def _wordy(character: str) -> bool:
    return character.isalnum() or character == "_"


def places(text: str, part: str, limit: int = 6) -> Iterator[int]:
    at = text.find(part)
    while at >= 0 and limit:
        if whole(text, at, len(part)):
            yield at
            limit -= 1
        at = text.find(part, at + 1)


def texts(
    text: str, part: str, decode: Decoding, moving: frozenset[str] = frozenset()
) -> Iterator[tuple[Capture, str, str]]:
    """Between the shortest telling text before and what follows; then a pattern for the name
    before.
    """
    for at in places(text, part):
        end = at + len(part)
        after = _following(text, part, end)
        if not after:
            continue
        told = re.findall(r"[A-Za-z_][\w-]*", text[max(0, at - 60) : at])[-2:]
        tells = " ".join(told)
        for before in islice(_leads(text, at, moving), 6):
            between = BetweenForm(before=before, after=after)
            made = Capture(name="v", between=between, decode=decode)
            yield made, f"text after {before[-40:]!r}", tells
        for pattern, place in (*_by_codes(text, at, end), *_by_word(text, at, told)):
            yield Capture(name="v", regex=RegexForm(pattern=pattern), decode=decode), place, tells


def _following(text: str, part: str, end: int) -> str:
    """What follows the part, as long as the part itself holds it: at most 12 signs."""
    after = text[end : end + 1]
    while after and after in part and len(after) < 12 and end + len(after) < len(text):
        after = text[end : end + len(after) + 1]
    return after


def _leads(text: str, at: int, moving: frozenset[str]) -> Iterator[str]:
    """Texts before a place that stand nowhere earlier, the shortest first: none begins inside of a
    word, none leans on something that changes itself.
    """
    for size in range(2, min(100, at) + 1):
        lead, before = text[at - size], text[at - size : at]
        if _wordy(lead) and at - size > 0 and _wordy(text[at - size - 1]):
            continue
        if lead in " \t\r\n" or not WORD.search(before):
            continue
        if moving and not moving.isdisjoint(re.findall(r"[A-Za-z0-9]+", before)):
            return
        if text.find(before) == at - size:
            yield before


def _by_codes(text: str, at: int, end: int) -> Iterator[tuple[str, str]]:
    """(pattern, place) where numbers and codes stand before it, which may change."""
    near = re.search(r"[^\s<>]{3,40}\Z", text[max(0, at - 40) : at])
    if near is None or not re.search(r"\d", near.group(0)) or not text[end : end + 1]:
        return
    general = re.sub(r"(?:\\?[0-9a-f]){6,}|\d+", "\0", near.group(0))
    pattern = "[0-9A-Za-z]+".join(re.escape(piece) for piece in general.split("\0"))
    ending = re.escape(text[end])
    yield f"{pattern}([^{ending}]+){ending}", f"text after {near.group(0)!r}"


def _by_word(text: str, at: int, told: Sequence[str]) -> Iterator[tuple[str, str]]:
    """(pattern, place) after the last word before it, whatever signs stand between."""
    if not told or not re.search(
        re.escape(told[-1]) + r"([^\w]{0,12})\Z", text[max(0, at - 80) : at]
    ):
        return
    pattern = re.escape(told[-1]) + r"[\"'\\]*\s*[:=>]?\s*[\"'\\]*([\w.~+/%-]+=*)"
    yield pattern, f"text after {told[-1]!r}"
