"""A plan from an address alone: a journey that asks for it, an environment that agrees to it, a
load.
"""

import math
from dataclasses import dataclass
from urllib.parse import urlsplit

from dynamikos.core.errors import PlanError
from dynamikos.core.journeys import Journey, Request, key_from
from dynamikos.core.journeys.kinds import Sending
from dynamikos.core.objectives import Objective
from dynamikos.core.plans.crowds import Crowd, CrowdRow
from dynamikos.core.plans.environment import Environment, Way
from dynamikos.core.plans.model import Plan
from dynamikos.core.plans.workloads import Arrivals, Users
from dynamikos.core.profiles import Stretch

THINK_S = 1.0  # between two rounds of a user
LONGEST_S = 60.0  # that a round is thought to take at most: so many arrivals are there at once


@dataclass(frozen=True, slots=True)
class Quick:
    """`agreed` is the one target: the address's scheme, host and port."""

    plan: Plan
    journey: Journey
    environment: Environment
    agreed: str


def from_address(
    address: str,
    seconds: float,
    *,
    users: int | None = None,
    arrivals_per_s: float | None = None,
    trust: str = "system",
) -> Quick:
    """Either `users` at once or `arrivals_per_s`, for `seconds`; `trust` as in Way. Raises
    PlanError with what is wrong.
    """
    origin, path = _split(address)
    if (users is None) == (arrivals_per_s is None):
        raise PlanError("say how many come: either users at once, or arrivals a second")
    if not 1 <= seconds <= 604_800:
        raise PlanError(f"a duration of {seconds:g} s: write 1 to 604,800 seconds")
    if users is not None and not 1 <= users <= 1_000_000:
        raise PlanError(f"{users:,} users: write 1 to 1,000,000")
    if arrivals_per_s is not None and not 0 < arrivals_per_s <= 100_000:
        raise PlanError(
            f"{arrivals_per_s:g} arrivals a second: write more than 0, and at most 100,000"
        )
    host = urlsplit(origin).hostname or "address"
    key = key_from(host)
    think = THINK_S if users is not None else 0.0
    request = Request(request="get", address="{{ env.site }}" + path)
    step = Sending(step="ask", name=f"Ask for {path}"[:120], think_s=think, requests=(request,))
    journey = Journey(form=1, journey=key, name=f"Ask for {address}"[:120], rounds=(step,))
    climb_s = min(10.0, seconds / 10) if users is not None else 0.0
    top: int | float = users if users is not None else arrivals_per_s or 0.0
    profile = (
        Stretch(stretch="climb", to=top, seconds=climb_s),
        Stretch(stretch="hold", seconds=seconds - climb_s),
    )
    load = (
        Users()
        if users is not None
        else Arrivals(ceiling=max(100, math.ceil((arrivals_per_s or 0) * LONGEST_S)))
    )
    said = f"{users:,} users" if users is not None else f"{arrivals_per_s:g} arrivals a second"
    plan = Plan(
        form=2,
        plan=key_from(f"{host} {said}"),
        name=f"{said} at {host}"[:120],
        environment=key,
        objectives=(Objective(objective="failures", measure="failure-rate", limit=1),),
    ).with_crowds(
        (
            Crowd(
                crowd="users",
                load=load,
                profile=profile,
                rows=(CrowdRow(row="users", journey=key),),
            ),
        )
    )
    environment = Environment(
        form=1,
        environment=key,
        name=host,
        addresses={"site": origin},
        agreed=(origin,),
        way=Way(trust=trust),
    )
    return Quick(plan, journey, environment, origin)


def _split(address: str) -> tuple[str, str]:
    """(origin, path with query) of an address."""
    try:
        parts = urlsplit(address.strip())
        port = parts.port
    except ValueError as problem:
        raise PlanError(f"'{address[:120]}' is not an address: {problem}") from problem
    if parts.scheme not in ("http", "https") or not parts.hostname:
        raise PlanError(
            f"'{address[:120]}' is not an http or https address; write it whole, as "
            "https://shop.example/"
        )
    if parts.username or parts.password:
        raise PlanError(
            "an address with a name and password in it would be stored; write a journey that signs "
            "in"
        )
    if "{{" in address or "}}" in address:
        raise PlanError("an address alone has no values to fill in; write a journey for that")
    host = f"[{parts.hostname}]" if ":" in parts.hostname else parts.hostname
    origin = f"{parts.scheme}://{host}{f':{port}' if port else ''}"
    return origin, (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
