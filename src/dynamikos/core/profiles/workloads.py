"""What a crowd's load is made of: how its profile is meant, and when its users come, go on and leave."""

from typing import Annotated, Literal

import msgspec

Unit = Literal["second", "minute", "hour"]
UNIT_S: dict[Unit, float] = {"second": 1.0, "minute": 60.0, "hour": 3600.0}
Count = Annotated[int, msgspec.Meta(ge=1, le=1_000_000)]
Pause = Annotated[float, msgspec.Meta(ge=0, le=86_400)]
Pacing = Annotated[tuple[Pause, ...], msgspec.Meta(min_length=1, max_length=2)]  # fixed, or from … to


class Base(
    msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, omit_defaults=True, tag_field="workload"
):
    """What a crowd's load can be. `pacing_s`: a user's next round begins so many seconds after its last one began, or
    after a number drawn from a range; one that comes too late for that begins at once and is counted as late.
    """

    pacing_s: Pacing | None = None


class Users(Base, frozen=True, kw_only=True, tag="users"):
    """Concurrent users: the profile says how many. `leaving` is when those leave whom a fall of it takes away: after
    the step at hand, after the round, or now, in the middle of a request (abandoned).

    `shares` are those of visits, rounds begun, or of users.
    """

    leaving: Literal["step", "round", "now"] = "step"
    shares: Literal["visits", "users"] = "visits"


class UserRounds(Base, frozen=True, kw_only=True, tag="rounds"):
    """So many `users`, each of which performs so many `rounds` and leaves. They start evenly within `start_s`. The
    profile is one stretch that says how long it may take at most.
    """

    users: Count
    rounds: Count
    start_s: Pause = 0.0


class Arrivals(Base, frozen=True, kw_only=True, tag="arrivals"):
    """The profile is arrivals `per` time, each of them a new user who performs opening, one round and closing. At
    `ceiling` users at once arrivals are turned away.
    """

    per: Unit = "second"
    spread: Literal["even", "poisson"] = "even"
    ceiling: Count


class Held(Base, frozen=True, kw_only=True, tag="held"):
    """The profile is rounds `per` time, which are begun at planned instants by users who are free, else by new ones up
    to `ceiling`, else by the next that is free, late.
    """

    per: Unit = "second"
    spread: Literal["even", "poisson"] = "even"
    ceiling: Count


Workload = Users | UserRounds | Arrivals | Held
Open = (Arrivals, Held)  # whose profile is no number of users
