"""The load plan: everything one run needs."""

import secrets
from collections.abc import Iterator, Mapping
from typing import Annotated, Any, Literal

import msgspec
from msgspec.structs import replace

from dynamikos.core.dealing import Deal
from dynamikos.core.errors import PlanError
from dynamikos.core.forms import Stored
from dynamikos.core.journeys.model import Journey
from dynamikos.core.journeys.request import Key
from dynamikos.core.objectives import Objective
from dynamikos.core.plans.crowds import MOST_CROWDS, Crowd, CrowdRow, crowd_problems, measured_of, run_ends_s
from dynamikos.core.profiles import Stretch
from dynamikos.core.text import Frozen, parse, schema, write


class Timeouts(Frozen, frozen=True, kw_only=True):
    """Seconds until an exchange is given up: connecting (TLS too), its first byte, all of it."""

    connect_s: Annotated[float, msgspec.Meta(gt=0, le=3600)] = 10.0
    first_byte_s: Annotated[float, msgspec.Meta(gt=0, le=86_400)] = 60.0
    whole_s: Annotated[float, msgspec.Meta(gt=0, le=86_400)] = 120.0


class Plan(Frozen, frozen=True, kw_only=True):
    """In a repository `journey`, `environment` and `data` are paths beside the plan; in a project they are keys.

    Who comes stands under `crowds`; a plan of concurrent users with one journey may say `journey` and `profile`.
    `measured` is the part of the run, from second to second, that figures and objectives are taken of; without it the
    part that follows from the profiles.

    `failed_pause_s` is what a user waits at least after a failed round, and twice as long each time while rounds fail
    at their first request, up to 30 s. `new_seed` draws a seed for each run instead of `seed`.

    `functions` are paths of Python modules whose functions the journey calls; in a project they are the project's.
    `deals` says by data set how its rows are dealt; in a project each data set says it itself.
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
    measured: tuple[Annotated[float, msgspec.Meta(ge=0)], Annotated[float, msgspec.Meta(ge=0)]] | None = None
    think_factor: Annotated[float, msgspec.Meta(ge=0, le=100)] = 1.0
    objectives: tuple[Objective, ...] = ()
    failed_pause_s: Annotated[float, msgspec.Meta(ge=0, le=3600)] = 1.0
    timeouts: Timeouts = Timeouts()
    seed: int = 1
    new_seed: bool = False
    generators: Annotated[int, msgspec.Meta(ge=1, le=256)] = 1
    turned_away_allowed: Annotated[float, msgspec.Meta(ge=0, le=100)] = 0.0  # % of arrivals
    grace_s: Annotated[float, msgspec.Meta(ge=0, le=3600)] = 30.0
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
        """With other crowds; one of concurrent users with one journey and no words of its own is written short."""
        one = crowds[0] if len(crowds) == 1 else None
        if one is not None and len(one.rows) == 1:
            journey, profile = one.rows[0].journey, one.profile
            if one == replace(self, journey=journey, profile=profile, crowds=()).everybody()[0]:
                return replace(self, journey=journey, profile=profile, crowds=())
        return replace(self, journey="", profile=(), crowds=crowds)

    @property
    def measured_s(self) -> tuple[float, float]:
        """The part of the run that is measured, from and to, in seconds."""
        return self.measured or measured_of(self.everybody())

    @property
    def journeys(self) -> tuple[str, ...]:
        """What its rows name as journeys, each once, in order."""
        return tuple(dict.fromkeys(row.journey for crowd in self.everybody() for row in crowd.rows))


EVERYBODY = "users"  # the key of a crowd, and of its row, that has none of its own


PLAN = Stored("load plan", Plan, [lambda plain: plain])  # what form 1 said, form 2 says alike


def parse_plan(text: str, *, file: str = "") -> Plan:
    """The plan in `text`. Raises TextError with line and column."""
    return parse(text, PLAN, noted=frozenset({"plan"}), file=file)


def write_plan(plan: Plan) -> str:
    return write(msgspec.to_builtins(plan))


def plan_schema() -> dict[str, Any]:
    """The published JSON Schema of the text form."""
    return schema(Plan, "Dynamikos load plan, form 2")


def plan_problems(plan: Plan, journeys: Mapping[str, Journey]) -> list[str]:
    """What stands in the way of running `plan` with `journeys`, by what its rows name; empty when nothing does."""
    crowds = plan.everybody()
    problems = twice_said(plan)
    problems.extend(crowd_problems(crowds))
    if plan.measured is not None:
        begin, end = plan.measured
        if not begin < end or end > run_ends_s(crowds):
            problems.append(
                f"The measured part is from {begin:g} to {end:g} s; it has to lie within the run, which ends at"
                f" {run_ends_s(crowds):g} s."
            )
    for journey in journeys.values():
        if not journey.rounds:
            problems.append(
                f"The journey '{journey.name}' has no steps in its rounds, so users would have nothing to do."
            )
    for objective in plan.objectives:
        problems.extend(_objective_problems(objective, plan, journeys))
    names = [objective.objective for objective in plan.objectives]
    problems.extend(
        f"Two objectives have the key '{name}'." for name in sorted({n for n in names if names.count(n) > 1})
    )
    return problems


def twice_said(plan: Plan) -> list[str]:
    """What is wrong with how a plan says who comes."""
    if plan.crowds and (plan.journey or plan.profile):
        return [
            "The plan has crowds, and a journey or profile of its own beside them; put those into a crowd, or take the"
            " crowds away."
        ]
    if not plan.crowds and not plan.journey:
        return ["The plan names no journey; write 'journey' and 'profile', or 'crowds'."]
    return []


def _objective_problems(objective: Objective, plan: Plan, journeys: Mapping[str, Journey]) -> Iterator[str]:
    """What an objective is about has to be there."""
    said = f"Objective '{objective.objective}' is about"
    rows = {row.row: row for crowd in plan.everybody() for row in crowd.rows}
    if objective.row is not None and objective.row not in rows:
        yield f"{said} the row '{objective.row}', which no crowd has."
        return
    known = {journey.journey: journey for journey in journeys.values()}
    if objective.journey is not None and objective.journey not in known:
        yield f"{said} the journey '{objective.journey}', which no row performs."
        return
    if objective.step is None:
        return
    asked = list(known.values())
    if objective.journey is not None:
        asked = [known[objective.journey]]
    elif objective.row is not None:
        asked = [journeys[rows[objective.row].journey]] if rows[objective.row].journey in journeys else []
    having = [journey for journey in asked if objective.step in {step.step for _, step in journey.steps()}]
    if asked and not having:
        whose = "the journey does" if len(asked) == 1 else "the journeys do"
        yield f"{said} the step '{objective.step}', which {whose} not have."
    elif len(having) > 1:
        named = ", ".join(sorted(journey.journey for journey in having))
        yield f"{said} the step '{objective.step}', which several journeys have ({named}); say which: 'journey'."


def refuse_if(problems: list[str]) -> None:
    """Raises PlanError with all problems, one a line."""
    if problems:
        raise PlanError("\n".join(problems))
