"""Failures that share a value which others don't."""

from collections import Counter, defaultdict
from collections.abc import Iterator, Sequence

from scipy.special import bdtrc

from dynamikos.core.analysis.evidence import Evidence, Found
from dynamikos.core.analysis.findings.blocks import LEAST
from dynamikos.core.figures import odds
from dynamikos.core.reports import KeptExchange

FEWEST, DIFFERENT = 5, 3  # failures, and values that were dealt
MOSTLY, SELDOM = 0.8, 0.3  # parts: of the failures that have the value, and of what was dealt
TIMES = 3.0  # as often as with other values


def by_value(evidence: Evidence) -> Iterator[Found]:
    """Failures that share a value which others don't: of dealt columns as they were counted, of all
    else by kept exchanges.
    """
    told = set()
    for found in _counted(evidence):
        told.add((found.step, found.request))
        yield found
    yield from (each for each in _kept(evidence) if (each.step, each.request) not in told)


MEANS, TRY = (
    "It is the value, not the load alone.",
    "Try that value by hand; look at what the server knows of it.",
)


def _counted(evidence: Evidence) -> Iterator[Found]:
    """By what every generator counted of every failure: failed of dealt, of a value against all
    others, since the begin of the run (rows that were dealt before the measured part are used in
    it).
    """
    tests = max(
        1, sum(each.different for each in {(e.asked, e.name): e for e in evidence.failing}.values())
    )
    seen = set()
    for each in evidence.failing:
        if each.asked in seen or not each.value or each.different < DIFFERENT:
            continue
        rest = each.dealt_in_all - each.dealt
        if each.of < FEWEST or each.failed < FEWEST or not each.dealt or not rest:
            continue
        own_rate, rate = each.failed / each.dealt, (each.of - each.failed) / rest
        if own_rate < TIMES * rate:
            continue
        chance = float(bdtrc(each.failed - 1, each.of, each.part_dealt))
        if chance > LEAST / tests:
            continue
        seen.add(each.asked)
        journey, step, request = each.asked
        yield Found(
            rule="failures-by-value",
            about="target",
            sentence=f"{request} fails where {each.name} is “{each.value[:80]}”: {each.failed:,} "
            "times of"
            f" {each.dealt:,} that it was dealt, all other values {each.of - each.failed:,} of "
            f"{rest:,}.",
            means=MEANS,
            try_=TRY,
            journey=journey,
            step=step,
            request=request,
            evidence={"value": each.value[:80], "by chance": odds(chance)},
        )


def _kept(evidence: Evidence) -> Iterator[Found]:
    kept = [each for each in evidence.kept if not each.item and not each.resource]
    by_request: dict[tuple[str, str], list[KeptExchange]] = defaultdict(list)
    for each in kept:
        by_request[each.step, each.request].append(each)
    for here in by_request.values():
        for kind, n in Counter(each.failure for each in here if each.failure).items():
            if n >= FEWEST:
                failed = [each for each in here if each.failure == kind]
                yield from _of_kind(kind, failed, here)


def _of_kind(
    kind: str, failed: Sequence[KeptExchange], here: Sequence[KeptExchange]
) -> Iterator[Found]:
    """The first name whose value nearly all failures share, and hardly any that passed."""
    # failures are kept from the first on, and only so many: what passed is of the same seconds
    first, last = min(each.second for each in failed), max(each.second for each in failed)
    passed = [e for e in here if not e.failure and first <= e.second <= last]
    step, request, n = failed[0].step, failed[0].request, len(failed)
    for name in sorted({name for each in failed for name in {**each.before, **each.variables}}):
        value, count = Counter(_values(failed, name)).most_common(1)[0]
        if not value or count < MOSTLY * n or len(value) > 200 or "•" in value:
            continue
        known = [each for each in _values(passed, name) if each]
        if len(known) < FEWEST or len(set(known)) < DIFFERENT:
            continue
        same = known.count(value)
        if same > SELDOM * len(known):
            continue
        yield Found(
            rule="failures-by-value",
            about="target",
            sentence=f"{request} fails ({kind}) where {name} is “{value}”: {count} of {n} kept "
            f"failures, {same} of {len(known)} that passed.",
            means=MEANS,
            try_=TRY,
            step=step,
            request=request,
            evidence={"value": value[:80]},
        )
        return


def _values(exchanges: Sequence[KeptExchange], name: str) -> list[str]:
    """What each was sent with."""
    return [{**each.variables, **each.before}.get(name, "") for each in exchanges]
