"""Concurrent users: the profile says how many."""

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, ClassVar, Literal

from dynamikos.core.plans.workloads.base import Base
from dynamikos.core.profiles import user_spans_s, users_by_second

if TYPE_CHECKING:
    from dynamikos.core.plans.crowds import Crowd

LEAVE = {
    "step": "",
    "round": "; those taken away finish their round",
    "now": "; those taken away leave at once",
}


class Users(Base, frozen=True, kw_only=True, tag="users"):
    """Concurrent users: the profile says how many. `leaving` is when those leave whom a fall of it
    takes away: after the step at hand, after the round, or now, in the middle of a request
    (abandoned).

    `shares` are those of visits, rounds begun, or of users.
    """

    leaving: Literal["step", "round", "now"] = "step"
    shares: Literal["visits", "users"] = "visits"

    key: ClassVar[str] = "users"
    is_scalable: ClassVar[bool] = True

    @property
    def leaves(self) -> Literal["step", "round", "now"]:
        return self.leaving

    @property
    def shares_of_users(self) -> bool:
        return self.shares == "users"

    @property
    def is_weighed(self) -> bool:
        return self.shares == "visits"

    def spans(self, crowd: "Crowd") -> Iterator[tuple[int, float, float]]:
        for k, start, end in user_spans_s(crowd.profile):
            yield k, crowd.starts_s + start, crowd.starts_s + end

    def planned(self, crowd: "Crowd", times: Sequence[float]) -> list[int]:
        return users_by_second(crowd.profile, times)

    def says(self) -> str:
        return f"So many users are there as the curve says{self.paced}{LEAVE[self.leaving]}."
