"""The search: every value a client sends, where it first appeared, of what kind it is, how it can
be captured, and the proof.
"""

from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from urllib.parse import urlsplit

from dynamikos.core.correlation import value_shapes as shapes
from dynamikos.core.correlation.align import align
from dynamikos.core.correlation.answers import Answers
from dynamikos.core.correlation.beyond import with_names
from dynamikos.core.correlation.computed import with_computed
from dynamikos.core.correlation.digests import with_digests
from dynamikos.core.correlation.field_names import with_field_names
from dynamikos.core.correlation.found import Found
from dynamikos.core.correlation.groups import groups, renamed, worth_searching
from dynamikos.core.correlation.kinds import judge, judge_rest, without_parts
from dynamikos.core.correlation.model import Rule, Strand
from dynamikos.core.correlation.origins import Progress, fill_hits
from dynamikos.core.correlation.parting import parted, rejoined
from dynamikos.core.correlation.proof import prove
from dynamikos.core.correlation.results import strands_of
from dynamikos.core.correlation.typed import (
    lexicons,
    mark_echoes,
    mark_typed,
    mark_words,
    visible_fields,
)
from dynamikos.core.correlation.unreplayed import with_unreplayed
from dynamikos.core.exchanges import Exchange, hosts_of
from dynamikos.core.exchanges.model import redirect_of


def own_origins(exchanges: Sequence[Exchange]) -> set[str]:
    """Origins of the application: the first page's own site, whoever it redirects to, and those it
    signs requests for or sends JSON to.
    """
    found = {row.origin for row in hosts_of(exchanges) if row.ours}
    talks: dict[str, int] = defaultdict(int)
    for exchange in exchanges:
        kind = (exchange.answer.header("content-type") or "") if exchange.answer else ""
        if "json" in kind and exchange.answer is not None and len(exchange.answer.body) > 20:
            names = {name.lower() for name, _ in exchange.sent.headers}
            talks[_origin(exchange.sent.url)] += (
                2 if "authorization" in names or exchange.sent.method not in ("GET", "POST") else 1
            )
    found.update(origin for origin, weight in talks.items() if weight >= 2)
    for exchange in exchanges:
        target = redirect_of(exchange)
        here, there = _origin(exchange.sent.url), _origin(target) if target else ""
        if there and (here in found or there in found):
            found.update((here, there))
    return found


def _origin(url: str) -> str:
    parts = urlsplit(url)
    return f"{parts.scheme}://{parts.netloc}"


def find_strands(
    recordings: Sequence[Sequence[Exchange]],
    *,
    rehearsal: Sequence[Exchange] | None = None,
    origins: Iterable[str] | None = None,
    rules: Sequence[Rule] = (),
    progress: Progress = lambda share: None,
) -> list[Strand]:
    """All values sent in the first of `recordings` (of one journey), with kind, origin, captures
    and uses, best first.

    Only exchanges with `origins` are looked at (the recording's own site if not given). `progress`
    is told the share done and may raise to cancel. Indices in the result are the exchanges' `entry`
    where they have one.
    """
    origins = list(origins) if origins is not None else None
    main = answers_of(recordings[0], origins)
    others = [answers_of(each, origins) for each in recordings[1:]]
    maps, found = _aligned(main, others)
    again = answers_of(rehearsal, origins) if rehearsal is not None else None
    progress(0.15)
    ruled = _Ruled(rules)
    visible = visible_fields(main)
    wanted = _wanted(found, main, ruled, visible, len(recordings), rehearsed=again is not None)
    wanted, found = parted(wanted, found, visible)
    main.moving = frozenset(each.value for each in wanted if _moves(each))
    fill_hits(main, wanted, progress, others, maps)
    explained = _decided(wanted, main, others, maps, again, ruled, progress)
    found = rejoined(found, main, others, maps)
    for each in found:
        if not each.reasons:
            judge_rest(each, main)
    kept = without_parts(found, explained)
    for each in kept:
        mark_typed(each, visible)
    kept = [each for each in kept if not ruled.ignores(each)]
    progress(1.0)
    made = with_field_names(strands_of(kept, main), main, others, maps)
    made = with_digests(with_computed(made), main.exchanges)
    ours = set(origins) if origins is not None else own_origins(recordings[0])
    return with_names(with_unreplayed(made, main.exchanges, ours))


class _Ruled:
    """What the project's rules say of values, by the names they are sent under."""

    def __init__(self, rules: Sequence[Rule]) -> None:
        self._rules = {shapes.joined(rule.name): rule for rule in rules}

    def of(self, each: Found) -> Rule | None:
        """The rule of the first name that has one."""
        known = (self._rules.get(shapes.joined(name)) for name in each.names)
        return next((rule for rule in known if rule is not None), None)

    def ignores(self, each: Found) -> bool:
        """Whether a rule of any name says that it is of no interest."""
        known = (self._rules.get(shapes.joined(name)) for name in each.names)
        return any(rule is not None and rule.ignore for rule in known)


def _wanted(
    found: list[Found],
    main: Answers,
    ruled: _Ruled,
    visible: set[str],
    recordings: int,
    *,
    rehearsed: bool,
) -> list[Found]:
    """What is searched for in the answers: values that may change, and that are no person's words;
    those of a rule always.
    """
    ruled_ones = {id(each) for each in found if ruled.of(each) is not None}
    wanted = [each for each in found if worth_searching(each, rehearsed) or id(each) in ruled_ones]
    mark_echoes(wanted, found, visible)
    mark_words(wanted, lexicons(found, visible, recordings), visible, main)
    return [each for each in wanted if not each.reasons or id(each) in ruled_ones]


def _moves(each: Found) -> bool:
    """Whether another visit has another value there, so that no capture may lean on it."""
    return each.differs and (each.value.isdigit() or len(each.value) >= 4)


def _decided(
    wanted: Sequence[Found],
    main: Answers,
    others: Sequence[Answers],
    maps: Sequence[dict[int, int]],
    again: Answers | None,
    ruled: _Ruled,
    progress: Progress,
) -> set[tuple[int, str]]:
    """Proves and judges each, wholes before their parts: a part is only looked for at the sites
    whose whole is not explained. Returns the (entry, place) that are.
    """
    again_map = map_of(main, again) if again is not None else {}
    explained: set[tuple[int, str]] = set()
    for number, each in enumerate(sorted(wanted, key=_depth)):
        inner = [site for site in each.sites if site.outer]
        if inner and all((site.entry, site.outer) in explained for site in inner):
            each.sites = [site for site in each.sites if not site.outer] or each.sites
        prove(each, main, others, maps, again, again_map)
        judge(each, main, others, maps, ruled.of(each))
        if each.kind == "issued":
            explained.update((site.entry, site.place) for site in each.sites)
        if number % 20 == 0:
            progress(0.55 + 0.4 * number / max(1, len(wanted)))
    return explained


def _aligned(main: Answers, others: Sequence[Answers]) -> tuple[list[dict[int, int]], list[Found]]:
    """Positions of requests in each other recording, and the values put together by them.

    What differs where requests surely are the same tells more requests apart: `/lantern/` here is
    `/ladder/` there.
    """
    maps = [map_of(main, other) for other in others]
    found = groups(main, others, maps)
    names = [renamed(found, number) for number in range(1, len(others) + 1)]
    if any(names):
        better = [map_of(main, other, known) for other, known in zip(others, names, strict=True)]
        if better != maps:
            return better, groups(main, others, better)
    return maps, found


def answers_of(exchanges: Sequence[Exchange], origins: Iterable[str] | None) -> Answers:
    wanted = set(origins) if origins is not None else own_origins(exchanges)
    return Answers(
        exchanges, [i for i, each in enumerate(exchanges) if _origin(each.sent.url) in wanted]
    )


def map_of(main: Answers, other: Answers, known: Mapping[str, str] | None = None) -> dict[int, int]:
    """Positions of requests in the first recording → positions in another.

    `known`: words of the other → those of the first.
    """
    found = align(
        [main.exchanges[i] for i in main.ours], [other.exchanges[i] for i in other.ours], known
    )
    return {main.ours[a]: other.ours[b] for a, b in found.items()}


def _depth(each: Found) -> tuple[int, int]:
    """Wholes before their parts; then in the order of the answers they are found in, so that each
    is parsed once.
    """
    outermost = min(site.place.count(", ") for site in each.sites)
    return outermost, each.hits[0] if each.hits else each.first
