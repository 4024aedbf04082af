"""Checks that fit an answer: what is the same in the recording and in the rehearsal, and on no
other page.
"""

import re
from collections.abc import Mapping, Sequence
from itertools import islice
from types import MappingProxyType

from selectolax.lexbor import LexborHTMLParser

from dynamikos.core.captures.view import View
from dynamikos.core.checks.base import Check
from dynamikos.core.checks.kinds.css import CssText
from dynamikos.core.checks.kinds.json import TYPES, JsonEquals

PHRASE = re.compile(r"[^\W\d_][\w ,’'-]{10,60}[\w.!?]")
MOST = 6


def suggested(
    view: View,
    recorded: View | None,
    others: Sequence[str],
    values: Mapping[str, str] = MappingProxyType({}),
) -> list[tuple[str, Check]]:
    """(what it says, check) for an answer, the most telling first. `others` are the bodies of other
    answers of the journey, `values` what was dealt or captured before, by name: such a text becomes
    a hole, so that the check holds for other rows, too.

    With a recorded answer only what both have is suggested: what differs from time to time is no
    sign of a right page.
    """
    if (
        recorded is not None
        and recorded.content_type.partition(";")[0] != view.content_type.partition(";")[0]
    ):
        recorded = None
    made: list[tuple[str, Check]] = []
    if "json" in view.content_type:
        made = _json(view, recorded)
    elif "html" in view.content_type:
        made = _html(view, recorded, others, values)
    kind = view.content_type.partition(";")[0].strip().lower()
    if kind:
        made.append((f"the content type is {kind}", Check(type=kind)))
    made.append((f"the status is {view.status}", Check(status=view.status)))
    return made[:MOST]


def _json(view: View, recorded: View | None) -> list[tuple[str, Check]]:
    try:
        document = view.json()
        before = recorded.json() if recorded is not None else document
    except ValueError:
        return []
    if isinstance(document, list):
        return [("it is a list", Check(json=JsonEquals(path="$", type="list")))]
    if not isinstance(document, dict):
        return []
    made = []
    for name, value in document.items():
        kind = TYPES.get(type(value), "")
        if (
            not kind
            or kind == "null"
            or not isinstance(before, dict)
            or TYPES.get(type(before.get(name))) != kind
        ):
            continue
        path = f"$.{name}" if re.fullmatch(r"[A-Za-z_]\w*", name) else f"$['{name}']"
        check = Check(json=JsonEquals(path=path, type=kind))  # type: ignore[arg-type]
        made.append((f"{path} is {'a ' if kind != 'object' else 'an '}{kind}", check))
        if kind == "list" and value and before[name]:
            made.append(
                (f"{path} has at least one entry", Check(json=JsonEquals(path=f"{path}[0]")))
            )
    return list(islice(made, 4))


def _html(
    view: View, recorded: View | None, others: Sequence[str], values: Mapping[str, str]
) -> list[tuple[str, Check]]:
    page, before = view.html(), recorded.html() if recorded is not None else view.html()
    made = []
    for selector, words in (("title", "the title is"), ("h1", "the heading is")):
        text, old = _text(page, selector), _text(before, selector)
        wanted = holed(text, values)
        if text and "{{" not in text and (text == old or _fits(wanted, old)):
            made.append(
                (f"{words} “{wanted}”", Check(css=CssText(selector=selector, equals=wanted)))
            )
    body = page.body.text(separator="\n") if page.body is not None else ""
    was = recorded.text if recorded is not None else view.text
    for phrase in PHRASE.findall(body):
        if holed(phrase, values) != phrase:  # data of this row
            continue
        if phrase in view.text and phrase in was and not any(phrase in other for other in others):
            made.append((f"it says “{phrase}”, as no other page does", Check(contains=phrase)))
            break
    return made


def holed(text: str, values: Mapping[str, str]) -> str:
    """`text` with a hole in place of each value it holds, the longest first; values under three
    characters stand anywhere by chance.
    """
    made = text
    for name, value in sorted(values.items(), key=lambda each: -len(each[1])):
        if len(value) >= 3 and value in made and "{{" not in value:
            pieces = re.split(r"(\{\{.*?\}\})", made)
            made = "".join(
                piece if piece.startswith("{{") else piece.replace(value, f"{{{{ {name} }}}}")
                for piece in pieces
            )
    return made


def _fits(wanted: str, old: str) -> bool:
    """Whether the recorded text is the wanted one with other values in its holes."""
    pieces = re.split(r"\{\{.*?\}\}", wanted)
    if len(pieces) < 2 or not any(re.search(r"\w", piece) for piece in pieces):
        return False
    return re.fullmatch(".+".join(map(re.escape, pieces)), old, re.S) is not None


def _text(page: LexborHTMLParser, selector: str) -> str:
    node = page.css_first(selector)
    return node.text().strip()[:200] if node is not None else ""
