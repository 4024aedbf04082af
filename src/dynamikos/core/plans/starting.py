"""What plans begin from: a load with a purpose, that asks only for what it needs."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Literal

from dynamikos.core.errors import PlanError
from dynamikos.core.objectives import Objective
from dynamikos.core.plans.crowds import Crowd, CrowdRow
from dynamikos.core.plans.workloads import Arrivals, Users, Workload
from dynamikos.core.profiles import Stretch

Asked = Literal["users", "rush", "per_s", "minutes"]
WORDS: dict[Asked, str] = {
    "users": "users",
    "rush": "users in the rush",
    "per_s": "arrivals a second",
    "minutes": "minutes",
}
LONGEST_ROUND_S = 60.0
Given = Mapping[Asked, float]


@dataclass(frozen=True, slots=True)
class Start:
    """A beginning: what it is called, when it is for, what it `asks` for (with what stands there at
    first).
    """

    key: str
    name: str
    when: str
    asks: tuple[tuple[Asked, float], ...]
    make: Callable[[Given, int], tuple[Workload, tuple[Stretch, ...]]]


def _climb(to: float, seconds: float) -> Stretch:
    return Stretch(stretch="climb", to=round(to), seconds=round(seconds))


def _hold(seconds: float) -> Stretch:
    return Stretch(stretch="hold", seconds=round(seconds))


def _baseline(given: Given, rows: int) -> tuple[Workload, tuple[Stretch, ...]]:
    return Users(shares="users"), (_climb(rows, 0), _hold(60 * given["minutes"]))


def _day(given: Given, rows: int) -> tuple[Workload, tuple[Stretch, ...]]:
    whole, users = 60 * given["minutes"], given["users"]
    return Users(), (_climb(users, 0.25 * whole), _hold(0.6 * whole), _climb(0, 0.15 * whole))


def _peak(given: Given, rows: int) -> tuple[Workload, tuple[Stretch, ...]]:
    whole, users = 60 * given["minutes"], given["users"]
    return Users(), (_climb(users, 0.1 * whole), _hold(0.85 * whole), _climb(0, 0.05 * whole))


def _stairs(given: Given, rows: int) -> tuple[Workload, tuple[Stretch, ...]]:
    stretch = Stretch(
        stretch="stairs", to=round(given["users"]), steps=8, seconds=round(60 * given["minutes"])
    )
    return Users(), (stretch,)


def _spike(given: Given, rows: int) -> tuple[Workload, tuple[Stretch, ...]]:
    whole, users = 60 * given["minutes"], given["users"]
    burst = Stretch(stretch="burst", to=round(given["rush"]), seconds=round(0.15 * whole))
    return Users(), (_climb(users, 0.1 * whole), _hold(0.3 * whole), burst, _hold(0.45 * whole))


def _soak(given: Given, rows: int) -> tuple[Workload, tuple[Stretch, ...]]:
    whole, users = 60 * given["minutes"], given["users"]
    return Users(), (_climb(users, min(600, 0.1 * whole)), _hold(whole - min(600, 0.1 * whole)))


def _arrivals(given: Given, rows: int) -> tuple[Workload, tuple[Stretch, ...]]:
    per_s = given["per_s"]
    load = Arrivals(spread="poisson", ceiling=max(100, round(per_s * LONGEST_ROUND_S)))
    return load, (Stretch(stretch="burst", to=per_s, seconds=round(60 * given["minutes"])),)


STARTS = (
    Start(
        "day",
        "An average day",
        "What is usual: it climbs, stays and falls, so that later runs can be told from it.",
        (("users", 20), ("minutes", 10)),
        _day,
    ),
    Start(
        "baseline",
        "One of each row",
        "What times are like without load: what is slow here is slow anyway.",
        (("minutes", 2),),
        _baseline,
    ),
    Start(
        "peak",
        "The busiest hour",
        "Whether the objectives hold when most are there.",
        (("users", 100), ("minutes", 60)),
        _peak,
    ),
    Start(
        "stairs",
        "Stairs to the limit",
        "Where the limit is: eight steps up to more than you expect; failures end it.",
        (("users", 200), ("minutes", 16)),
        _stairs,
    ),
    Start(
        "spike",
        "A rush",
        "Whether it comes through a sudden rush, and comes back to what it was.",
        (("users", 20), ("rush", 100), ("minutes", 10)),
        _spike,
    ),
    Start(
        "soak",
        "Hours on end",
        "What leaks, fills up or slows down after hours of the same load.",
        (("users", 50), ("minutes", 480)),
        _soak,
    ),
    Start(
        "arrivals",
        "Arrivals",
        "Visitors who come whether others wait or not, as on an open site.",
        (("per_s", 2), ("minutes", 10)),
        _arrivals,
    ),
)


def started(
    key: str, given: Given, rows: tuple[CrowdRow, ...]
) -> tuple[Crowd, tuple[Objective, ...]]:
    """The crowd and the objectives of a plan that begins from `key`. Raises PlanError for what is
    not known, or asked for and not given.
    """
    start = next((each for each in STARTS if each.key == key), None)
    if start is None:
        raise PlanError(
            f"“{key}” is nothing that a plan begins from; choose "
            f"{', '.join(each.key for each in STARTS)}."
        )
    missing = [WORDS[name] for name, _ in start.asks if not given.get(name)]
    if missing:
        raise PlanError(f"{start.name} needs {' and '.join(missing)}: write more than 0.")
    load, profile = start.make(given, len(rows))
    objectives = [Objective(objective="failures", measure="failure-rate", limit=1)]
    if key == "stairs":
        limit = Objective(
            objective="limit",
            measure="failure-rate",
            limit=20,
            every_s=10,
            then="stop gently",
            in_a_row=2,
        )
        objectives.append(limit)
    return Crowd(crowd="users", load=load, profile=profile, rows=rows), tuple(objectives)
