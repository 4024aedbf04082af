"""By interval: most were met, some were not, and these stand together."""

from collections.abc import Iterator, Mapping, Sequence

from dynamikos.core.analysis.evidence import Evidence, Found
from dynamikos.core.objectives import Mark, describe
from dynamikos.core.verdicts.objectives import names_of


def missed_in_part(evidence: Evidence, marks: Mapping[int, Sequence[Mark]]) -> Iterator[Found]:
    """By interval: most were met, some were not, and these stand together."""
    for no, objective in enumerate(evidence.frozen.plan.objectives):
        judged = [mark for mark in marks.get(no, ()) if mark.word != "not judged"]
        missed = [mark for mark in judged if mark.word == "missed"]
        if len(judged) < 6 or not 0 < len(missed) <= len(judged) / 2:
            continue
        first, last = missed[0].from_s, missed[-1].to_s
        together = last - first <= 2 * sum(mark.to_s - mark.from_s for mark in missed)
        is_missed = 100 * len(missed) / len(judged) > objective.missed_allowed
        holds = (
            "It holds, but not all the time."
            if together
            else "It holds, but now and then it does not."
        )
        yield Found(
            rule="missed-in-part",
            about="target",
            sentence=f"{describe(objective, *names_of(evidence.frozen, objective))} was missed in "
            f"{len(missed)} of"
            f" {len(judged)} intervals{f', from second {first} to {last}' if together else ''}.",
            means="Outside these intervals it was met." if is_missed else holds,
            try_="Look at these intervals, and at what they have in common.",
            window=(first, last) if together else None,
            step=objective.step or "",
            journey=objective.journey or "",
        )
