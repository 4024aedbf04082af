"""Rows of the crowd that do the same and don't get it alike."""

from collections.abc import Iterator

from dynamikos.core.analysis.evidence import Evidence, Found, name_of
from dynamikos.core.analysis.findings.unlike import unlike
from dynamikos.core.figures import milliseconds


def rows_differ(evidence: Evidence) -> Iterator[Found]:
    """Rows of the crowd that do the same and don't get it alike."""
    names = evidence.names
    for each in unlike(evidence, ((line.series.row, line) for line in evidence.by_row)):
        fast, slow = names.get(each.fast, each.fast), names.get(each.slow, each.slow)
        yield Found(
            rule="rows-differ",
            about="target",
            sentence=f"{name_of(each.series)} takes {each.times:.1f} times as long for {slow} as "
            f"for {fast}.",
            means="The rows differ by their persona, their data or what the server does for them.",
            try_="Compare the two rows; look at lines, client headers and data first.",
            evidence={fast: milliseconds(each.fast_ms), slow: milliseconds(each.slow_ms)},
            window=evidence.measured,
            journey=each.series.journey,
            step=each.series.step,
        )
