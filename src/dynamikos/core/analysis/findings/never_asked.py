"""Checks that were never asked, although their requests were to be sent."""

from collections.abc import Iterator

from dynamikos.core.analysis.evidence import Evidence, Found, joined
from dynamikos.core.checks import described
from dynamikos.core.frozen import every_check


def never_asked(evidence: Evidence) -> Iterator[Found]:
    """Checks that were never asked, although their requests were to be sent."""
    asked = evidence.ledger.judged
    rounds = {
        (key, step.step)
        for key, each in evidence.frozen.journeys.items()
        for step in each.active().rounds
    }
    places = [each for each in every_check(evidence.frozen) if (each.journey, each.step) in rounds]
    missing = [each for each in places if not asked.get(each.first)] if asked else []
    sent = {(each.step, each.request) for each in places if asked.get(each.first)}
    missing = [each for each in missing if (each.step, each.request) not in sent]
    if missing and evidence.ledger.all_of("round").passed.n >= 20:
        yield Found(
            rule="never-asked",
            about="script",
            sentence=f"{len(missing)} check{'s were' if len(missing) > 1 else ' was'} never asked "
            "in the measured part:"
            f" {joined(described(each.check) for each in missing)}.",
            means="Their requests were not sent: a branch that was not taken, or a round that "
            "never came so far.",
            try_="Look at the conditions of the journey.",
        )
