"""So many users, each of whom performs so many rounds."""

from collections.abc import Callable, Iterator, Sequence
from typing import TYPE_CHECKING, ClassVar

from msgspec.structs import replace

from dynamikos.core.plans.workloads.base import Base, Count, Expected, OneRow, Pause, Span
from dynamikos.core.profiles import Stretch, duration_s
from dynamikos.core.profiles.changing import Change, delayed

if TYPE_CHECKING:
    from dynamikos.core.plans.crowds import Crowd


class UserRounds(Base, frozen=True, kw_only=True, tag="rounds"):
    """So many `users`, each of which performs so many `rounds` and leaves. They start evenly within
    `start_s`. The profile is one stretch that says how long it may take at most.
    """

    users: Count
    rounds: Count
    start_s: Pause = 0.0

    key: ClassVar[str] = "rounds"
    has_curve: ClassVar[bool] = False

    @property
    def rounds_each(self) -> int | None:
        return self.rounds

    def seats(self, crowd: "Crowd") -> int:
        return self.users

    def spans(self, crowd: "Crowd") -> Iterator[tuple[int, float, float]]:
        for k in range(1, self.users + 1):
            yield k, crowd.starts_s + self.start_s * (k - 1) / self.users, crowd.ends_s

    def planned(self, crowd: "Crowd", times: Sequence[float]) -> list[int]:
        users, start_s, last_s = self.users, self.start_s, duration_s(crowd.profile)
        begun = [min(users, int(at * users / start_s) + 1) if start_s else users for at in times]
        return [count if 0 <= at < last_s else 0 for at, count in zip(times, begun, strict=True)]

    def says(self) -> str:
        return f"{self.users:,} users perform {self.rounds:,} rounds each{self.paced}."

    def brief(self, crowd: "Crowd") -> str:
        return f"{self.users:,} users × {self.rounds:,} rounds"

    def problems(self, crowd: "Crowd") -> Iterator[str]:
        if self.start_s > duration_s(crowd.profile):
            yield "The last of its users would start after its end; make its stretch longer."
        yield from super().problems(crowd)

    def multiplied(self, load: float, length: float) -> "Base":
        return replace(self, users=max(1, round(self.users * load)), start_s=self.start_s * length)

    def changed(self, crowd: "Crowd", changes: Sequence[Change]) -> "Crowd":
        """They are only given more time by a hold."""
        lasts_s = delayed(crowd.ends_s, changes) - crowd.starts_s
        return replace(crowd, profile=(Stretch(stretch="hold", seconds=lasts_s),))

    def slopes(self, crowd: "Crowd") -> list[Span]:
        return [(crowd.starts_s, crowd.starts_s + self.start_s)]

    def edges(self, crowd: "Crowd") -> set[float]:
        return {crowd.starts_s + self.start_s}

    def expecting(self, crowd: "Crowd") -> Callable[[OneRow], Expected]:
        return lambda row: Expected(
            row.part * self.users,
            row.part * self.users * self.rounds,
            row.part * self.users / row.taken_s,
        )
