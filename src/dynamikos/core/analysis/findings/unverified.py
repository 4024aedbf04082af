"""Journeys in which an error page would pass."""

from collections.abc import Iterator

from dynamikos.core.analysis.evidence import Evidence, Found
from dynamikos.core.plans.preflight import bare_steps


def unverified(evidence: Evidence) -> Iterator[Found]:
    """Journeys in which an error page would pass."""
    for key, journey in evidence.frozen.journeys.items():
        bare = bare_steps(journey)
        steps = [step for _, step in journey.active().steps() if step.requests]
        if steps and len(bare) > len(steps) / 2:
            yield Found(
                rule="unverified",
                about="script",
                sentence=f"{journey.name}: {len(bare)} of {len(steps)} steps check nothing of "
                "their answers.",
                means="An error page with status 200 would have passed.",
                try_="Add checks to the journey: a rehearsal suggests them.",
                journey=key,
            )
