"""Reading load plans, and what follows from one."""

import uuid
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from django.db.models import QuerySet
from django.shortcuts import get_object_or_404

from dynamikos.core.journeys import Journey as CoreJourney
from dynamikos.core.journeys import names_needed
from dynamikos.core.plans import Crowd, Plan
from dynamikos.core.plans.follows import Answered, Follows, one_round, rows_needed
from dynamikos.core.plans.follows import follows as what_follows
from dynamikos.core.plans.model import PLAN
from dynamikos.core.profiles import highest, level_at, segments, spans
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


def journeys_of(found: LoadPlan, core: Plan) -> dict[str, Journey | None]:
    """The journeys that the plan's rows name, by key; None for one that was deleted."""
    here = {
        each.key: each
        for each in Journey.objects.select_related("head").filter(project=found.project, key__in=core.journeys)
    }
    return {key: here.get(key) for key in core.journeys}


def scripts_of(found: LoadPlan, core: Plan) -> dict[str, CoreJourney]:
    """What those journeys that are there perform, by key."""
    return {key: journey_content(each) for key, each in journeys_of(found, core).items() if each is not None}


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
    """(planned users' starts and ends in s, seconds of a round, seed, name) of the first load plan one of whose
    journeys uses data set `key`.
    """
    for found in plans(member):
        try:
            core = content(found)
            scripts = scripts_of(found, core)
        except Unreadable:
            continue
        using = [name for name, script in scripts.items() if key in tables_of(script)]
        if not using:
            continue
        here = {name: each for name, each in journeys_of(found, core).items() if each is not None}
        deal = deal_of(DataSet.objects.get(project=member.project, key=key))
        spans, round_s = rows_needed(core, rounds_s(here, scripts, core), using, by_seat=deal.whose == "slice")
        return spans, round_s, core.seed, f"“{core.name}”"
    return [], 0.0, 1, ""


def answers(here: Mapping[str, Journey]) -> Answered:
    """The recorded times of journeys' exchanges in µs."""
    recordings = {key: journey.recording_id for key, journey in here.items()}

    def answered_us(key: str, number: int) -> int | None:
        recording = recordings.get(key)
        recorded = exchange(recording, number) if recording else None
        return recorded.timings.total_us if recorded is not None else None

    return answered_us


def rounds_s(here: Mapping[str, Journey], scripts: Mapping[str, CoreJourney], core: Plan) -> dict[str, float]:
    """How long a round of each journey is expected to take, in seconds."""
    answered_us = answers(here)
    return {key: one_round(script, core.think_factor, answered_us)[0] for key, script in scripts.items()}


def follows(found: LoadPlan, core: Plan) -> Follows | None:
    """Expected figures; None when a journey is missing."""
    here = {key: each for key, each in journeys_of(found, core).items() if each is not None}
    if len(here) < len(core.journeys):
        return None
    return what_follows(core, {key: journey_content(each) for key, each in here.items()}, answers(here))


def tables_of(script: CoreJourney) -> set[str]:
    """Keys of the data sets that a journey uses, possibly."""
    names = names_needed(script.active())
    return {name.split(".")[0] for name in names if not name.startswith(("env.", "secrets."))}


def data_follows(
    found: LoadPlan, core: Plan, scripts: Mapping[str, CoreJourney], times: Mapping[str, float]
) -> list[DataFollows]:
    """What becomes of the rows that the journeys use; `times` are seconds of a round of each."""
    tables = {name: tables_of(script) for name, script in scripts.items()}
    made = []
    for each in DataSet.objects.filter(project=found.project, key__in=set().union(*tables.values())):
        deal, using = deal_of(each), [name for name, used in tables.items() if each.key in used]
        spans, round_s = rows_needed(core, times, using, by_seat=deal.whose == "slice")
        said, early = ends_of(deal, each.rows, spans, round_s, "this profile")
        made.append(DataFollows(each.key, each.pk, each.rows, said, early))
    return made


@dataclass(frozen=True, slots=True)
class Drawing:
    """The profile as SVG paths in a 760×240 picture; `layers` are areas of rows upon each other, with their inks."""

    line: str
    area: str
    layers: list[tuple[int, str]]
    grid_y: list[tuple[float, str]]
    grid_x: list[tuple[float, float]]
    knobs: list[tuple[float, float]]
    measured: tuple[float, float]


def drawing(
    crowd: Crowd, measured_s: tuple[float, float], total_s: float, inks: Sequence[tuple[int, float]] = ()
) -> Drawing:
    """The profile of one crowd on the clock of the run; `inks` are its rows' and their shares in %."""
    left, top, width, height = 46.0, 16.0, 688.0, 190.0
    total, most = max(1.0, total_s), max(1.0, highest(crowd.profile))

    def place(at: float, level: float) -> tuple[float, float]:
        return round(left + width * at / total, 1), round(top + height * (1 - level / most), 1)

    curve = segments(crowd.profile)
    first = place(crowd.starts_s, curve[0].low if curve else 0.0)
    corners = [first, *(place(crowd.starts_s + each.end, each.high) for each in curve)]
    line = "M" + "L".join(f"{x} {y}" for x, y in corners) + f"L{corners[-1][0]} {top + height}"
    layers, below = [], 0.0
    for ink, percent in inks if len(inks) > 1 else ():
        low, below = below / 100, below + percent
        high = below / 100
        levels = [(crowd.starts_s, curve[0].low if curve else 0.0)]
        levels += [(crowd.starts_s + each.end, each.high) for each in curve]
        top_edge = [place(at, level * high) for at, level in levels]
        bottom = [place(at, level * low) for at, level in reversed(levels)]
        layers.append((ink, "M" + "L".join(f"{x} {y}" for x, y in [*top_edge, *bottom]) + "Z"))
    begin, end = measured_s
    step = next((each for each in (10, 30, 60, 120, 300, 600, 1800, 3600, 7200, 36_000) if total / each <= 9), 86_400)
    ends = [place(crowd.starts_s + end, level_at(crowd.profile, end - 1e-9)) for _, end in spans(crowd.profile)]
    return Drawing(
        line=line,
        area=line + f"L{first[0]} {top + height}Z",
        layers=layers,
        grid_y=[(place(0, most * part / 4)[1], f"{most * part / 4:g}") for part in range(5)],
        grid_x=[(place(at, 0)[0], at) for at in range(0, int(total) + 1, step)],
        knobs=ends,
        measured=(place(begin, 0)[0], place(end, 0)[0]),
    )
