"""Seconds in which our own side was late, and by what."""

from collections.abc import Iterator

from dynamikos.core.analysis.evidence import Evidence, Found
from dynamikos.core.verdicts.outcome import LATE_SHARE, REASONS


def late_generators(evidence: Evidence) -> Iterator[Found]:
    """Seconds in which our own side was late, and by what."""
    window = evidence.ledger
    if window.late_seconds <= max(1, LATE_SHARE * window.seconds):
        return
    by = sorted(window.late_by.items(), key=lambda row: -row[1])
    yield Found(
        rule="late-generators",
        about="measurement",
        sentence=f"Generators were late in {window.late_seconds:,} of {window.seconds:,} measured seconds:"
        f" {'; '.join(f'{REASONS.get(reason, reason)} in {count:,}' for reason, count in by)}.",
        means="They, not the target, may have set the figures.",
        try_="Take more generators or a machine of their own; look at the lane of the generators.",
    )
