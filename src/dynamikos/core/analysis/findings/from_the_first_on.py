"""A request that never worked, or hardly ever: the script, not the server's speed."""

from collections.abc import Iterator

from dynamikos.core.analysis.evidence import Evidence, Found, name_of

TRIES, NEVER = 10, 0.05  # failures at least, and the part that passed at most


def from_the_first_on(evidence: Evidence) -> Iterator[Found]:
    """A request that never worked, or hardly ever: the script, not the server's speed."""
    for line in evidence.requests():
        passed, failed = float(line.passed.sum()), float(line.failed.sum())
        if failed < TRIES or passed > NEVER * (passed + failed):
            continue
        kinds = evidence.ledger.all_of(
            "request", line.series.step, request=line.series.request
        ).failed
        kind = max(kinds, key=lambda each: kinds[each], default="")
        yield Found(
            rule="failing-from-the-first",
            about="script",
            sentence=f"{name_of(line.series)} failed from the first request on: {failed:,.0f} of"
            f" {passed + failed:,.0f}.",
            means="This is the journey, its data, its address or its sign-in, not the server's "
            "speed.",
            try_="Rehearse the journey; look at what its captures took, and at a kept exchange.",
            evidence={"mostly": kind} if kind else {},
            journey=line.series.journey,
            step=line.series.step,
            request=line.series.request,
            impact=1.0,
        )
