"""Captures by elements of a page: selectors from marks that stay, alone or below an ancestor that
has some.
"""

import re
from collections.abc import Iterator
from itertools import islice

from selectolax.lexbor import LexborNode

from dynamikos.core.captures import Capture, CssForm, Decoding
from dynamikos.core.correlation.answers import Answers

STABLE_NAME = re.compile(r"[A-Za-z][A-Za-z_:.-]*\d?\Z")


def marked(
    answers: Answers, i: int, forms: dict[str, Decoding]
) -> Iterator[tuple[Capture, str, str]]:
    marks = answers.marks(i)
    if not marks:
        return
    for written_as, decode in forms.items():
        if decode in ("html", "json") or (decode == "percent" and written_as == ""):
            continue  # the parser has undone these
        for node, attribute in marks.get(written_as, ())[:10]:
            tells = told_by(node, attribute)
            for selector in _selectors(node, attribute):
                place = f"element {selector}" + (f" @{attribute}" if attribute else "")
                yield (
                    Capture(
                        name="v", css=CssForm(selector=selector, attribute=attribute), decode=decode
                    ),
                    place,
                    tells,
                )


def told_by(node: LexborNode, attribute: str) -> str:
    marks = node.attributes
    if node.tag == "option":
        holder = _select_of(node)
        if holder is not None:
            return str(holder.attributes.get("name") or holder.attributes.get("id") or "option")
    for name in ("name", "id", "property", "itemprop"):
        if marks.get(name) and attribute != name:
            return str(marks[name])
    if attribute.startswith("data-"):
        return attribute[5:]
    return str(marks.get("class") or marks.get("rel") or attribute or node.tag)


def _select_of(node: LexborNode) -> LexborNode | None:
    above = node.parent
    while above is not None and above.tag in ("optgroup", "select"):
        if above.tag == "select":
            return above
        above = above.parent
    return None


def _selectors(node: LexborNode, attribute: str) -> Iterator[str]:
    """Selectors of an element from its stable marks, alone and below an ancestor that has some."""
    own = list(own_selectors(node, attribute))
    yield from own
    holder = _select_of(node) if node.tag == "option" else None
    if holder is not None and holder is node.parent and holder.attributes.get("name"):
        number = _number_among(node, "option")
        yield f'select[name="{holder.attributes["name"]}"] > option:nth-of-type({number})'
    for ancestor in islice(_ancestors(node), 6):
        for outer in [each for each in own_selectors(ancestor, "") if each != ancestor.tag][:2]:
            for inner in (own or [node.tag or "*"])[:3]:
                yield f"{outer} {inner}"
            if not own:
                yield f"{outer} {node.tag}"
    yield _from_body(node)


def _ancestors(node: LexborNode) -> Iterator[LexborNode]:
    """Below the body, the nearest first."""
    ancestor = node.parent
    while ancestor is not None and ancestor.tag not in ("html", "body", "-undef", None):
        yield ancestor
        ancestor = ancestor.parent


def _number_among(node: LexborNode, tag: str | None) -> int:
    """Which of its siblings of a tag it is, from 1; itself counted whatever its tag is."""
    number, before = 1, node.prev
    while before is not None:
        number += before.tag == tag
        before = before.prev
    return number


def _from_body(node: LexborNode) -> str:
    """By counting, from the body down, at most eight steps."""
    chain: list[str] = []
    walk: LexborNode | None = node
    while walk is not None and walk.tag not in ("html", "-undef", None) and len(chain) < 8:
        if walk.tag == "body":
            chain.insert(0, "body")
            break
        chain.insert(0, f"{walk.tag}:nth-of-type({_number_among(walk, walk.tag)})")
        walk = walk.parent
    return " > ".join(chain)


def own_selectors(node: LexborNode, attribute: str) -> Iterator[str]:
    """Of its own marks, but for the `attribute` that is to be captured; the most telling first."""
    tag = node.tag or "*"
    yield from _by_name(node, tag, attribute)
    yield from _by_data(node, tag, attribute)
    kind = node.attributes.get("type")
    if kind and attribute != "type" and STABLE_NAME.match(kind):
        yield f'{tag}[type="{kind}"]'
    for name in (node.attributes.get("class") or "").split()[:3]:
        if re.fullmatch(r"[A-Za-z][\w-]*", name) and not re.search(r"\d{3}", name):
            yield f"{tag}.{name}"
    above = node.parent.attributes.get("name") if node.parent is not None else None
    if "selected" in node.attributes and above:
        yield f'select[name="{above}"] option[selected]'
    if tag in ("form", "main", "article", "title", "h1"):
        yield tag


def _by_name(node: LexborNode, tag: str, attribute: str) -> Iterator[str]:
    marks = node.attributes
    for name in ("name", "property", "itemprop", "rel", "http-equiv"):
        mark = marks.get(name)
        if mark and name != attribute and len(mark) < 80 and '"' not in mark:
            yield f'{tag}[{name}="{mark}"]'
    identity = marks.get("id")
    if identity and attribute != "id" and STABLE_NAME.match(identity):
        is_plain = re.fullmatch(r"[A-Za-z][\w-]*", identity)
        yield f"#{identity}" if is_plain else f'{tag}[id="{identity}"]'


def _by_data(node: LexborNode, tag: str, attribute: str) -> Iterator[str]:
    if attribute.startswith("data-"):
        yield f"{tag}[{attribute}]"
    for name, mark in node.attributes.items():
        if name.startswith("data-") and name != attribute:
            if mark and STABLE_NAME.match(mark) and len(mark) < 40:
                yield f'{tag}[{name}="{mark}"]'
            yield f"{tag}[{name}]"
