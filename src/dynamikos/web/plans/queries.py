"""Reading load plans, and what follows from one."""

import difflib
import uuid
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from django.db.models import Case, QuerySet, Value, When
from django.shortcuts import get_object_or_404

from dynamikos.core.journeys import Journey as CoreJourney
from dynamikos.core.journeys import names_needed
from dynamikos.core.plans import Crowd, Plan, write_plan
from dynamikos.core.plans.follows import Answered, Follows, Took, one_round, rows_needed
from dynamikos.core.plans.follows import follows as what_follows
from dynamikos.core.plans.model import PLAN
from dynamikos.core.plans.preflight import unchecked
from dynamikos.core.probes import wants
from dynamikos.core.profiles import highest, levels_at, segments, spans
from dynamikos.core.reports.ledger import BUSY
from dynamikos.web.datasets.deals import ends_of
from dynamikos.web.datasets.models import DataSet
from dynamikos.web.datasets.queries import deal_of
from dynamikos.web.journeys.models import Journey
from dynamikos.web.journeys.queries import content as journey_content
from dynamikos.web.places.models import Generator
from dynamikos.web.plans.models import LoadPlan
from dynamikos.web.projects.models import Membership
from dynamikos.web.projects.queries import others_of
from dynamikos.web.projects.revisions import Unreadable, value_of
from dynamikos.web.recordings.queries import exchange
from dynamikos.web.rehearsals.queries import unproven


def plans(member: Membership) -> QuerySet[LoadPlan]:
    return LoadPlan.objects.filter(project=member.project).select_related("head")


def plans_of_all(member: Membership) -> QuerySet[LoadPlan]:
    """Those of every project that the account may change, this one's first."""
    elsewhere = [each.project_id for each in others_of(member)]
    every = LoadPlan.objects.filter(project__in=[member.project_id, *elsewhere]).select_related(
        "head", "project"
    )
    is_here = Case(When(project=member.project, then=Value(0)), default=Value(1))
    return every.order_by(is_here, "project__name", "name")


def plan(member: Membership, pk: uuid.UUID) -> LoadPlan:
    return get_object_or_404(plans(member), pk=pk)


def content(found: LoadPlan) -> Plan:
    assert found.head is not None
    return value_of(found.head, PLAN)


def journeys_of(found: LoadPlan, core: Plan) -> dict[str, Journey | None]:
    """The journeys that the plan's rows name, by key; None for one that was deleted."""
    here = {
        each.key: each
        for each in Journey.objects.select_related("head").filter(
            project=found.project, key__in=core.journeys
        )
    }
    return {key: here.get(key) for key in core.journeys}


def scripts_of(
    found: LoadPlan, core: Plan, here: Mapping[str, Journey | None] | None = None
) -> dict[str, CoreJourney]:
    """What those journeys that are there perform, by key; `here` are they, where they were looked
    up already.
    """
    named = journeys_of(found, core) if here is None else here
    return {key: journey_content(each) for key, each in named.items() if each is not None}


def journey_doubts(
    here: Mapping[str, Journey], scripts: Mapping[str, CoreJourney]
) -> list[tuple[str, str, str]]:
    """(what, sentence, button) for each journey that nothing proves yet, or that looks at nothing;
    `what` is the word and the journey that `mend` knows it by.
    """
    made = []
    for key, journey in here.items():
        if why := unproven(journey, scripts[key]):
            made.append((f"unrehearsed:{key}", f"{journey.name}: {why}", "Rehearse two rounds"))
        if why := unchecked(scripts[key]):
            made.append(
                (f"unchecked:{key}", f"{journey.name}: {why}", "Check what its answers suggest")
            )
    return made


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
    """(planned users' starts and ends in s, seconds of a round, seed, name) of the first load plan
    one of whose journeys uses data set `key`.
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
        spans, round_s = rows_needed(
            core, rounds_s(here, scripts, core), using, by_seat=deal.whose == "slice"
        )
        return spans, round_s, core.seed, f"“{core.name}”"
    return [], 0.0, 1, ""


def answers(here: Mapping[str, Journey]) -> Answered:
    """What journeys' exchanges took when they were recorded."""
    recordings = {key: journey.recording_id for key, journey in here.items()}

    def answered(key: str, number: int) -> Took | None:
        recording = recordings.get(key)
        recorded = exchange(recording, number) if recording else None
        if recorded is None:
            return None
        size = (
            recorded.answer.size_bytes or len(recorded.answer.body)
            if recorded.answer is not None
            else 0
        )
        return Took(recorded.timings.total_us, size)

    return answered


def rounds_s(
    here: Mapping[str, Journey], scripts: Mapping[str, CoreJourney], core: Plan
) -> dict[str, float]:
    """How long a round of each journey is expected to take, in seconds."""
    answered = answers(here)
    return {
        key: one_round(script, core.think_factor, answered).seconds
        for key, script in scripts.items()
    }


def follows(
    core: Plan, here: Mapping[str, Journey | None], scripts: Mapping[str, CoreJourney]
) -> Follows | None:
    """Expected figures of journeys that are `here`; None when one is missing."""
    there = {key: each for key, each in here.items() if each is not None}
    return what_follows(core, scripts, answers(there)) if len(there) == len(core.journeys) else None


def follows_of(found: LoadPlan, core: Plan) -> Follows | None:
    """As `follows`, of the journeys that are there now."""
    here = journeys_of(found, core)
    return follows(core, here, scripts_of(found, core, here))


@dataclass(frozen=True, slots=True)
class Carries:
    """How many `users` of a plan's kind one generator carries, as measured: by what, and whether it
    may be more; and how many are `needed`.
    """

    users: int
    needed: int
    by: str
    may_be_more: bool = False


LAST_RUNS = 5


def carries(found: LoadPlan, after: Follows | None) -> Carries | None:
    """By that of the plan's last runs that kept them busiest, else by what generators did in any
    run that kept them busy; None where nothing is known.
    """
    if after is None or not after.users:
        return None
    ended = found.runs.filter(state="ended", outcome__carries__gt=0).order_by("-asked_at")
    last = ended.values_list("outcome__processor_share", "number", "outcome__carries")[:LAST_RUNS]
    share, number, users = max(
        ((share or 0.0, number, int(carries)) for share, number, carries in last), default=(0, 0, 0)
    )
    took = (
        f", which took {100 * share:.0f} % of a processor core" if share else ""
    )  # not known of an earlier day
    by, is_busy = f"by run {number}{took}", share >= BUSY
    if not users:
        by, is_busy = "by what it did when it was busy", True
        capacity = (
            Generator.objects.filter(capacity__gt=0)
            .order_by("-last_seen")
            .values_list("capacity", flat=True)
        )
        known = capacity.first()
        per_user = after.exchanges_per_s / after.users
        users = int(known / per_user) if known and per_user > 0 else 0
    return Carries(users, -(-after.to_carry // users), by, not is_busy) if users else None


HOST = {
    "processor": "%",
    "memory used": "%",
    "load": "",
}  # what a host always tells, with its units


def known_measures(found: LoadPlan, core: Plan) -> dict[tuple[str, str], str]:
    """What the plan's probes told in its last runs, as far as is known: units by probe and name."""
    made: dict[tuple[str, str], str] = {}
    if not core.probes:
        return made
    for each in core.probes:
        if each.host is not None:
            made |= {
                (each.probe, name): unit
                for name, unit in HOST.items()
                if wants(each.measures, name)
            }
    probes = {each.probe for each in core.probes}
    newest = (
        found.runs.filter(measures__isnull=False)
        .order_by("-asked_at")
        .values_list("pk", flat=True)
        .first()
    )
    if newest is not None:
        told = found.runs.filter(pk=newest).values_list(
            "measures__probe", "measures__name", "measures__unit"
        )
        made |= {(probe, name): unit for probe, name, unit in told if probe in probes}
    return made


@dataclass(frozen=True, slots=True)
class Changed:
    """A revision of a plan and what it changed against the one before, line by line of the text
    form.
    """

    number: int
    by: str
    at: object
    lines: list[tuple[str, str]]  # ("+" or "−", line)


def history(found: LoadPlan, most: int = 20) -> list[Changed]:
    """The last revisions, the newest first."""
    made: list[Changed] = []
    head = found.head
    while head is not None and len(made) < most:
        before = head.parent
        lines: list[tuple[str, str]] = []
        try:
            new = write_plan(value_of(head, PLAN)).splitlines()
            old = write_plan(value_of(before, PLAN)).splitlines() if before is not None else []
        except Unreadable:
            new = old = []
        for line in difflib.unified_diff(old, new, n=0, lineterm=""):
            if line[:1] in "+-" and line[:3] not in ("+++", "---"):
                lines.append(("+" if line[0] == "+" else "−", line[1:]))
        author = head.author.username if head.author else "—"
        made.append(
            Changed(head.number, author, head.created_at, lines if before is not None else [])
        )
        head = before
    return made


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
    for each in DataSet.objects.filter(
        project=found.project, key__in=set().union(*tables.values())
    ):
        deal, using = deal_of(each), [name for name, used in tables.items() if each.key in used]
        spans, round_s = rows_needed(core, times, using, by_seat=deal.whose == "slice")
        said, early = ends_of(deal, each.rows, spans, round_s, "this profile")
        made.append(DataFollows(each.key, each.pk, each.rows, said, early))
    return made


@dataclass(frozen=True, slots=True)
class Drawing:
    """The profile as SVG paths in a 760×240 picture of `total_s` and at most `most`; `layers` are
    areas of rows upon each other, with their inks.
    """

    line: str
    area: str
    layers: list[tuple[int, str]]
    grid_y: list[tuple[float, str]]
    grid_x: list[tuple[float, float]]
    knobs: list[tuple[float, float]]
    measured: tuple[float, float]
    total_s: float
    most: float


def drawing(
    crowd: Crowd,
    measured_s: tuple[float, float],
    total_s: float,
    inks: Sequence[tuple[int, float]] = (),
) -> Drawing:
    """The profile of one crowd on the clock of the run; `inks` are its rows' and their shares in
    %.
    """
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
    step = next(
        (
            each
            for each in (10, 30, 60, 120, 300, 600, 1800, 3600, 7200, 36_000)
            if total / each <= 9
        ),
        86_400,
    )
    at_end = [end for _, end in spans(crowd.profile)]
    heights = levels_at(crowd.profile, [max(0.0, end - 1e-9) for end in at_end])
    ends = [place(crowd.starts_s + end, level) for end, level in zip(at_end, heights, strict=True)]
    return Drawing(
        line=line,
        area=line + f"L{first[0]} {top + height}Z",
        layers=layers,
        grid_y=[(place(0, most * part / 4)[1], f"{most * part / 4:g}") for part in range(5)],
        grid_x=[(place(at, 0)[0], at) for at in range(0, int(total) + 1, step)],
        knobs=[] if crowd.load.makes_profile else ends,
        measured=(place(begin, 0)[0], place(end, 0)[0]),
        total_s=total,
        most=most,
    )
