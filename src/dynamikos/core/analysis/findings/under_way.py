"""Requests that never ended."""

from collections.abc import Iterator

from dynamikos.core.analysis.evidence import Evidence, Found


def under_way(evidence: Evidence) -> Iterator[Found]:
    """Requests that never ended."""
    ages = evidence.ledger.all_of("request").open_us
    old = [age for age in ages if age > 5_000_000]
    if old:
        yield Found(
            rule="open-at-the-end",
            about="target",
            sentence=f"{len(old):,} request{'s were' if len(old) > 1 else ' was'} still under way "
            "when the measured"
            f" part ended, the oldest for {max(old) / 1e6:.1f} s.",
            means="The server was stuck, or slower than anything that was measured.",
            try_="Look at the server's threads and locks at that moment; give the run a longer "
            "grace.",
            window=(max(0, evidence.measured[1] - 30), evidence.measured[1]),
        )
