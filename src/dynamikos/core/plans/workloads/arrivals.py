"""Arrivals, each of them a new user for one round."""

from typing import TYPE_CHECKING, ClassVar

from dynamikos.core.plans.workloads.base import SPREADS, Open, beyond
from dynamikos.core.profiles import segments
from dynamikos.core.profiles.instants import expected

if TYPE_CHECKING:
    from dynamikos.core.plans.crowds import Crowd


class Arrivals(Open, frozen=True, kw_only=True, tag="arrivals"):
    """The profile is arrivals `per` time, each of them a new user who performs opening, one round
    and closing. At `ceiling` users at once arrivals are turned away.
    """

    key: ClassVar[str] = "arrivals"
    counts: ClassVar[str] = "arrivals"
    is_one_round: ClassVar[bool] = True

    def numbers(self, crowd: "Crowd") -> int:
        return beyond(expected(segments(crowd.profile), self.unit_s))

    def says(self) -> str:
        how = SPREADS[self.spread]
        return f"New users arrive {how}; above {self.ceiling:,} at once they are turned away."
