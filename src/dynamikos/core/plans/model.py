"""The load plan: everything one run needs."""

import secrets
from typing import Annotated, Any, Literal

import msgspec

from dynamikos.core.dealing import Deal
from dynamikos.core.errors import PlanError
from dynamikos.core.forms import Stored
from dynamikos.core.journeys.model import Journey
from dynamikos.core.journeys.request import Key
from dynamikos.core.objectives import Objective
from dynamikos.core.profiles import Stretch, duration_s, peak
from dynamikos.core.text import Frozen, parse, schema, write


class Timeouts(Frozen, frozen=True, kw_only=True):
    """Seconds until an exchange is given up: connecting (TLS too), its first byte, all of it."""

    connect_s: Annotated[float, msgspec.Meta(gt=0, le=3600)] = 10.0
    first_byte_s: Annotated[float, msgspec.Meta(gt=0, le=86_400)] = 60.0
    whole_s: Annotated[float, msgspec.Meta(gt=0, le=86_400)] = 120.0


class Plan(Frozen, frozen=True, kw_only=True):
    """In a repository `journey`, `environment` and `data` are paths beside the plan; in a project they are keys.

    `failed_pause_s` is what a user waits at least after a failed round, and twice as long each time while rounds fail
    at their first request, up to 30 s. `new_seed` draws a seed for each run instead of `seed`.

    `functions` are paths of Python modules whose functions the journey calls; in a project they are the project's.
    `deals` says by data set how its rows are dealt; in a project each data set says it itself.
    """

    form: Literal[1]
    plan: Key
    name: str
    journey: str
    environment: str
    data: tuple[str, ...] = ()
    functions: tuple[str, ...] = ()
    deals: dict[str, Deal] = {}
    profile: tuple[Stretch, ...]
    think_factor: Annotated[float, msgspec.Meta(ge=0, le=100)] = 1.0
    objectives: tuple[Objective, ...] = ()
    failed_pause_s: Annotated[float, msgspec.Meta(ge=0, le=3600)] = 1.0
    timeouts: Timeouts = Timeouts()
    seed: int = 1
    new_seed: bool = False
    generators: Annotated[int, msgspec.Meta(ge=1, le=256)] = 1
    grace_s: Annotated[float, msgspec.Meta(ge=0, le=3600)] = 30.0
    note: str = ""

    def drawn_seed(self) -> int:
        """The seed of one run: drawn anew, or the plan's own."""
        return secrets.randbelow(2**31) if self.new_seed else self.seed


PLAN = Stored("load plan", Plan)


def parse_plan(text: str, *, file: str = "") -> Plan:
    """The plan in `text`. Raises TextError with line and column."""
    return parse(text, PLAN, noted=frozenset({"plan"}), file=file)


def write_plan(plan: Plan) -> str:
    return write(msgspec.to_builtins(plan))


def plan_schema() -> dict[str, Any]:
    """The published JSON Schema of the text form."""
    return schema(Plan, "Dynamikos load plan, form 1")


def plan_problems(plan: Plan, journey: Journey) -> list[str]:
    """What stands in the way of running `plan` with `journey`; empty when nothing does."""
    problems = []
    if peak(plan.profile) < 1:
        problems.append("The profile never has a user: add a stretch that climbs to one or more.")
    if duration_s(plan.profile) < 1:
        problems.append("The profile takes less than a second: give its stretches seconds.")
    for number, stretch in enumerate(plan.profile, 1):
        if stretch.stretch == "climb" and stretch.to is None:
            problems.append(f"Stretch {number} climbs, but says no 'to' (users).")
    if not journey.rounds:
        problems.append(f"The journey '{journey.name}' has no steps in its rounds, so users would have nothing to do.")
    keys = {step.step for _, step in journey.steps()}
    for objective in plan.objectives:
        if objective.step is not None and objective.step not in keys:
            problems.append(
                f"Objective '{objective.objective}' is about the step '{objective.step}', which the journey does not"
                " have."
            )
    names = [objective.objective for objective in plan.objectives]
    problems.extend(
        f"Two objectives have the key '{name}'." for name in sorted({n for n in names if names.count(n) > 1})
    )
    return problems


def refuse_if(problems: list[str]) -> None:
    """Raises PlanError with all problems, one a line."""
    if problems:
        raise PlanError("\n".join(problems))
