"""Captures that yield a value from an answer, the simplest that holds in every recording first."""

import json
import re
from collections.abc import Iterator, Sequence
from typing import NamedTuple

from selectolax.lexbor import LexborNode

from dynamikos.core.captures import (
    BetweenForm,
    Capture,
    CssForm,
    Decoding,
    RegexForm,
    View,
    compile_capture,
    compile_finder,
)
from dynamikos.core.correlation.answers import Answers
from dynamikos.core.correlation.coding import written
from dynamikos.core.correlation.looks import likeness
from dynamikos.core.errors import DynamikosError
from dynamikos.core.exchanges.model import REDIRECTS, redirect_of

STABLE_NAME = re.compile(r"[A-Za-z][A-Za-z_:.-]*\d?\Z")
WORD = re.compile(r"[A-Za-z]{3}|[a-z]\w")


ENOUGH = 4  # alternatives of one value


class Seen(NamedTuple):
    """The same answer in another recording, with the value sent there."""

    view: View
    value: str


class Offer(NamedTuple):
    """`proven`: yields the right value everywhere.

    `chosen`: a person chose one of several matches, which differ between recordings.
    """

    capture: Capture
    place: str
    alike: float
    proven: bool
    chosen: bool = False


def offers(
    answers: Answers, i: int, value: str, names: Sequence[str], others: Sequence[Seen], *, limit: int = 6
) -> list[Offer]:
    """Captures on the request that leads to answer `i`, best first: proven ones, then by likeness of names, then
    simplest.
    """
    view = answers.view(i)
    proven: list[Offer] = []
    open_: list[Offer] = []
    tried: set[Capture] = set()
    for made, place, tells in _candidates(answers, i, value):
        if made in tried:
            continue
        tried.add(made)
        try:
            find, take = compile_finder(made), compile_capture(made)
        except DynamikosError:
            continue
        alike = max((likeness(name, tells) for name in names), default=0.0)
        if made.pick == "random":
            found = set(find(view))
            if not others or value not in found or len(found) < 2:
                continue
            sets = [set(find(other.view)) for other in others]
            if all(other.value in each for other, each in zip(others, sets, strict=True)) and any(
                each != found for each in sets
            ):
                proven.append(Offer(made, place, alike, True, chosen=True))
            continue
        if take(view) != value:
            continue
        holds = all(take(other.view) == other.value for other in others)
        (proven if holds else open_).append(Offer(made, place, alike, holds))
        if len(proven) >= ENOUGH and max(offer.alike for offer in proven) >= 0.5:
            break
    proven.sort(key=lambda offer: (offer.chosen, -offer.alike if offer.alike >= 0.5 else 0))
    return [*proven, *open_][:limit]


def _candidates(answers: Answers, i: int, value: str) -> Iterator[tuple[Capture, str, str]]:
    """(capture, place in words, name that tells what it is), simplest forms first.

    Some will not hold: the caller tries each.
    """
    final = answers.final(i) == i
    forms = written(value)
    if final:
        yield from _json(answers, i, forms)
        yield from _html(answers, i, forms)
        yield from _headers(answers, i, forms)
    for name, text in answers.cookies_set(i).items():
        if text.strip('"') in forms:
            yield Capture(name="v", cookie=name, decode=forms[text.strip('"')]), f"cookie {name}", name
    yield from _addresses(answers, i, value)
    if final:
        text = answers.text(i)
        for written_as, decode in forms.items():
            if len(value) < 4 and written_as != value:
                continue
            yield from _texts(text, written_as, decode)
        yield from _lists(answers, i, value, forms, text)


# JSON -----------------------------------------------------------------------------------------------------


def _json(answers: Answers, i: int, forms: dict[str, Decoding]) -> Iterator[tuple[Capture, str, str]]:
    leaves = answers.json_leaves(i)
    if not leaves:
        return
    document = answers.view(i).json()
    later: list[tuple[Capture, str, str]] = []
    for written_as, decode in forms.items():
        if decode in ("json", "html", "percent") and written_as in forms and forms[written_as] == "":
            continue
        for path, _ in leaves.get(written_as, ())[:12]:
            place, tells = f"json {path}", " ".join(re.findall(r"[A-Za-z_][\w-]*", path)[-2:])
            yield Capture(name="v", json=path, decode=decode), place, tells
            if "[" in path:
                for general in _filters(document, path):
                    later.append((Capture(name="v", json=general, decode=decode), place, tells))
                for match in re.finditer(r"\[\d+\]", path):
                    wide = path[: match.start()] + "[*]" + path[match.end() :]
                    later.append((Capture(name="v", json=wide, pick="last", decode=decode), place, tells))
    yield from later


def _filters(document: object, path: str) -> Iterator[str]:
    """The path with an index replaced by a filter on a neighbour: `$.slots[2].id` → `$.slots[?@.free == true].id`."""
    for match in re.finditer(r"\[(\d+)\]", path):
        before, after = path[: match.start()], path[match.end() :]
        node: object = document
        for key in re.findall(r"\.([A-Za-z_]\w*)|\[(\d+)\]|\[\"([^\"]*)\"\]", before):
            try:
                node = node[int(key[1])] if key[1] else node[key[0] or key[2]]  # type: ignore[index]
            except (KeyError, IndexError, TypeError):
                return
        if (
            not isinstance(node, list)
            or int(match.group(1)) >= len(node)
            or not isinstance(node[int(match.group(1))], dict)
        ):
            continue
        element = node[int(match.group(1))]
        for key, value in element.items():
            if (
                not re.fullmatch(r"[A-Za-z_]\w*", key)
                or after.startswith(f".{key}")
                or not isinstance(value, str | bool)
            ):
                continue
            if isinstance(value, str) and (not 1 <= len(value) <= 40 or "'" in value or "\\" in value):
                continue
            same = sum(isinstance(each, dict) and each.get(key) == value for each in node)
            if same < len(node) or len(node) == 1:
                literal = json.dumps(value) if isinstance(value, bool) else f"'{value}'"
                yield f"{before}[?@.{key} == {literal}]{after}"


# HTML -----------------------------------------------------------------------------------------------------


def _html(answers: Answers, i: int, forms: dict[str, Decoding]) -> Iterator[tuple[Capture, str, str]]:
    marks = answers.marks(i)
    if not marks:
        return
    for written_as, decode in forms.items():
        if decode in ("html", "json") or (decode == "percent" and written_as == ""):
            continue  # the parser has undone these
        for node, attribute in marks.get(written_as, ())[:10]:
            tells = _told(node, attribute)
            for selector in _selectors(node, attribute):
                place = f"element {selector}" + (f" @{attribute}" if attribute else "")
                yield (
                    Capture(name="v", css=CssForm(selector=selector, attribute=attribute), decode=decode),
                    place,
                    tells,
                )


def _told(node: LexborNode, attribute: str) -> str:
    marks = node.attributes
    for name in ("name", "id", "property", "itemprop"):
        if marks.get(name) and attribute != name:
            return str(marks[name])
    if attribute.startswith("data-"):
        return attribute[5:]
    return str(marks.get("class") or marks.get("rel") or attribute or node.tag)


def _selectors(node: LexborNode, attribute: str) -> Iterator[str]:
    """Selectors of an element from its stable marks, alone and below an ancestor that has some."""
    own = list(_own(node, attribute))
    yield from own
    ancestor = node.parent
    steps = 0
    while ancestor is not None and ancestor.tag not in ("html", "body", "-undef", None) and steps < 6:
        above = [each for each in _own(ancestor, "") if each != ancestor.tag][:2]
        for outer in above:
            for inner in (own or [node.tag or "*"])[:3]:
                yield f"{outer} {inner}"
            if not own:
                yield f"{outer} {node.tag}"
        ancestor = ancestor.parent
        steps += 1
    chain: list[str] = []
    walk: LexborNode | None = node
    while walk is not None and walk.tag not in ("html", "-undef", None) and len(chain) < 8:
        if walk.tag == "body":
            chain.insert(0, "body")
            break
        number, before = 1, walk.prev
        while before is not None:
            number += before.tag == walk.tag
            before = before.prev
        chain.insert(0, f"{walk.tag}:nth-of-type({number})")
        walk = walk.parent
    yield " > ".join(chain)


def _own(node: LexborNode, attribute: str) -> Iterator[str]:
    tag, marks = node.tag or "*", node.attributes
    for name in ("name", "property", "itemprop", "rel", "http-equiv"):
        mark = marks.get(name)
        if mark and name != attribute and len(mark) < 80 and '"' not in mark:
            yield f'{tag}[{name}="{mark}"]'
    identity = marks.get("id")
    if identity and attribute != "id" and STABLE_NAME.match(identity):
        yield f"#{identity}" if re.fullmatch(r"[A-Za-z][\w-]*", identity) else f'{tag}[id="{identity}"]'
    if attribute.startswith("data-"):
        yield f"{tag}[{attribute}]"
    for name in marks:
        if name.startswith("data-") and name != attribute:
            mark = marks[name]
            if mark and STABLE_NAME.match(mark) and len(mark) < 40:
                yield f'{tag}[{name}="{mark}"]'
            yield f"{tag}[{name}]"
    kind = marks.get("type")
    if kind and attribute != "type" and STABLE_NAME.match(kind):
        yield f'{tag}[type="{kind}"]'
    for name in (marks.get("class") or "").split()[:3]:
        if re.fullmatch(r"[A-Za-z][\w-]*", name) and not re.search(r"\d{3}", name):
            yield f"{tag}.{name}"
    if "selected" in marks and node.parent is not None and node.parent.attributes.get("name"):
        yield f'select[name="{node.parent.attributes["name"]}"] option[selected]'
    if tag in ("form", "main", "article", "title", "h1"):
        yield tag


# headers, addresses, texts ----------------------------------------------------------------------------------


def _headers(answers: Answers, i: int, forms: dict[str, Decoding]) -> Iterator[tuple[Capture, str, str]]:
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


def _addresses(answers: Answers, i: int, value: str) -> Iterator[tuple[Capture, str, str]]:
    """Parts of the address a redirect leads to."""
    from urllib.parse import quote, quote_plus, unquote_plus, urlsplit

    answer = answers.exchanges[i].answer
    location = answer.header("location") if answer and answer.status in REDIRECTS else None
    if not location or redirect_of(answers.exchanges[i]) is None:
        return
    parts = urlsplit(location)
    for source, lead in ((parts.query, "[?&]"), (parts.fragment, "[#&]")):
        for pair in source.split("&"):
            name, _, text = pair.partition("=")
            if text and unquote_plus(text) == value:
                decode: Decoding = "percent" if text != value else ""
                yield (
                    Capture(name="v", address=f"{lead}{re.escape(name)}=([^&#]+)", decode=decode),
                    f"redirect's address, query {name}",
                    name,
                )
    segments = parts.path.split("/")
    for number, segment in enumerate(segments):
        if segment in (value, quote(value, safe=""), quote_plus(value)):
            before = segments[number - 1] if number else ""
            coded: Decoding = "percent" if segment != value else ""
            yield (
                Capture(
                    name="v",
                    address=f"/{re.escape(before)}/([^/?#]+)" if before else r"://[^/]+/([^/?#]+)",
                    decode=coded,
                ),
                f"redirect's address, path after {before or '/'}",
                before,
            )
    for written_as in (value, quote(value, safe="")):
        at = location.find(written_as)
        if at > 0 and whole(location, at, len(written_as)):
            told = re.search(r"[^/?&=]*[/?&=]?[^/?&=]*[/?&=.,;:~-]?\Z", location[:at])
            text = told.group(0) if told else location[:at]
            yield Capture(name="v", address=f"{re.escape(text)}([^/?&#;,]+)"), "redirect's address", text


def whole(text: str, at: int, size: int) -> bool:
    """Whether text[at:at+size] stands by itself, not inside of a longer word."""
    first, last = text[at], text[at + size - 1]
    if at and _wordy(text[at - 1]) and _wordy(first):
        lead = text[max(0, at - 6) : at]
        if not re.search(r"%[0-9A-Fa-f]{2}\Z|\\u[0-9A-Fa-f]{4}\Z|\\x[0-9A-Fa-f]{2}\Z|\\[nrt]\Z", lead):
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


def _texts(text: str, part: str, decode: Decoding) -> Iterator[tuple[Capture, str, str]]:
    """Between the shortest telling text before and what follows; then a pattern for the name before."""
    for at in places(text, part):
        end = at + len(part)
        after = text[end : end + 1]
        while after and after in part and len(after) < 12 and end + len(after) < len(text):
            after = text[end : end + len(after) + 1]
        if not after:
            continue
        told = re.findall(r"[A-Za-z_][\w-]*", text[max(0, at - 60) : at])[-2:]
        tells = " ".join(told)
        given = 0
        for size in range(2, min(100, at) + 1):
            lead = text[at - size]
            before = text[at - size : at]
            if _wordy(lead) and at - size > 0 and _wordy(text[at - size - 1]):
                continue  # begins inside a word
            if lead in " \t\r\n" or not WORD.search(before):
                continue
            if text.find(before) == at - size:
                yield (
                    Capture(name="v", between=BetweenForm(before=before, after=after), decode=decode),
                    f"text after {before[-40:]!r}",
                    tells,
                )
                given += 1
                if given >= 6:
                    break
        near = re.search(r"[^\s<>]{3,40}\Z", text[max(0, at - 40) : at])
        if near and re.search(r"\d", near.group(0)) and text[end : end + 1]:  # numbers and codes before it may change
            general = re.sub(r"(?:\\?[0-9a-f]){6,}|\d+", "\0", near.group(0))
            pattern = "[0-9A-Za-z]+".join(re.escape(piece) for piece in general.split("\0"))
            ending = re.escape(text[end])
            yield (
                Capture(name="v", regex=RegexForm(pattern=f"{pattern}([^{ending}]+){ending}"), decode=decode),
                f"text after {near.group(0)!r}",
                tells,
            )
        if told:
            gap = re.search(re.escape(told[-1]) + r"([^\w]{0,12})\Z", text[max(0, at - 80) : at])
            if gap:
                pattern = re.escape(told[-1]) + r"[\"'\\]*\s*[:=>]?\s*[\"'\\]*([\w.~+/%-]+=*)"
                yield (
                    Capture(name="v", regex=RegexForm(pattern=pattern), decode=decode),
                    f"text after {told[-1]!r}",
                    tells,
                )


def _lists(
    answers: Answers, i: int, value: str, forms: dict[str, Decoding], text: str
) -> Iterator[tuple[Capture, str, str]]:
    """One of several alike: of a JSON list, of elements of a kind, of links of a kind."""
    for path, _ in answers.json_leaves(i).get(value, ())[:6]:
        tells = " ".join(re.findall(r"[A-Za-z_][\w-]*", path)[-2:])
        for match in list(re.finditer(r"\[\d+\]", path))[::-1]:
            wide = path[: match.start()] + "[*]" + path[match.end() :]
            yield Capture(name="v", json=wide, pick="random"), f"json {wide}", tells
    for node, attribute in answers.marks(i).get(value, ())[:4]:
        for selector in [*_own(node, attribute), f"{node.parent.tag} > {node.tag}" if node.parent is not None else ""]:
            if selector:
                form = CssForm(selector=selector, attribute=attribute)
                yield Capture(name="v", css=form, pick="random"), f"element {selector}", _told(node, attribute)
    for at in places(text, value, 3):
        lead = re.search(r"[\w-]+=[\"'][^\"'\s]*[/=?&]\Z", text[max(0, at - 120) : at])
        if lead:
            pattern = re.escape(lead.group(0)) + "([^\"'/?&#]+)"
            tells = " ".join(re.findall(r"[A-Za-z_][\w-]*", lead.group(0))[-1:])
            place = f"link after {lead.group(0)!r}"
            yield Capture(name="v", regex=RegexForm(pattern=pattern)), place, tells
            yield Capture(name="v", regex=RegexForm(pattern=pattern), pick="random"), place, tells
