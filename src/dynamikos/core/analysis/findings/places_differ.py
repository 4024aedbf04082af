"""Places whose users do the same and don't get it alike."""

from collections.abc import Iterator

from dynamikos.core.analysis.evidence import Evidence, Found, joined, name_of
from dynamikos.core.analysis.findings.unlike import unlike
from dynamikos.core.figures import milliseconds


def places_differ(evidence: Evidence) -> Iterator[Found]:
    """Places whose users do the same and don't get it alike; a distance shows in every step, so it
    is said once.
    """
    found = sorted(
        unlike(evidence, evidence.by_place), key=lambda each: each.fast_ms - each.slow_ms
    )
    pairs: dict[tuple[str, str], list[int]] = {}
    for at, each in enumerate(found):
        pairs.setdefault((each.fast, each.slow), []).append(at)
    for (fast, slow), which in pairs.items():
        worst = found[which[0]]
        gap = worst.slow_ms - worst.fast_ms
        others = (found[at] for at in which[1:])
        more = joined(
            f"{name_of(each.series)} {milliseconds(each.slow_ms - each.fast_ms)}" for each in others
        )
        also = f" {more} more." if more else ""
        yield Found(
            rule="places-differ",
            about="target",
            sentence=f"{name_of(worst.series)} takes {worst.times:.1f} times as long from {slow} "
            f"as from {fast}:"
            f" {milliseconds(gap)} more.{also}",
            means=f"The way from {slow} is longer or slower, or the server treats it otherwise.",
            try_=f"Compare the two places; if every step takes about {milliseconds(gap)} more, it "
            "is the way.",
            evidence={fast: milliseconds(worst.fast_ms), slow: milliseconds(worst.slow_ms)},
            window=evidence.measured,
            journey=worst.series.journey,
            step=worst.series.step,
        )
