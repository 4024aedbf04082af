"""Descriptors and source ports of the generators' machine."""

from collections.abc import Iterator

from dynamikos.core.analysis.evidence import Evidence, Found
from dynamikos.core.verdicts.outcome import limits_of


def own_limits(evidence: Evidence) -> Iterator[Found]:
    """Descriptors and source ports of the generators' machine."""
    for what, count in sorted(limits_of(evidence.ledger).items()):
        yield Found(
            rule="own-limits",
            about="measurement",
            sentence=f"{count:,} requests could not be sent: the generator's machine had no more "
            f"{what}.",
            means="Load is missing, and none of it is the target's failure.",
            try_="Raise the limit (ulimit -n, ip_local_port_range), keep connections, or take more "
            "machines.",
        )
