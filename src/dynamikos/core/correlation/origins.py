"""Origins: the answers that hold a value before it is sent, in whatever form it is written
there.
"""

import re
from collections.abc import Callable, Sequence
from html import unescape

import ahocorasick_rs

from dynamikos.core.correlation.answers import Answers
from dynamikos.core.correlation.coding import written
from dynamikos.core.correlation.found import Found
from dynamikos.core.correlation.texts import whole
from dynamikos.core.exchanges import Answer
from dynamikos.core.exchanges.resources import LIFELESS, is_file
from dynamikos.core.journeys.recorded_requests import unsupported

Progress = Callable[[float], None]
ESCAPE = re.compile(r"\\u([0-9A-Fa-f]{4})|\\x([0-9A-Fa-f]{2})")
NOTABLE = frozenset(("set-cookie", "location", "link", "etag", "authorization"))
DULL = frozenset(
    "date server content-type content-length content-encoding cache-control vary connection "
    "keep-alive expires pragma"
    " age via accept-ranges transfer-encoding last-modified alt-svc strict-transport-security "
    "x-frame-options"
    " x-content-type-options referrer-policy content-security-policy permissions-policy "
    "x-powered-by"
    " access-control-allow-origin".split()
)


def fill_hits(
    main: Answers,
    wanted: Sequence[Found],
    progress: Progress,
    others: Sequence[Answers] = (),
    maps: Sequence[dict[int, int]] = (),
) -> None:
    """Fills `hits`: the answers that hold a value before it is sent and, in every other recording,
    the value sent there, in order.
    """
    skip = steady(main, others, maps) | {
        i for i in main.ours if no_origin(main, i, alone=not others)
    }
    last = max((site.entry for each in wanted for site in each.sites), default=-1)
    where = [i for i in main.ours if i < last and i not in skip]
    found = holding(main, [each.value for each in wanted], where, progress)
    for each, hits in zip(wanted, found, strict=True):
        each.hits = sorted(hits)
    for number, (other, mapped) in enumerate(zip(others, maps, strict=True), 1):
        there = set(other.ours) - steady(other, [main], [{b: a for a, b in mapped.items()}])
        values = [(each.values[number] or "") if each.hits else "" for each in wanted]
        held = holding(other, values, sorted(there), progress)
        for each, hits in zip(wanted, held, strict=True):
            if each.values[number] is None:
                each.held.append(set())
                continue
            each.held.append(hits)
            each.hits = [
                i for i in each.hits if mapped.get(i) in hits or _alike(main, i, other, hits)
            ]


def _alike(main: Answers, i: int, other: Answers, hits: set[int]) -> bool:
    return any(main.form(i) == other.form(j) for j in hits)


def steady(main: Answers, others: Sequence[Answers], maps: Sequence[dict[int, int]]) -> set[int]:
    """Answers that are the same in every recording: nothing that differs comes from them."""
    if not others:
        return set()
    found = set()
    for i in main.ours:
        one = main.exchanges[i].answer
        if one is None:
            continue
        for other, mapped in zip(others, maps, strict=True):
            j = mapped.get(i)
            two = other.exchanges[j].answer if j is not None else None
            if (
                j is None
                or two is None
                or one.body != two.body
                or head_of(main, i) != head_of(other, j)
            ):
                break
        else:
            found.add(i)
    return found


def no_origin(main: Answers, i: int, *, alone: bool) -> bool:
    """Whether answer i is a file that issues nothing, or a stream that is not replayed, so that
    nothing can be captured from it. With no other recording to tell, scripts are files, too.
    """
    if unsupported(main.exchanges[i]):
        return True
    answer = main.exchanges[i].answer
    kind = ((answer.header("content-type") if answer else "") or "").lower()
    if kind.startswith(LIFELESS):
        return True
    return alone and "javascript" in kind and is_file(main.exchanges[i].sent.url)


def holding(
    answers: Answers,
    values: Sequence[str],
    where: Sequence[int],
    progress: Progress = lambda share: None,
) -> list[set[int]]:
    """For each value, which of the answers `where` hold it in any of its spellings: one pass over
    each text.
    """
    found: list[set[int]] = [set() for _ in values]
    patterns: dict[str, list[tuple[int, bool]]] = {}
    for number, value in enumerate(values):
        if not value:
            continue
        long = len(value) >= 4
        for text in written(value) if long else framed(value):
            patterns.setdefault(text, []).append((number, long))
    if not patterns:
        return found
    texts = list(patterns)
    machine = ahocorasick_rs.AhoCorasick(
        texts, implementation=ahocorasick_rs.Implementation.DFA if len(texts) < 30_000 else None
    )
    for count, i in enumerate(where):
        body = answers.text(i)
        for haystack in (head_of(answers, i), body, _plain(body)):
            if not haystack:
                continue
            for index, start, end in machine.find_matches_as_indexes(haystack, overlapping=True):
                for number, alone in patterns[texts[index]]:
                    if i not in found[number] and (
                        not alone or whole(haystack, start, end - start)
                    ):
                        found[number].add(i)
        progress(0.15 + 0.4 * count / max(1, len(where)))
    return found


def _plain(text: str) -> str:
    """A text with its character references and escapes undone, if it has any ("" otherwise): a
    value may be written letter by letter.
    """
    if "&" in text and "&#" in text:  # one sign is found several times quicker than two
        return unescape(text)
    if "\\" in text and ("\\u00" in text or "\\x" in text):
        return ESCAPE.sub(_character, text)
    return ""


def _character(match: re.Match[str]) -> str:
    code = int(match.group(1) or match.group(2), 16)
    return "\ufffd" if 0xD800 <= code < 0xE000 else chr(code)  # half of a pair is no text


def framed(value: str) -> list[str]:
    """A short value only as a whole: a JSON scalar, an attribute, a part of an address, a text of
    an element.
    """
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
        f"={value}>",
        f"={value} ",
    ]


def head_of(main: Answers, i: int) -> str:
    answer = main.exchanges[i].answer
    return head_of_answer(answer) if answer is not None else ""


def head_of_answer(answer: Answer) -> str:
    """The headers that may issue something, a line each."""
    return "".join(
        f"{name}: {value}\n"
        for name, value in answer.headers
        if name.lower() in NOTABLE or name.lower() not in DULL
    )
