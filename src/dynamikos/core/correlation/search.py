"""The search: every value a client sends, where it first appeared, of what kind it is, how it can be captured, and the
proof.
"""

import re
from collections import defaultdict
from collections.abc import Iterable, Sequence
from difflib import SequenceMatcher
from urllib.parse import urlsplit

from msgspec.structs import replace

from dynamikos.core.captures import compile_finder
from dynamikos.core.correlation import looks
from dynamikos.core.correlation.align import align
from dynamikos.core.correlation.answers import Answers
from dynamikos.core.correlation.found import Found, entry_of
from dynamikos.core.correlation.kinds import judge, judge_rest, mark_typed, visible_fields, without_parts
from dynamikos.core.correlation.model import Origin, Rule, Strand, Use
from dynamikos.core.correlation.offers import Offer, Seen, offers
from dynamikos.core.correlation.origins import Progress, fill_hits
from dynamikos.core.correlation.sites import Site, sites_of
from dynamikos.core.exchanges import Exchange, hosts_of
from dynamikos.core.exchanges.model import redirect_of

TRIES = 6


def own_origins(exchanges: Sequence[Exchange]) -> set[str]:
    """Origins of the application: the first page's own site, whoever it redirects to, and those it signs requests for
    or sends JSON to.
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
    """All values sent in the first of `recordings` (of one journey), with kind, origin, captures and uses, best first.

    Only exchanges with `origins` are looked at (the recording's own site if not given). `progress` is told the share
    done and may raise to cancel. Indices in the result are the exchanges' `entry` where they have one.
    """
    main = answers_of(recordings[0], origins)
    others = [answers_of(each, origins) for each in recordings[1:]]
    maps = [map_of(main, other) for other in others]
    again = answers_of(rehearsal, origins) if rehearsal is not None else None
    again_map = map_of(main, again) if again is not None else {}
    progress(0.05)
    found = _groups(main, others, maps)
    progress(0.15)
    ruled = {looks.joined(rule.name): rule for rule in rules}
    wanted = [
        each
        for each in found
        if _worth(each, again is not None) or any(looks.joined(name) in ruled for name in each.names)
    ]
    fill_hits(main, wanted, progress)
    explained: set[tuple[int, str]] = set()
    for number, each in enumerate(sorted(wanted, key=_depth)):
        if all((site.entry, site.outer) in explained for site in each.sites if site.outer) and any(
            s.outer for s in each.sites
        ):
            each.sites = [site for site in each.sites if not site.outer] or each.sites
        _prove(each, main, others, maps, again, again_map)
        rule = next((ruled[looks.joined(name)] for name in each.names if looks.joined(name) in ruled), None)
        judge(each, main, others, maps, rule)
        if each.kind == "issued":
            explained.update((site.entry, site.place) for site in each.sites)
        if number % 20 == 0:
            progress(0.55 + 0.4 * number / max(1, len(wanted)))
    for each in found:
        if not each.reasons:
            judge_rest(each, main)
    kept = without_parts(found, explained)
    typed = visible_fields(main)
    for each in kept:
        mark_typed(each, typed)
    dropped = {name for name, rule in ruled.items() if rule.ignore}
    kept = [each for each in kept if not any(looks.joined(name) in dropped for name in each.names)]
    progress(1.0)
    return _strands(kept, main)


def answers_of(exchanges: Sequence[Exchange], origins: Iterable[str] | None) -> Answers:
    wanted = set(origins) if origins is not None else own_origins(exchanges)
    return Answers(exchanges, [i for i, each in enumerate(exchanges) if _origin(each.sent.url) in wanted])


def map_of(main: Answers, other: Answers) -> dict[int, int]:
    """Positions of requests in the first recording → positions in another."""
    found = align([main.exchanges[i] for i in main.ours], [other.exchanges[i] for i in other.ours])
    return {main.ours[a]: other.ours[b] for a, b in found.items()}


def _depth(each: Found) -> tuple[int, int]:
    """Wholes before their parts; then in the order of the answers they are found in, so that each is parsed once."""
    return min(site.place.count(", ") for site in each.sites), each.hits[0] if each.hits else each.first


# sites of all recordings, put together -----------------------------------------------------------------------


def _groups(main: Answers, others: Sequence[Answers], maps: Sequence[dict[int, int]]) -> list[Found]:
    groups: dict[tuple[object, ...], Found] = {}
    for i in main.ours:
        sites = sites_of(main.exchanges[i], i)
        if not sites:
            continue
        there = []
        for other, mapped in zip(others, maps, strict=True):
            j = mapped.get(i)
            there.append({site.place: site.value for site in sites_of(other.exchanges[j], j)} if j is not None else {})
        extra = [site for site in sites if not site.outer or site.coding != "part"]
        for site in sites:
            values = (site.value, *(each.get(site.place) for each in there))
            if site.coding == "part" and (all(v is None or v == site.value for v in values[1:]) and any(values[1:])):
                continue  # a part that stays the same says nothing
            _into(groups, site, values)
        for site in extra:
            values = (site.value, *(each.get(site.place) for each in there))
            for part in _parts(site, values):
                _into(groups, *part)
    return _merged(list(groups.values()))


def _into(groups: dict[tuple[object, ...], Found], site: Site, values: tuple[str | None, ...]) -> None:
    alone = all(value is None for value in values[1:])
    short = alone and len(site.value) < 6 and not looks.generated(site.value)
    key: tuple[object, ...] = (*values, tuple(looks.words(site.name)) if short else ())
    known = groups.get(key)
    if known is None:
        known = groups[key] = Found(values, [])
    if site not in known.sites:
        known.sites.append(site)


def _parts(site: Site, values: tuple[str | None, ...]) -> Iterable[tuple[Site, tuple[str | None, ...]]]:
    """Words inside of a longer text that differ between recordings (or, with one recording, look made by a machine)."""
    if len(site.value) < 6:
        return
    mixed = re.search(r"[^\w.~+/=%-]", site.value) is not None
    if not mixed and (all(value is None or value == site.value for value in values[1:]) or looks.as_date(site.value)):
        return
    piece_of = r"[\w.~+/=%-]+" if mixed else r"[A-Za-z0-9]+"
    pieces = [re.findall(piece_of, value) if value is not None else None for value in values]
    first = pieces[0] or []
    if len(first) > 4000:
        return
    others = [_matched(first, each) if each is not None else [None] * len(first) for each in pieces[1:]]
    for number, piece in enumerate(first):
        rest = [each[number] for each in others]
        tells = any(other is not None and other != piece for other in rest) or (
            all(other is None for other in rest) and (looks.generated(piece) or (piece.isdigit() and len(piece) >= 5))
        )
        if tells and len(piece) >= (2 if mixed else 4):
            lead = first[number - 1] if number else site.name
            yield Site(site.entry, f"{site.place}, word {number}", lead, piece, "part", site.place), (piece, *rest)


def _matched(first: Sequence[str], other: Sequence[str]) -> list[str | None]:
    """The word of `other` that stands for each of `first`, None where it has none: by number, or by what stands around
    it.
    """
    if len(first) == len(other):
        return list(other)
    made: list[str | None] = [None] * len(first)
    if max(len(first), len(other)) > 1500:
        return made
    for _, a, b, c, d in SequenceMatcher(None, first, other, autojunk=False).get_opcodes():
        if b - a == d - c:
            made[a:b] = other[c:d]
    return made


def _merged(found: list[Found]) -> list[Found]:
    """Requests that only the first recording has join the one value they agree with."""
    by_value: dict[str, list[Found]] = defaultdict(list)
    for each in found:
        by_value[each.value].append(each)
    kept: list[Found] = []
    for each in found:
        alike = by_value[each.value]
        if len(alike) > 1 and len(each.value) >= 4:
            each.sent_before = min(site.entry for other in alike for site in other.sites)
            known = sum(value is not None for value in each.values)
            fitting = [
                other for other in alike if sum(v is not None for v in other.values) > known and _agree(each, other)
            ]
            if len(fitting) == 1:
                fitting[0].sites.extend(each.sites)
                fitting[0].sites.sort(key=lambda site: site.entry)
                continue
        kept.append(each)
    return kept


def _agree(one: Found, other: Found) -> bool:
    return all(a is None or b is None or a == b for a, b in zip(one.values, other.values, strict=True))


def _worth(each: Found, rehearsed: bool) -> bool:
    """Whether the answers are worth searching for it."""
    value = each.value
    if each.differs:
        return True
    if not rehearsed and all(site.static for site in each.sites):
        return False
    telling = looks.generated(value) or any(looks.secret_name(name) or looks.id_name(name) for name in each.names)
    numbers = value.isdigit() and any(site.place.startswith("path") for site in each.sites)
    numbers = numbers or (value.isdigit() and len(value) >= 5)
    mixed = bool(re.search(r"\d", value) and re.search(r"[A-Za-z]", value)) and len(value) >= 4 and " " not in value
    if each.known:
        return rehearsed and (telling or numbers or mixed)
    return telling or numbers or mixed


# proof -----------------------------------------------------------------------------------------------------------


def _prove(
    each: Found,
    main: Answers,
    others: Sequence[Answers],
    maps: Sequence[dict[int, int]],
    again: Answers | None,
    again_map: dict[int, int],
) -> None:
    """Fills `offers`, `origin` and `proven` from the earliest answer that proves the value."""
    fallback: tuple[int, list[Offer]] | None = None
    small = len(each.value) < 3
    chosen: tuple[int, list[Offer]] | None = None
    for i in [hit for hit in each.hits if hit < each.first][:TRIES]:
        seen: list[Seen] | None = []
        for other, mapped, value in zip(others, maps, each.values[1:], strict=True):
            if value is None:
                continue
            j = mapped.get(i)
            if j is None:
                seen = None
                break
            assert seen is not None
            seen.append(Seen(other.view(j), value))
        made = offers(main, i, each.value, each.names, seen or [])
        if seen is None:
            made = [offer._replace(proven=False) for offer in made if not offer.chosen]
        if not made:
            fallback = fallback or (i, [])
            continue
        if made[0].proven and (not small or made[0].alike >= 0.5):
            if made[0].chosen:
                chosen = chosen or (i, made)
                continue
            each.origin, each.offers, each.proven = i, made, True
            break
        if fallback is None or not fallback[1]:
            fallback = (i, [offer._replace(proven=False) for offer in made if not offer.chosen])
    if not each.proven and chosen is not None:
        each.origin, each.offers = chosen
        each.proven = True
    if not each.proven and fallback is not None:
        each.origin, each.offers = fallback
    if again is not None and each.origin >= 0 and again_map.get(each.origin) is not None:
        _rehearsed(each, main, again, again_map[each.origin])


def _rehearsed(each: Found, main: Answers, again: Answers, j: int) -> None:
    """Whether the server issued another value in the rehearsal: asks each capture there, and
    keeps those that find one.
    """
    before, after = main.view(each.origin), again.view(j)
    if before.status // 100 != after.status // 100:
        return
    kept = []
    for offer in each.offers:
        value = next(compile_finder(offer.capture)(after), None)
        if value is None:
            continue
        kept.append(offer)
        if not each.rehearsed:
            each.rehearsed = "same" if value == each.value else "differs"
    if kept:
        each.offers = kept
    elif each.offers:
        each.rehearsed = ""


# results -----------------------------------------------------------------------------------------------------------


def _score(each: Found) -> float:
    alike = each.offers[0].alike if each.offers else 0.0
    telling = any(looks.secret_name(name) or looks.id_name(name) for name in each.names)
    score = (
        0.2 * (each.origin >= 0)
        + 0.3 * (each.differs or each.rehearsed == "differs")
        + 0.2 * each.proven
        + 0.08 * alike
        + 0.05 * telling
    )
    score += 0.12 if looks.generated(each.value) else 0.05 * (len(each.value) >= 4)
    score += 0.05 * (len(each.sites) > 1)
    if each.kind != "issued":
        score *= 0.3
    elif each.offers and each.offers[0].chosen:
        score *= 0.85
    return round(min(1.0, score), 2)


def _strands(found: Sequence[Found], main: Answers) -> list[Strand]:
    strands: list[Strand] = []
    taken: set[str] = set()
    ordered = sorted(found, key=lambda each: (each.kind != "issued", not each.proven, -_score(each), each.first))
    for each in ordered:
        name = name_of(each, taken)
        taken.add(name)
        followed = all(main.followed(site.entry) for site in each.sites)
        if each.kind == "issued" and followed:
            each.reasons.append("is only sent where a redirect leads to: the engine follows it by itself")
        captures = (
            tuple(dict.fromkeys(replace(offer.capture, name=name) for offer in each.offers))
            if each.kind == "issued"
            else ()
        )
        origin = None
        if each.origin >= 0 and each.kind == "issued":
            place = each.offers[0].place if each.offers else "body"
            origin = Origin(entry=entry_of(main, each.origin), place=place)
        strands.append(
            Strand(
                name=name,
                value=each.value,
                kind=each.kind,
                score=_score(each),
                proven=each.kind == "issued" and each.proven,
                reasons=tuple(each.reasons),
                origin=origin,
                captures=captures,
                pattern=each.pattern,
                values=each.values,
                followed=followed,
                uses=tuple(
                    Use(
                        entry=entry_of(main, site.entry),
                        place=site.place,
                        coding=site.coding,
                        context=context_of(main, site),
                    )
                    for site in each.sites
                ),
            )
        )
    return strands


def context_of(main: Answers, site: Site) -> str:
    sent = main.exchanges[site.entry].sent
    text = f"{sent.method} {urlsplit(sent.url).path}"
    return text if len(text) < 100 else text[:97] + "…"


def name_of(each: Found, taken: set[str]) -> str:
    """A short plain name: the field's, or for a bare "id" that of what it belongs to."""
    candidates = [list(looks.words(name)) for name in each.names if looks.words(name)]
    candidates = [[word for word in words if word != "x"] or words for words in candidates]
    best = next(
        (words for words in candidates if not set(words) <= looks.ID_NAMES), candidates[0] if candidates else []
    )
    if (not best or set(best) <= looks.ID_NAMES) and each.offers:
        told = re.findall(r"[A-Za-z_][\w-]*", each.offers[0].place)
        parent = [word for part in told[-2:] for word in looks.words(part)]
        if parent and not set(parent) <= looks.ID_NAMES:
            best = parent
    if (
        all(site.place.startswith("path") and "," not in site.place for site in each.sites)
        and best
        and not looks.id_name("_".join(best))
    ):
        last = best[-1]
        best = [*best[:-1], last[:-1] if len(last) > 3 and last.endswith("s") else last, "id"]
    base = re.sub(r"[^a-z0-9_]", "", "_".join(best[:4])) or "value"
    base = base if base[0].isalpha() else f"v_{base}"
    name, number = base[:40], 2
    while name in taken:
        name, number = f"{base[:40]}_{number}", number + 1
    return name
