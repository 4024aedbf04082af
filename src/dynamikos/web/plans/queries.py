"""Reading load plans, and what follows from one."""

import uuid
from dataclasses import dataclass

from django.db.models import QuerySet
from django.shortcuts import get_object_or_404

from dynamikos.core.journeys import Journey as CoreJourney
from dynamikos.core.journeys import names_needed
from dynamikos.core.plans import Plan
from dynamikos.core.plans.follows import Follows
from dynamikos.core.plans.follows import follows as what_follows
from dynamikos.core.plans.model import PLAN
from dynamikos.core.profiles import duration_s, measured_part_s, peak
from dynamikos.web.datasets.deals import ends_of
from dynamikos.web.datasets.models import DataSet
from dynamikos.web.datasets.queries import deal_of
from dynamikos.web.journeys.models import Journey
from dynamikos.web.journeys.queries import content as journey_content
from dynamikos.web.plans.models import LoadPlan
from dynamikos.web.projects.models import Membership
from dynamikos.web.projects.revisions import Unreadable, value_of
from dynamikos.web.recordings.queries import exchange


def plans(member: Membership) -> QuerySet[LoadPlan]:
    return LoadPlan.objects.filter(project=member.project).select_related("head")


def plan(member: Membership, pk: uuid.UUID) -> LoadPlan:
    return get_object_or_404(plans(member), pk=pk)


def content(found: LoadPlan) -> Plan:
    assert found.head is not None
    return value_of(found.head, PLAN)


def journey_of(found: LoadPlan, core: Plan) -> tuple[Journey | None, CoreJourney | None]:
    """The plan's journey, or None when it was deleted."""
    journey = Journey.objects.select_related("head").filter(project=found.project, key=core.journey).first()
    return journey, journey_content(journey) if journey is not None else None


@dataclass(frozen=True, slots=True)
class DataFollows:
    """What becomes of one data set's rows, in the words of its own deal.

    `early`: it ends the run, or users, before the profile does.
    """

    name: str
    pk: uuid.UUID
    rows: int
    said: str
    early: bool


def load_of(member: Membership, key: str) -> tuple[list[tuple[float, float]], float, int, str]:
    """(planned users' starts and ends in s, seconds of a round, seed, name) of the first load plan whose journey uses
    data set `key`.
    """
    for found in plans(member):
        try:
            core = content(found)
            journey, script = journey_of(found, core)
        except Unreadable:
            continue
        if script is None or key not in {name.split(".")[0] for name in names_needed(script)}:
            continue
        after = follows(found, core, journey, script)
        return (after.starts_s if after else []), after.round_s if after else 0.0, core.seed, f"“{core.name}”"
    return [], 0.0, 1, ""


def follows(found: LoadPlan, core: Plan, journey: Journey | None, script: CoreJourney | None) -> Follows | None:
    """Expected figures; None without a journey."""
    if script is None or journey is None:
        return None
    recording = journey.recording_id

    def answered_us(number: int) -> int | None:
        recorded = exchange(recording, number) if recording else None
        return recorded.timings.total_us if recorded is not None else None

    return what_follows(core, script, answered_us)


def data_follows(found: LoadPlan, script: CoreJourney, after: Follows) -> list[DataFollows]:
    """What becomes of the rows that the journey uses."""
    needed = {name.split(".")[0] for name in names_needed(script.active()) if not name.startswith(("env.", "secrets."))}
    made = []
    for each in DataSet.objects.filter(project=found.project, key__in=needed):
        said, early = ends_of(deal_of(each), each.rows, after.starts_s, after.round_s, "this profile")
        made.append(DataFollows(each.key, each.pk, each.rows, said, early))
    return made


@dataclass(frozen=True, slots=True)
class Drawing:
    """The profile as SVG paths in a 760×240 picture."""

    line: str
    area: str
    grid_y: list[tuple[float, int]]
    grid_x: list[tuple[float, float]]
    knobs: list[tuple[float, float]]
    measured: tuple[float, float]


def drawing(core: Plan) -> Drawing:
    left, top, width, height = 46.0, 16.0, 688.0, 190.0
    total, highest = max(1.0, duration_s(core.profile)), max(1, peak(core.profile))
    points, time, level = [(0.0, 0.0)], 0.0, 0.0
    for stretch in core.profile:
        time += stretch.seconds
        level = float(stretch.to) if stretch.stretch == "climb" and stretch.to is not None else level
        points.append((time, level))

    def place(at: float, users: float) -> tuple[float, float]:
        return round(left + width * at / total, 1), round(top + height * (1 - users / highest), 1)

    placed = [place(*point) for point in points]
    line = "M" + "L".join(f"{x} {y}" for x, y in placed) + f"L{placed[-1][0]} {top + height}"
    begin, end = measured_part_s(core.profile)
    step = next((each for each in (10, 30, 60, 120, 300, 600, 1800, 3600, 7200, 36_000) if total / each <= 9), 86_400)
    return Drawing(
        line=line,
        area=line + f"L{left} {top + height}Z",
        grid_y=[(place(0, highest * part / 4)[1], round(highest * part / 4)) for part in range(5)],
        grid_x=[(place(at, 0)[0], at) for at in range(0, int(total) + 1, step)],
        knobs=placed[1:],
        measured=(place(begin, 0)[0], place(end, 0)[0]),
    )
