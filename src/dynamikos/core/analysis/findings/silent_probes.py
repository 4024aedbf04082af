"""Probes that fell silent."""

from collections.abc import Iterator

from dynamikos.core.analysis.evidence import Evidence, Found


def silent_probes(evidence: Evidence) -> Iterator[Found]:
    """Probes that fell silent."""
    for title, second, why in evidence.silent:
        yield Found(
            rule="probe-silent",
            about="measurement",
            sentence=f"The probe {title} told nothing from second {second} on: {why}",
            means="What the server did then is not known; no zeros stand for it.",
            try_="Try the probe from the plan; see whether the server closed its page under load.",
            window=(max(0, second - 15), second + 15),
        )
