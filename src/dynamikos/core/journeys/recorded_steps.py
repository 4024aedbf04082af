"""Steps from a recording: which exchanges belong together, what a person would call them, what went
on by itself.
"""

import re
from bisect import bisect_left
from collections import Counter, defaultdict
from collections.abc import Collection, Sequence
from itertools import pairwise
from statistics import fmean, pstdev
from typing import NamedTuple
from urllib.parse import parse_qsl, urljoin, urlsplit

from selectolax.lexbor import LexborHTMLParser

from dynamikos.core.exchanges import Exchange, Recording, text_of
from dynamikos.core.exchanges.graphql import operation_of
from dynamikos.core.exchanges.model import redirect_of
from dynamikos.core.exchanges.resources import is_static
from dynamikos.core.journeys.background import said
from dynamikos.core.journeys.recorded_requests import Targets, spoken, unsupported, words_of

GAP_US = 1_000_000  # a pause this long within a page begins a new step
MOMENT_US = 500_000  # a person needs as long from what they see to a click
TOGETHER_US = 400_000  # what begins so soon one after the other has one cause
EVEN = 0.35  # standard deviation of a poll's intervals, of their mean
MOST_HTML = 1_000_000
BACK = 60  # so many exchanges before, the link that was clicked is looked for
Numbered = tuple[int, Exchange]


def origin_of(exchange: Exchange) -> str:
    parts = urlsplit(exchange.sent.url)
    return f"{parts.scheme}://{parts.netloc}"


def groups_of(
    recording: Recording, origins: Collection[str], background: Collection[int] = ()
) -> list[list[Numbered]]:
    """Exchanges to `origins`, step by step, as a person's clicks: a page that is loaded, something
    written a moment after what went before, or anything after a pause begins one, unless a redirect
    led there.

    What goes on in the `background` begins none.
    """
    groups: list[list[Numbered]] = []
    page = None
    begun = end = 0
    targets = Targets()
    for number, exchange in enumerate(recording.exchanges):
        if origin_of(exchange) not in origins:
            continue
        by_itself = is_static(exchange) or number in background
        pause = exchange.started_us - end >= GAP_US
        clicked = _writes(exchange) and exchange.started_us - begun >= MOMENT_US
        new_page = exchange.page != page or _navigates(exchange)
        redirected = targets.led_to(exchange)
        if not groups or ((new_page or pause or clicked) and not redirected and not by_itself):
            groups.append([])
        if not by_itself:
            page = exchange.page
        groups[-1].append((number, exchange))
        if number not in background:
            begun = exchange.started_us
            end = max(end, over_us(exchange))
    return groups


def over_us(exchange: Exchange) -> int:
    """When an exchange was over; a channel that stays open (WebSocket, server-sent events) keeps
    nobody waiting.
    """
    return exchange.started_us + (0 if unsupported(exchange) else exchange.timings.total_us)


def _writes(exchange: Exchange) -> bool:
    return exchange.sent.method not in ("GET", "HEAD", "OPTIONS")


def _navigates(exchange: Exchange) -> bool:
    """Whether a browser says that it loads a page (Fetch Metadata); where a recording lacks that,
    whether it asks for a page before all, and gets one.
    """
    sent = {name.lower(): value for name, value in exchange.sent.headers}
    fetched = {name: value for name, value in sent.items() if name.startswith("sec-fetch-")}
    if not fetched:
        asks = sent.get("accept", "").startswith("text/html") and "x-requested-with" not in sent
        return asks and exchange.sent.method == "GET" and _is_page(exchange)
    return (
        fetched.get("sec-fetch-mode") == "navigate" and fetched.get("sec-fetch-dest") == "document"
    )


def went_on(recording: Recording, origins: Collection[str]) -> dict[int, str]:
    """Numbers of exchanges that a page made by itself, with what is to be said of them: polls and
    saves by time.

    The same call (method, path, names of its fields) at least three times at even intervals,
    without a page loaded for it, is a poll; one that writes to one address again and again, a save.
    """
    calls: dict[tuple[object, ...], list[int]] = defaultdict(list)
    for number, exchange in enumerate(recording.exchanges):
        if origin_of(exchange) in origins and not is_static(exchange) and not _is_page(exchange):
            parts = urlsplit(exchange.sent.url)
            names = tuple(
                sorted({name for name, _ in parse_qsl(parts.query, keep_blank_values=True)})
            )
            calls[
                (exchange.sent.method, parts.netloc, parts.path, names, _operation_name(exchange))
            ].append(number)
    happenings = [
        (recording.exchanges[number].started_us, len(numbers))
        for numbers in calls.values()
        for number in numbers
    ]
    happenings += [(each.started_us, -1) for each in recording.exchanges if _is_page(each)]
    happenings.sort()
    found: dict[int, str] = {}
    for (method, *_), numbers in calls.items():
        if len(numbers) < 3:
            continue
        starts = [recording.exchanges[number].started_us for number in numbers]
        gaps = [after - before for before, after in pairwise(starts)]
        mean = fmean(gaps)
        if (
            mean < 200_000
            or pstdev(gaps) > EVEN * mean
            or _in_company(starts, len(numbers), happenings)
        ):
            continue
        operation = operation_of(recording.exchanges[numbers[0]].sent)
        asks = operation.kind == "query" if operation is not None else method in ("GET", "HEAD")
        found.update(dict.fromkeys(numbers, said(asks, mean / 1_000_000, len(numbers))))
    return found


class Page(NamedTuple):
    """What a page says of itself and of where it leads: `links` and `buttons` by the address they
    go to.
    """

    title: str
    heading: str
    links: dict[str, str]
    buttons: dict[str, str]


def page_of(exchange: Exchange) -> Page | None:
    """The page in an answer, None when that is none."""
    answer = exchange.answer
    if answer is None or "html" not in (answer.header("content-type") or "") or not answer.body:
        return None
    tree = LexborHTMLParser(text_of(answer.body[:MOST_HTML], answer.header("content-type") or ""))

    def first(selector: str) -> str:
        node = tree.css_first(selector)
        return _short(node.text()) if node is not None else ""

    links: dict[str, str] = {}
    for node in tree.css("a[href]"):
        links.setdefault(
            _absolute(exchange.sent.url, node.attributes.get("href") or ""), _short(node.text())
        )
    buttons: dict[str, str] = {}
    for form in tree.css("form"):
        button = form.css_first("button:not([type=button]):not([type=reset]), input[type=submit]")
        text = (button.attributes.get("value") or button.text()) if button is not None else ""
        if button is not None and button.tag == "button":
            text = button.text() or text
        address = _absolute(exchange.sent.url, form.attributes.get("action") or exchange.sent.url)
        buttons.setdefault(address.partition("?")[0], _short(text or ""))
    return Page(first("title"), first("h1"), links, buttons)


def titles_of(recording: Recording, groups: Sequence[Sequence[Numbered]]) -> list[str]:
    """What a person would call each step: what they clicked, the page they reached, else its
    address in words.

    A title that most pages share says nothing; names that come again are numbered.
    """
    pages = [page_of(exchange) for exchange in recording.exchanges]
    reached = [pages[n] if (n := _reached(group)) is not None else None for group in groups]
    counts = Counter(page.title for page in reached if page is not None and page.title)
    common = {title for title, count in counts.items() if count > 2 and count >= 0.8 * len(groups)}
    site = _common_end([title for title in counts if title not in common])
    made = []
    for group, page in zip(groups, reached, strict=True):
        number, first = group[0]
        said = _said_by(page, common, site)
        clicked = _clicked(pages[max(0, number - BACK) : number], first)
        if clicked and first.sent.method != "GET":
            said = clicked
        made.append((said or clicked or _in_words(first))[:80])
    return _numbered(made)


def _said_by(page: Page | None, common: set[str], site: str) -> str:
    """A page's title without what all titles of the site end with, else its heading."""
    if page is None:
        return ""
    title = "" if page.title in common else page.title.removesuffix(site).strip()
    return title or page.heading


def _operation_name(exchange: Exchange) -> str:
    operation = operation_of(exchange.sent)
    return operation.name if operation is not None else ""


def _is_page(exchange: Exchange) -> bool:
    fetched = {name.lower(): value for name, value in exchange.sent.headers}
    if fetched.get("sec-fetch-mode", "navigate") != "navigate" or "x-requested-with" in fetched:
        return False
    return exchange.answer is not None and "html" in (exchange.answer.header("content-type") or "")


def _in_company(starts: Sequence[int], often: int, happenings: Sequence[tuple[int, int]]) -> bool:
    """Whether calls that began at `starts` (µs) come with what a person did.

    Others, that don't come as often, begin with it most times; `happenings` are (begin, how often
    it comes) of all, in order of time.
    """
    near = 0
    for start in starts:
        low = bisect_left(happenings, (start - TOGETHER_US, -2))
        high = bisect_left(happenings, (start + TOGETHER_US, -2))
        near += any(count != often for _, count in happenings[low:high])
    return near > len(starts) / 2


def _reached(group: Sequence[Numbered]) -> int | None:
    """The number of the page that a step's first request leads to."""
    found = None
    wanted: str | None = group[0][1].sent.url
    for number, exchange in group:
        if wanted is not None and exchange.sent.url.partition("#")[0] == wanted.partition("#")[0]:
            found, wanted = number, redirect_of(exchange)
    return found


def _short(text: str) -> str:
    return " ".join(text.split())[:80]


def _absolute(here: str, address: str) -> str:
    try:
        return urljoin(here, address.strip()).partition("#")[0]
    except ValueError:
        return ""


def _common_end(titles: Sequence[str]) -> str:
    """What most titles end with after a dash or a bar: the application's name."""
    ends = Counter(
        found.group(0)
        for title in titles
        if (found := re.search(r"\s+[-–—|·:]\s+[^-–—|·]{2,60}\Z", title))
    )
    if not ends:
        return ""
    end, count = ends.most_common(1)[0]
    return end if count > 1 and count >= len(titles) / 2 else ""


def _clicked(before: Sequence[Page | None], exchange: Exchange) -> str:
    """The text of the link or of the form's button on a page before that leads to this request."""
    url = exchange.sent.url.partition("#")[0]
    for page in reversed(before):
        if page is None:
            continue
        text = (
            page.links.get(url)
            if exchange.sent.method == "GET"
            else page.buttons.get(url.partition("?")[0])
        )
        if text:
            return text
    return ""


def _in_words(exchange: Exchange) -> str:
    operation = operation_of(exchange.sent)
    if operation is not None and operation.name:
        return words_of(operation.name).capitalize()
    path = " ".join(spoken(urlsplit(exchange.sent.url).path)) or "front page"
    words = re.sub(r"[-_/.]+", " ", path).strip()[:60]
    return (
        f"{exchange.sent.method.capitalize()} " if exchange.sent.method != "GET" else "Open "
    ) + words


def _numbered(names: Sequence[str]) -> list[str]:
    counts: Counter[str] = Counter()
    made = []
    for name in names:
        counts[name] += 1
        made.append(name if counts[name] == 1 else f"{name} ({counts[name]})")
    return made
