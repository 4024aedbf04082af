"""Groups: what is sent at the same places of all recordings, put together as one value."""

import re
from collections import defaultdict
from collections.abc import Iterable, Sequence
from difflib import SequenceMatcher

from dynamikos.core.correlation import value_shapes as shapes
from dynamikos.core.correlation.answers import Answers
from dynamikos.core.correlation.found import Found
from dynamikos.core.correlation.sites import Site, sites_of


def groups(main: Answers, others: Sequence[Answers], maps: Sequence[dict[int, int]]) -> list[Found]:
    """Every value of the first recording with what stands at its places in the others (`maps`:
    positions there).
    """
    made: dict[tuple[object, ...], Found] = {}
    for i in main.ours:
        sites = sites_of(main.exchanges[i], i)
        if not sites:
            continue
        there = []
        for other, mapped in zip(others, maps, strict=True):
            j = mapped.get(i)
            there.append(
                {site.place: site.value for site in sites_of(other.exchanges[j], j)}
                if j is not None
                else {}
            )
        extra = [site for site in sites if not site.outer or site.coding != "part"]
        for site in sites:
            values = (site.value, *(each.get(site.place) for each in there))
            if site.coding == "part" and (
                all(v is None or v == site.value for v in values[1:]) and any(values[1:])
            ):
                continue  # a part that stays the same says nothing
            _into(made, site, values)
        for site in extra:
            values = (site.value, *(each.get(site.place) for each in there))
            for part in _parts(site, values):
                _into(made, *part)
    return _merged(list(made.values()))


def _into(
    made: dict[tuple[object, ...], Found], site: Site, values: tuple[str | None, ...]
) -> None:
    alone = all(value is None for value in values[1:])
    short = alone and len(site.value) < 6 and not shapes.generated(site.value)
    key: tuple[object, ...] = (*values, tuple(shapes.words(site.name)) if short else ())
    known = made.get(key)
    if known is None:
        known = made[key] = Found(values, [])
    if site not in known.sites:
        known.sites.append(site)


def _parts(
    site: Site, values: tuple[str | None, ...]
) -> Iterable[tuple[Site, tuple[str | None, ...]]]:
    """Words inside of a longer text that differ between recordings (or, with one recording, look
    made by a machine).
    """
    if len(site.value) < 6:
        return
    mixed = re.search(r"[^\w.~+/=%-]", site.value) is not None
    if not mixed and (not _differ(site.value, values[1:]) or shapes.as_date(site.value)):
        return
    piece_of = r"[\w.~+/=%-]+" if mixed else r"[A-Za-z0-9]+"
    pieces = [re.findall(piece_of, value) if value is not None else None for value in values]
    first = pieces[0] or []
    if len(first) > 4000:
        return
    nothing: list[str | None] = [None] * len(first)
    others = [_matched(first, each) if each is not None else nothing for each in pieces[1:]]
    shortest = 2 if mixed else 4
    for number, piece in enumerate(first):
        rest = [each[number] for each in others]
        if len(piece) >= shortest and (_differ(piece, rest) or _looks_made(piece, rest)):
            lead = first[number - 1] if number else site.name
            place = f"{site.place}, word {number}"
            yield Site(site.entry, place, lead, piece, "part", site.place), (piece, *rest)


def _differ(value: str, others: Sequence[str | None]) -> bool:
    """Whether another recording has another value."""
    return any(other is not None and other != value for other in others)


def _looks_made(piece: str, others: Sequence[str | None]) -> bool:
    """Whether a machine seems to have made what no other recording can be compared for."""
    if any(other is not None for other in others):
        return False
    return shapes.generated(piece) or (piece.isdigit() and len(piece) >= 5)


def _matched(first: Sequence[str], other: Sequence[str]) -> list[str | None]:
    """The word of `other` that stands for each of `first`, None where it has none: by number, or by
    what stands around it.
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
        fitting: list[Found] = []
        if len(alike) > 1:
            fitting = _like_short(each, alike) if len(each.value) < 4 else _like_long(each, alike)
        if len(fitting) == 1:
            fitting[0].sites.extend(each.sites)
            fitting[0].sites.sort(key=lambda site: site.entry)
        else:
            kept.append(each)
    return kept


def _like_short(each: Found, alike: Sequence[Found]) -> list[Found]:
    """Those that a short value, which stands in many places by chance, may be: sent at the same
    places under the same names.
    """
    if each.known:
        return []
    mine = {(site.place, site.name) for site in each.sites}
    return [o for o in alike if o.known and mine <= {(site.place, site.name) for site in o.sites}]


def _like_long(each: Found, alike: Sequence[Found]) -> list[Found]:
    """Those that agree with a value and are known of more recordings."""
    agreeing = [other for other in alike if _agree(each, other)]
    each.sent_before = min(site.entry for other in agreeing for site in other.sites)
    known = sum(value is not None for value in each.values)
    return [o for o in agreeing if sum(value is not None for value in o.values) > known]


def _agree(one: Found, other: Found) -> bool:
    return all(
        a is None or b is None or a == b for a, b in zip(one.values, other.values, strict=True)
    )


def worth_searching(each: Found, rehearsed: bool) -> bool:
    """Whether the answers are worth searching for it."""
    if each.differs:
        return True
    if not rehearsed and (each.known or all(site.static for site in each.sites)):
        return False
    return _tells(each)


def _tells(each: Found) -> bool:
    """Whether a value may be one of a server's by its look, its name or its place."""
    value = each.value
    if shapes.generated(value):
        return True
    if any(shapes.secret_name(name) or shapes.id_name(name) for name in each.names):
        return True
    if value.isdigit():
        return len(value) >= 5 or any(site.place.startswith("path") for site in each.sites)
    has_both = bool(re.search(r"\d", value) and re.search(r"[A-Za-z]", value))
    return has_both and len(value) >= 4 and " " not in value


def renamed(found: Sequence[Found], number: int) -> dict[str, str]:
    """Words sent in the other recording → what the first one sends there, where that is one and the
    same everywhere.
    """
    made: dict[str, set[str]] = defaultdict(set)
    for each in found:
        there = each.values[number]
        if there and there != each.value and len(there) >= 3 and re.fullmatch(r"[\w.~-]+", there):
            made[there].add(each.value)
    return {there: next(iter(here)) for there, here in made.items() if len(here) == 1}
