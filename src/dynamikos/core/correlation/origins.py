"""Origins: the answers that hold a value before it is sent, in whatever form it is written there."""

import re
from collections.abc import Callable, Sequence
from html import unescape

import ahocorasick_rs

from dynamikos.core.correlation.answers import Answers
from dynamikos.core.correlation.coding import written
from dynamikos.core.correlation.found import Found
from dynamikos.core.correlation.offers import whole

Progress = Callable[[float], None]
MAX_ORIGINS = 12
ESCAPE = re.compile(r"\\u([0-9A-Fa-f]{4})|\\x([0-9A-Fa-f]{2})")
NOTABLE = frozenset(("set-cookie", "location", "link", "etag", "authorization"))
DULL = frozenset(
    "date server content-type content-length content-encoding cache-control vary connection keep-alive expires pragma"
    " age via accept-ranges transfer-encoding last-modified alt-svc strict-transport-security x-frame-options"
    " x-content-type-options referrer-policy content-security-policy permissions-policy x-powered-by"
    " access-control-allow-origin".split()
)


def fill_hits(main: Answers, wanted: Sequence[Found], progress: Progress) -> None:
    """Fills `hits`: the answers that hold a value, written in any of its forms, in order."""
    patterns: dict[str, list[tuple[int, bool]]] = {}
    for number, each in enumerate(wanted):
        if len(each.value) >= 4:
            for text in written(each.value):
                patterns.setdefault(text, []).append((number, True))
        else:
            for text in framed(each.value):
                patterns.setdefault(text, []).append((number, False))
    if not patterns:
        return
    texts = list(patterns)
    machine = ahocorasick_rs.AhoCorasick(
        texts, implementation=ahocorasick_rs.Implementation.DFA if len(texts) < 30_000 else None
    )
    last = max(site.entry for each in wanted for site in each.sites)
    for count, i in enumerate(main.ours):
        if i > last:
            break
        body = main.text(i)
        for haystack in (head_of(main, i), body, _plain(body)):
            if not haystack:
                continue
            done: set[int] = set()
            for index, start, end in machine.find_matches_as_indexes(haystack, overlapping=True):
                for number, alone in patterns[texts[index]]:
                    if number in done or (wanted[number].hits and wanted[number].hits[-1] == i):
                        continue
                    if len(wanted[number].hits) < MAX_ORIGINS and (not alone or whole(haystack, start, end - start)):
                        wanted[number].hits.append(i)
                        done.add(number)
        progress(0.15 + 0.4 * count / len(main.ours))


def _plain(text: str) -> str:
    """A text with its character references and escapes undone, if it has any ("" otherwise): a value may be written
    letter by letter.
    """
    if "&#" in text:
        return unescape(text)
    if "\\u00" in text or "\\x" in text:
        return ESCAPE.sub(lambda match: chr(int(match.group(1) or match.group(2), 16)), text)
    return ""


def framed(value: str) -> list[str]:
    """A short value only as a whole: a JSON scalar, an attribute, a part of an address, a text of an element."""
    return [
        f'"{value}"',
        f"'{value}'",
        f":{value},",
        f":{value}}}",
        f": {value},",
        f": {value}}}",
        f": {value}\n",
        f"[{value},",
        f"[{value}]",
        f",{value},",
        f",{value}]",
        f", {value},",
        f", {value}]",
        f"={value}&",
        f'={value}"',
        f"={value};",
        f"={value}\n",
        f"/{value}/",
        f'/{value}"',
        f"/{value}?",
        f"/{value}\n",
        f"/{value};",
        f"/{value}'",
        f"/{value}#",
        f"={value}'",
        f"={value}#",
        f"='{value}'",
        f">{value}<",
    ]


def head_of(main: Answers, i: int) -> str:
    answer = main.exchanges[i].answer
    if answer is None:
        return ""
    return "".join(
        f"{name}: {value}\n" for name, value in answer.headers if name.lower() in NOTABLE or name.lower() not in DULL
    )
