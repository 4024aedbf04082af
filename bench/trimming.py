"""Small recordings for the tests, made from what `./dynamikos bench real` recorded: only what
issues or carries values, without styles and scripts, and with made-up names. `python -m
bench.trimming FOLDER` writes one file an application.
"""

import json
import re
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from selectolax.lexbor import LexborHTMLParser
from tests.core.correlation.trimmed import exchanges_of

from bench.apps import ALL, App
from bench.scripting import score
from dynamikos.core.correlation import find_strands
from dynamikos.core.exchanges import Exchange, read_har, text_of
from dynamikos.core.exchanges.resources import is_static
from dynamikos.core.journeys.recorded_requests import unsupported

# names of other people's applications become plain words
NAMES = {
    "ihatemoney": "budget",
    "i hate money": "our budget",
    "an otter wiki": "our wiki",
    "otterwiki": "wiki",
    "otter": "page",
    "spirit": "forum",
    "piccolo": "office",
    "jupyter": "desk",
    "ipython": "desk",
    "lnbits": "purse",
    "lightning": "quick",
    "bitcoin": "coin",
    "satoshi": "coin",
    "dagster": "orders",
    "dagit": "orders",
    "django": "frame",
}
SENT = re.compile(r"content-type|cookie|authorization|x-|if-match|idempotency", re.I)
ANSWERED = re.compile(r"content-type|location|set-cookie|etag", re.I)
LONGEST, FEW = 160, 2


def main(folder: Path) -> None:
    from dynamikos.cli.state import State

    for app in ALL:
        name = app.name.split()[0]
        place = State.open().folder / "real" / name
        if not (place / "2.har").exists():
            continue
        recordings = [
            read_har((place / f"{number}.har").read_bytes()).exchanges for number in (1, 2)
        ]
        small = trimmed(app, recordings)
        found = [exchanges_of(each) for each in small]
        told = score(app, find_strands(found))
        text = json.dumps(
            {"issued": dict(app.issued), "recordings": small}, ensure_ascii=False, indent=1
        )
        print(f"{name}: {len(text) // 1000} kB, missed {told.missed}, wrong {told.wrong}")
        if not told.missed and not told.wrong:
            (folder / f"{name}.json").write_text(text + "\n")


def trimmed(app: App, recordings: Sequence[Sequence[Exchange]]) -> list[list[dict[str, Any]]]:
    """Each recording as plain values, in the words of `tests/core/correlation/trimmed.py`."""
    base = _origin(recordings[0][0])
    strands = [
        each
        for each in find_strands(recordings, origins=[base])
        if each.kind in ("issued", "typed")
    ]
    made = []
    for number, recording in enumerate(recordings):
        values = {each.values[number] for each in strands if len(each.values) > number}
        wanted = sorted(
            (value for value in values if value and len(value) > 1), key=len, reverse=True
        )
        rows = []
        for exchange in recording:
            if (
                _origin(exchange) != base
                or is_static(exchange)
                or unsupported(exchange)
                or exchange.answer is None
            ):
                continue
            rows.append(_row(exchange, wanted))
        made.append(json.loads(_plain(json.dumps(rows, ensure_ascii=False), base)))
    return made


def _origin(exchange: Exchange) -> str:
    parts = urlsplit(exchange.sent.url)
    return f"{parts.scheme}://{parts.netloc}"


def _row(exchange: Exchange, wanted: Sequence[str]) -> dict[str, Any]:
    answer = exchange.answer
    assert answer is not None
    kind = answer.header("content-type") or ""
    parts = urlsplit(exchange.sent.url)
    return {
        "at_ms": exchange.started_us // 1000,
        "method": exchange.sent.method,
        "path": parts.path + (f"?{parts.query}" if parts.query else ""),
        "headers": [[name, value] for name, value in exchange.sent.headers if SENT.match(name)],
        "body": _content(text_of(exchange.sent.body), "", wanted),
        "status": answer.status,
        "answered": [[name, value] for name, value in answer.headers if ANSWERED.match(name)],
        "content": _content(text_of(answer.body, kind), kind, wanted),
    }


def _content(text: str, kind: str, wanted: Sequence[str]) -> str:
    if text[:1] in ("{", "["):
        try:
            return json.dumps(_shorter(json.loads(text), wanted), ensure_ascii=False)
        except ValueError:
            return text
    if "html" not in kind:
        return text
    tree = LexborHTMLParser(text)
    for node in tree.css("svg, style, img, template"):
        node.decompose()
    for node in tree.css("script, link, meta, noscript, footer, body *"):
        html = node.html or ""
        if (
            "<form" not in html
            and "<input" not in html
            and not any(value in html for value in wanted)
        ):
            node.decompose()
    for node in tree.css("*"):
        for name in ("class", "style"):
            if name in node.attributes:
                del node.attrs[name]
    return re.sub(r"\s*\n\s*", "\n", re.sub(r"<!--.*?-->", "", tree.html or "", flags=re.S))


def _shorter(value: Any, wanted: Sequence[str]) -> Any:
    """Lists of a few, and short texts, but for what holds a wanted value."""
    if isinstance(value, list):
        kept = [
            each
            for each in value
            if any(text in json.dumps(each, ensure_ascii=False) for text in wanted)
        ]
        return [
            _shorter(each, wanted)
            for each in (*kept[:6], *[e for e in value if e not in kept][:FEW])
        ]
    if isinstance(value, dict):
        return {name: _shorter(each, wanted) for name, each in value.items()}
    if (
        isinstance(value, str)
        and len(value) > LONGEST
        and not any(text in value for text in wanted)
    ):
        return value[:LONGEST]
    return value


def _plain(text: str, base: str) -> str:
    """With made-up names, and no address but the application's own."""
    text = re.sub(re.escape(base), "http://app.example", text)
    text = re.sub(re.escape(base.partition("://")[2]), "app.example", text)
    text = re.sub(
        r"https?://(?!app\.example)[\w.:-]+\.[a-z]{2,}", "https://elsewhere.example", text
    )
    for name, word in NAMES.items():
        text = re.sub(name, word, text, flags=re.I)
    return text


if __name__ == "__main__":
    main(Path(sys.argv[1]))
