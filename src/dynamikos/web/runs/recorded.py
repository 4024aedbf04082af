"""A kept exchange beside the recorded one that its request was made of."""

from dataclasses import dataclass

from dynamikos.core.errors import DynamikosError
from dynamikos.core.frozen import every_series
from dynamikos.core.reports import KeptExchange
from dynamikos.web.journeys.models import Journey
from dynamikos.web.recordings.queries import exchange
from dynamikos.web.rehearsals.queries import Replayed, body_lines, compared, header_rows
from dynamikos.web.runs.models import Run
from dynamikos.web.runs.queries import frozen


@dataclass(frozen=True, slots=True)
class Beside:
    """`row` holds both and says in sentences how they differ; `lines` are those of both bodies with
    their marks, `headers` those of both answers: (name, recorded, now, whether they differ).
    """

    row: Replayed
    lines: list[tuple[str, str]]
    headers: list[tuple[str, str, str, bool]]


def beside_recording(run: Run, number: int, kept: KeptExchange) -> Beside | None:
    """None where the request was not recorded, or the journey has another recording by now."""
    if kept.recorded is None or kept.item or kept.resource:
        return None
    journeys = {each.no: each.journey for each in every_series(frozen(run))}
    journey = Journey.objects.filter(
        project=run.project_id, key=journeys.get(kept.series, "")
    ).first()
    if journey is None or journey.recording_id is None:
        return None
    recorded = exchange(journey.recording_id, kept.recorded)
    if recorded is None or recorded.answer is None or recorded.sent.method != kept.method:
        return None
    try:
        told = compared([(kept, recorded.answer)])[0] if kept.status else []
    except DynamikosError as problem:
        told = [f"could not be compared: {problem}"]
    row = Replayed(number, kept, recorded, told)
    return Beside(row, body_lines(row), header_rows(row))
