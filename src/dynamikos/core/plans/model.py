"""The load plan: everything one run needs."""

import math
import secrets
from collections.abc import Iterator, Mapping
from typing import Annotated, Any, Literal

import msgspec
from msgspec.structs import replace

from dynamikos.core.dealing import Deal
from dynamikos.core.errors import PlanError
from dynamikos.core.forms import VersionedCodec
from dynamikos.core.journeys.model import Journey, key_from
from dynamikos.core.journeys.request import Key
from dynamikos.core.objectives import Objective
from dynamikos.core.objectives.problems import problems
from dynamikos.core.plans.crowds import (
    MOST_CROWDS,
    Crowd,
    CrowdRow,
    crowd_problems,
    measured_of,
    run_ends_s,
)
from dynamikos.core.probes.model import MOST_PROBES, Probe, probe_problems
from dynamikos.core.profiles import Stretch
from dynamikos.core.text import Frozen, parse, schema, write


class Timeouts(Frozen, frozen=True, kw_only=True):
    """Seconds until an exchange is given up: connecting (TLS too), its first byte, all of it."""

    connect_s: Annotated[float, msgspec.Meta(gt=0, le=3600)] = 10.0
    first_byte_s: Annotated[float, msgspec.Meta(gt=0, le=86_400)] = 60.0
    whole_s: Annotated[float, msgspec.Meta(gt=0, le=86_400)] = 120.0


class Repeat(Frozen, frozen=True, kw_only=True):
    """The same run `times` times, `pause_s` between one's end and the next one's begin, each with a
    new seed or the same: a set of runs. Each is judged by itself; the word of the set is its worst.
    """

    times: Annotated[int, msgspec.Meta(ge=1, le=100)] = 1
    pause_s: Annotated[float, msgspec.Meta(ge=0, le=86_400)] = 0.0
    seed: Literal["new", "same"] = "new"


class Keep(Frozen, frozen=True, kw_only=True):
    """Exchanges that each generator keeps for reading: so many `failing` ones of each request and
    kind of failure, so many of the `slowest` of each request, and so many `sampled` at random.
    """

    failing: Annotated[int, msgspec.Meta(ge=0, le=500)] = 20
    slowest: Annotated[int, msgspec.Meta(ge=0, le=100)] = 3
    sampled: Annotated[int, msgspec.Meta(ge=0, le=1000)] = 20


Undecided = Literal["measured", "pass", "fail", "inconclusive"]


def whole_seconds(part: tuple[float, float]) -> tuple[float, float]:
    """A part of a run from and to whole seconds inside of it, since figures are kept by the second;
    as it is where there is none in it.
    """
    begin, end = float(math.ceil(part[0] - 1e-9)), float(math.floor(part[1] + 1e-9))
    return (begin, end) if end > begin else part


Caching = Literal["none", "user", "round"]


class Plan(Frozen, frozen=True, kw_only=True):
    """In a repository `journey`, `environment` and `data` are paths beside the plan; in a project
    they are keys.

    Who comes stands under `crowds`; a plan of concurrent users with one journey may say `journey`
    and `profile`. `measured` is the part of the run, from second to second, that figures and
    objectives are taken of; without it the part that follows from the profiles.

    `failed_pause_s` is what a user waits at least after a failed round, and twice as long each time
    while rounds fail at their first request, up to 30 s. `new_seed` draws a seed for each run
    instead of `seed`.

    `fuse_percent`: where more of the requests of the first minute fail, the run ends itself at
    once; 100 never does.

    `undecided`: what an objective counts as that is not decided (too close to its limit to tell
    from chance): by the side of the limit that was measured, as met, as missed, or as not judged.

    `cache`: what users of rows without a persona keep of what they fetched. `none`: nothing, so
    that everything is fetched each time; `user`: what a browser may (RFC 9111), for as long as the
    user is there; `round`: the same, but emptied before each round, as new visitors come.

    `functions` are paths of Python modules whose functions the journey calls; in a project they are
    the project's. `deals` says by data set how its rows are dealt; in a project each data set says
    it itself.
    """

    form: Literal[2]
    plan: Key
    name: str
    journey: str = ""
    environment: str
    data: tuple[str, ...] = ()
    functions: tuple[str, ...] = ()
    deals: dict[str, Deal] = {}
    profile: tuple[Stretch, ...] = ()
    crowds: Annotated[tuple[Crowd, ...], msgspec.Meta(max_length=MOST_CROWDS)] = ()
    measured: (
        tuple[Annotated[float, msgspec.Meta(ge=0)], Annotated[float, msgspec.Meta(ge=0)]] | None
    ) = None
    think_factor: Annotated[float, msgspec.Meta(ge=0, le=100)] = 1.0
    objectives: tuple[Objective, ...] = ()
    probes: Annotated[tuple[Probe, ...], msgspec.Meta(max_length=MOST_PROBES)] = ()
    cache: Caching = "none"
    failed_pause_s: Annotated[float, msgspec.Meta(ge=0, le=3600)] = 1.0
    timeouts: Timeouts = Timeouts()
    seed: int = 1
    new_seed: bool = False
    generators: Annotated[int, msgspec.Meta(ge=1, le=256)] = 1
    undecided: Undecided = "measured"
    turned_away_allowed: Annotated[float, msgspec.Meta(ge=0, le=100)] = 0.0  # % of arrivals
    fuse_percent: Annotated[float, msgspec.Meta(ge=0, le=100)] = 50.0
    repeat: Repeat = Repeat()
    grace_s: Annotated[float, msgspec.Meta(ge=0, le=3600)] = 30.0
    keep: Keep = Keep()
    note: str = ""

    def drawn_seed(self) -> int:
        """The seed of one run: drawn anew, or the plan's own."""
        return secrets.randbelow(2**31) if self.new_seed else self.seed

    def everybody(self) -> tuple[Crowd, ...]:
        """Its crowds; without any the one that `journey` and `profile` stand for."""
        if self.crowds:
            return self.crowds
        row = CrowdRow(row=EVERYBODY, journey=self.journey)
        return (Crowd(crowd=EVERYBODY, profile=self.profile, rows=(row,)),)

    def with_crowds(self, crowds: tuple[Crowd, ...]) -> "Plan":
        """With other crowds; one of concurrent users with one journey and no words of its own is
        written short.
        """
        one = crowds[0] if len(crowds) == 1 else None
        if one is not None and len(one.rows) == 1:
            journey, profile = one.rows[0].journey, one.profile
            if one == replace(self, journey=journey, profile=profile, crowds=()).everybody()[0]:
                return replace(self, journey=journey, profile=profile, crowds=())
        return replace(self, journey="", profile=(), crowds=crowds)

    def with_copy_of(self, crowd: Crowd) -> "Plan":
        """With one crowd more, like `crowd`, under keys that are free here."""
        crowds = {each.crowd for each in self.everybody()}
        taken = {row.row for each in self.everybody() for row in each.rows}
        rows = []
        for row in crowd.rows:
            key = key_from(row.row, taken)
            taken.add(key)
            rows.append(replace(row, row=key))
        name = f"{crowd.name or crowd.crowd}, copy"[:80]
        copy = replace(crowd, crowd=key_from(crowd.crowd, crowds), name=name, rows=tuple(rows))
        return self.with_crowds((*self.everybody(), copy))

    @property
    def measured_s(self) -> tuple[float, float]:
        """The part of the run that is measured, from and to, in seconds."""
        return whole_seconds(self.measured or measured_of(self.everybody()))

    @property
    def journeys(self) -> tuple[str, ...]:
        """What its rows name as journeys, each once, in order."""
        return tuple(dict.fromkeys(row.journey for crowd in self.everybody() for row in crowd.rows))

    @property
    def personas(self) -> tuple[str, ...]:
        """What its rows name as personas, each once, in order."""
        return tuple(
            dict.fromkeys(
                row.persona for crowd in self.everybody() for row in crowd.rows if row.persona
            )
        )


EVERYBODY = "users"  # the key of a crowd, and of its row, that has none of its own


PLAN = VersionedCodec(
    "load plan", Plan, [lambda plain: plain]
)  # what form 1 said, form 2 says alike


def parse_plan(text: str, *, file: str = "") -> Plan:
    """The plan in `text`. Raises TextError with line and column."""
    return parse(text, PLAN, noted=frozenset({"plan"}), file=file)


def write_plan(plan: Plan) -> str:
    return write(msgspec.to_builtins(plan))


def plan_schema() -> dict[str, Any]:
    """The published JSON Schema of the text form."""
    return schema(Plan, "Dynamikos load plan, form 2")


MOST_OBJECTIVES, MOST_STRETCHES, MOST_ROWS_IN_ALL = 200, 500, 200
MOST_SERIES = 50_000  # figures by the second of a run under way stay in memory


def _too_many(plan: Plan) -> list[str]:
    """Of what a page and a verdict still can be read with."""
    crowds = plan.everybody()
    counts = (
        (len(plan.objectives), MOST_OBJECTIVES, "objectives"),
        (sum(len(crowd.profile) for crowd in crowds), MOST_STRETCHES, "stretches"),
        (sum(len(crowd.rows) for crowd in crowds), MOST_ROWS_IN_ALL, "rows of visitors"),
    )
    return [
        f"There are {count:,} {what}; at most {most} can be in one plan. Take some away, or make "
        "two plans."
        for count, most, what in counts
        if count > most
    ]


def plan_problems(plan: Plan, journeys: Mapping[str, Journey]) -> list[str]:
    """What stands in the way of running `plan` with `journeys`, by what its rows name; empty when
    nothing does.
    """
    crowds = plan.everybody()
    problems = [*_too_many(plan), *twice_said(plan)]
    problems.extend(crowd_problems(crowds))
    problems.extend(probe_problems(plan.probes))
    if plan.measured is not None:
        begin, end = plan.measured
        if not begin < end or end > run_ends_s(crowds):
            problems.append(
                f"The measured part is from {begin:g} to {end:g} s; it has to lie within the run, "
                "which ends at"
                f" {run_ends_s(crowds):g} s."
            )
    series = sum(
        1 + sum(1 + len(step.requests) for _, step in journeys[row.journey].steps())
        for crowd in crowds for row in crowd.rows if row.journey in journeys
    )  # fmt: skip
    if series > MOST_SERIES:
        problems.append(
            f"Steps and requests of all rows are {series:,}, each with figures of its own; at most "
            f"{MOST_SERIES:,} can"
            " be in one plan. Take rows away, or make two plans."
        )
    for journey in journeys.values():
        if not journey.rounds:
            problems.append(
                f"The journey '{journey.name}' has no steps in its rounds, so users would have "
                "nothing to do."
            )
    for objective in plan.objectives:
        problems.extend(objective_problems(objective, plan, journeys))
    names = [objective.objective for objective in plan.objectives]
    problems.extend(
        f"Two objectives have the key '{name}'."
        for name in sorted({n for n in names if names.count(n) > 1})
    )
    return problems


def twice_said(plan: Plan) -> list[str]:
    """What is wrong with how a plan says who comes."""
    if plan.crowds and (plan.journey or plan.profile):
        return [
            "The plan has crowds, and a journey or profile of its own beside them; put those into "
            "a crowd, or take the"
            " crowds away."
        ]
    if not plan.crowds and not plan.journey:
        return ["The plan names no journey; write 'journey' and 'profile', or 'crowds'."]
    return []


def objective_problems(
    objective: Objective, plan: Plan, journeys: Mapping[str, Journey]
) -> Iterator[str]:
    """What an objective is about has to be there, and what it says to make sense."""
    said = f"Objective '{objective.objective}'"
    yield from problems(objective, said)
    gone = list(_gone(objective, plan, journeys, f"{said} is about"))
    if gone:
        yield from gone
        return
    yield from _read_too_seldom(objective, plan, said)
    yield from _within_journeys(objective, plan, journeys, f"{said} is about")


def _gone(
    objective: Objective, plan: Plan, journeys: Mapping[str, Journey], said: str
) -> Iterator[str]:
    """What it is about and nobody has."""
    if objective.probe is not None and objective.probe not in {e.probe for e in plan.probes}:
        yield f"{said} the probe '{objective.probe}', which the plan does not have."
    elif objective.row is not None and objective.row not in _rows(plan):
        yield f"{said} the row '{objective.row}', which no crowd has."
    elif objective.journey is not None and objective.journey not in {
        journey.journey for journey in journeys.values()
    }:
        yield f"{said} the journey '{objective.journey}', which no row performs."


def _rows(plan: Plan) -> dict[str, CrowdRow]:
    return {row.row: row for crowd in plan.everybody() for row in crowd.rows}


def _read_too_seldom(objective: Objective, plan: Plan, said: str) -> Iterator[str]:
    probe = next((each for each in plan.probes if each.probe == objective.probe), None)
    if probe is not None and (objective.every_s or 1e9) < probe.every_s:
        yield (
            f"{said} is judged every {objective.every_s} s, but its probe is read every "
            f"{probe.every_s:g} s only."
        )


def _within_journeys(
    objective: Objective, plan: Plan, journeys: Mapping[str, Journey], said: str
) -> Iterator[str]:
    """The step or number, in the journeys that the objective is about."""
    known = {journey.journey: journey for journey in journeys.values()}
    asked = list(known.values())
    if objective.journey is not None:
        asked = [known[objective.journey]]
    elif objective.row is not None:
        performed = journeys.get(_rows(plan)[objective.row].journey)
        asked = [performed] if performed is not None else []
    whose = "the journey does" if len(asked) == 1 else "the journeys do"
    number = objective.number
    if number is not None and asked and not any(number in each.captured for each in asked):
        yield f"{said} the number '{number}', which {whose} not capture."
    if objective.step is None:
        return
    having = [journey for journey in asked if journey.find_step(objective.step) is not None]
    if asked and not having:
        yield f"{said} the step '{objective.step}', which {whose} not have."
    elif len(having) > 1:
        named = ", ".join(sorted(journey.journey for journey in having))
        yield (
            f"{said} the step '{objective.step}', which several journeys have ({named}); say "
            "which: 'journey'."
        )
    elif having:
        yield from _within_step(objective, having[0], said)


def _within_step(objective: Objective, journey: Journey, said: str) -> Iterator[str]:
    """The request of a step, and the later step until whose end it is."""
    step = journey.find_step(objective.step or "")
    requests = {each.request for each in step.requests} if step is not None else set()
    if objective.request is not None and objective.request not in requests:
        yield (
            f"{said} the request '{objective.request}', which the step '{objective.step}' does not "
            "have."
        )
    if objective.until is None:
        return
    order = [each.step for _, each in journey.steps()]
    if objective.until not in order:
        yield f"{said} a time until the step '{objective.until}', which the journey does not have."
    elif order.index(objective.until) <= order.index(objective.step or ""):
        yield (
            f"{said} a time from '{objective.step}' to '{objective.until}', which does not come "
            "after it."
        )


def refuse_if(problems: list[str]) -> None:
    """Raises PlanError with all problems, one a line."""
    if problems:
        raise PlanError("\n".join(problems))
