"""Does an answer look like the recorded one? A judgement with reasons, blind to values that merely
changed.
"""

import re
from collections.abc import Sequence
from typing import Any
from urllib.parse import urlsplit

import orjson
from selectolax.lexbor import LexborHTMLParser

from dynamikos.core.exchanges.model import Answer, text_of

VALUE = re.compile(r"[0-9a-f]{8,}|\d+|[A-Za-z0-9_-]{24,}", re.I)
MAX_PATHS = 2000


Form = tuple[str, tuple[str, ...]]  # where it is sent, and the names of its fields


def differences(
    recorded: Answer, status: int, headers: dict[str, str], body: str, size_bytes: int
) -> list[str]:
    """Reasons why an answer looks different from the recorded one, the most telling first; empty
    when it does not.

    `headers` have lower-case names; `body` is the replayed text, as far as it was kept.
    """
    told = []
    if recorded.status != status:
        told.append(f"answered {status or 'nothing'}; the recording got {recorded.status}")
    before, now = recorded.header("location") or "", headers.get("location", "")
    if form_of(before) != form_of(now):
        told.append(f"redirect: {now or 'none'}; recorded {before or 'none'}")
    content_before = recorded.header("content-type") or ""
    kind_before, kind_now = _kind(content_before), _kind(headers.get("content-type", ""))
    if kind_before != kind_now:
        told.append(f"kind of content: {kind_now or 'none'}; recorded {kind_before or 'none'}")
        return told
    old = text_of(recorded.body, content_before)
    compared = _json if "json" in kind_now else _html if "html" in kind_now else None
    if compared is not None and old.strip() and body.strip():
        return told + compared(old, body)
    size = len(recorded.body) or recorded.size_bytes
    if size and status and abs(size_bytes - size) > max(500, 0.5 * size):
        told.append(f"size {size_bytes:,} B; recorded {size:,} B")
    return told


def form_of(address: str) -> str:
    """What stays of an address when its values change: path without numbers and codes, names of the
    query.
    """
    try:
        parts = urlsplit(address)
    except ValueError:
        return address
    names = ",".join(sorted(pair.partition("=")[0] for pair in parts.query.split("&") if pair))
    return VALUE.sub("*", parts.path) + (f"?{names}" if names else "")


def _kind(content_type: str) -> str:
    return content_type.partition(";")[0].strip().lower()


def shape_of(document: Any) -> dict[str, str]:
    """JSON path (list positions as [*]) → kind of what is there. Lists without elements say nothing
    about them.
    """
    found: dict[str, str] = {}
    stack: list[tuple[str, Any]] = [("$", document)]
    while stack and len(found) < MAX_PATHS:
        path, value = stack.pop()
        if isinstance(value, dict):
            found[path] = "object"
            stack.extend(
                (f"{path}.{'*' if VALUE.fullmatch(str(key)) else key}", each)
                for key, each in value.items()
            )
        elif isinstance(value, list):
            found[path] = "list"
            stack.extend((f"{path}[*]", each) for each in value[:50])
        elif value is not None:
            kind = (
                "number"
                if isinstance(value, int | float) and not isinstance(value, bool)
                else type(value).__name__
            )
            found[path] = {"str": "text", "bool": "true or false"}.get(kind, kind)
        else:
            found.setdefault(path, "")
    return found


def _json(old: str, new: str) -> list[str]:
    before = _shape(old)
    if before is None:
        return []
    now = _shape(new)
    if now is None:
        return ["the answer is not JSON any more"]
    told = []
    gone = [path for path in before if path not in now and _stands(path, now)]
    fresh = [path for path in now if path not in before and _stands(path, before)]
    for paths, what in ((gone, "missing"), (fresh, "new")):
        tops = _outermost(paths)
        if tops:
            more = " …" if len(tops) > 5 else ""
            told.append(f"{what} in the JSON: {', '.join(sorted(tops)[:5])}{more}")
    for path, kind in before.items():
        if kind and now.get(path) and kind != now[path]:
            told.append(f"{path} is {now[path]}; recorded {kind}")
            break
    return told


def _shape(text: str) -> dict[str, str] | None:
    """The kinds by path; None for what is no JSON."""
    try:
        return shape_of(orjson.loads(text))
    except ValueError:
        return None


def _outermost(paths: Sequence[str]) -> list[str]:
    """Those that lie in no other of them."""

    def lies_in(path: str, other: str) -> bool:
        return path != other and path.startswith((other + ".", other + "["))

    return [path for path in paths if not any(lies_in(path, other) for other in paths)]


def _stands(path: str, other: dict[str, str]) -> bool:
    """Whether the place a path hangs on is there in the other document, so that its absence means
    something: an empty list has no elements.
    """
    parent = path.rpartition("[*]")[0] if path.endswith("[*]") else path.rpartition(".")[0]
    if path.endswith("[*]"):
        return False
    return parent in other and other[parent] == "object"


def _html(old: str, new: str) -> list[str]:
    before, now = LexborHTMLParser(old), LexborHTMLParser(new)
    told = _other_forms(_forms(before), _forms(now))
    tables_now = _tables(now)
    for heads in _tables(before):
        if heads and heads not in tables_now:
            told.append(f"the table {' | '.join(heads[:5])} is missing")
    title_before, title_now = _title(before), _title(now)
    words_before, words_now = _words(title_before), _words(title_now)
    is_other = bool(words_before and words_now) and not words_before & words_now
    # a page may be called after what it shows: another title alone is no other page
    if is_other and (told or _outline(before) != _outline(now)):
        told.insert(0, f"title “{title_now}”; recorded “{title_before}”")
    if not told and len(old) > 2000 and not 1 / 4 <= len(new) / len(old) <= 4:
        told.append(f"size {len(new):,} characters; recorded {len(old):,}")
    return told


def _other_forms(before: Sequence[Form], now: Sequence[Form]) -> list[str]:
    told = []
    for form in before:
        if form in now:
            continue
        target = form[0] or "the page itself"
        near = next((other for other in now if other[0] == form[0]), None)
        if near is None:
            told.append(f"the form to {target} is missing")
            continue
        lost, fresh = sorted(set(form[1]) - set(near[1])), sorted(set(near[1]) - set(form[1]))
        fields = [*(f"no {name}" for name in lost), *(f"new {name}" for name in fresh)][:5]
        told.append(f"the form to {target} has other fields: {', '.join(fields)}")
    known = {form[0] for form in before}
    fresh_forms = [form[0] for form in now if form[0] not in known]
    return [*told, *(f"a form to {target or 'the page itself'} is new" for target in fresh_forms)]


def _forms(page: LexborHTMLParser) -> list[Form]:
    found = []
    for form in page.css("form"):
        names = sorted(
            {
                str(field.attributes.get("name"))
                for field in form.css("input[name], select[name], textarea[name]")
            }
        )
        found.append((form_of(str(form.attributes.get("action") or "")), tuple(names)))
    return found


def _tables(page: LexborHTMLParser) -> list[tuple[str, ...]]:
    return [
        tuple(VALUE.sub("*", cell.text(strip=True)) for cell in table.css("th"))
        for table in page.css("table")
    ]


def _outline(page: LexborHTMLParser) -> tuple[tuple[str, ...], ...]:
    """Which kinds of elements stand below body, without how often."""
    body = page.body
    main = page.css_first("main") or body
    return (
        (
            tuple(
                sorted(
                    {
                        str(node.tag)
                        for node in main.css(
                            "h1, h2, form, table, ul, ol, nav, article, section, video, iframe"
                        )
                    }
                )
            ),
        )
        if main
        else ()
    )


def _title(page: LexborHTMLParser) -> str:
    node = page.css_first("title")
    return node.text(strip=True) if node else ""


def _words(title: str) -> set[str]:
    return set(re.findall(r"[^\W\d_]{2,}", title.lower()))
