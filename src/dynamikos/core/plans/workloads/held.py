"""Rounds at a held rate."""

from typing import TYPE_CHECKING, ClassVar

from dynamikos.core.plans.workloads.base import SPREADS, Open

if TYPE_CHECKING:
    from dynamikos.core.plans.crowds import Crowd


class Held(Open, frozen=True, kw_only=True, tag="held"):
    """The profile is rounds `per` time, which are begun at planned instants by users who are free,
    else by new ones up to `ceiling`, else by the next that is free, late.
    """

    key: ClassVar[str] = "held"
    counts: ClassVar[str] = "rounds"

    def numbers(self, crowd: "Crowd") -> int:
        return self.ceiling

    def says(self) -> str:
        return f"Rounds are begun {SPREADS[self.spread]}, by at most {self.ceiling:,} users."
