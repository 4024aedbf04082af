"""Steps of which nothing can be said."""

from collections.abc import Iterator

from dynamikos.core.analysis.evidence import Evidence, Found, joined, name_of
from dynamikos.core.statistics.histogram import enough_for


def too_few(evidence: Evidence) -> Iterator[Found]:
    """Steps of which nothing can be said."""
    begin, end = evidence.measured
    few = []
    for line in evidence.steps():
        n = evidence.ledger.all_of("step", line.series.step, journey=line.series.journey).passed.n
        if n and enough_for(95, n) == "no":
            few.append(name_of(line.series))
    if few and end - begin >= 30:
        yield Found(
            rule="too-few-samples",
            about="measurement",
            sentence=f"Too few samples for a p95: {joined(few)}.",
            means="Their percentiles would be chance.",
            try_="Measure for longer, or let more users come.",
            window=(begin, end),
        )
