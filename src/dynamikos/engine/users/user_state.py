"""What one virtual user has: its number, values, cookies and rows. Others are given this instead of
the user.
"""

from dataclasses import dataclass, field

from dynamikos.core.values import Values
from dynamikos.engine.http.caching import Cache
from dynamikos.engine.http.cookies import CookieJar
from dynamikos.engine.users.manner import PLAIN, Manner


@dataclass(slots=True)
class UserState:
    """`turns` and `rows` are takings so far and the rows held, by number of what is dealt."""

    number: int
    values: Values
    jar: CookieJar = field(default_factory=CookieJar)
    round: int = 0
    turns: dict[int, int] = field(default_factory=dict)
    rows: dict[int, int] = field(default_factory=dict)
    rows_over: str = ""  # why it gets none any more
    seat: int = 0  # the place that it takes: slices of data are theirs
    manner: Manner = PLAIN
    cache: Cache | None = None
    followed: bool = False  # somebody watches: all that it exchanges is kept
    failures: int = 0  # requests that failed; of the last one when, on the clock, and how
    failed_at: float = 0.0
    failure: str = ""
    # the generator's own delay in all that it has exchanged and thought: what a sample holds of it
    late_s: float = 0.0
    # is the difference of two readings

    def missed(self, kind: str, at: float) -> None:
        """A request failed."""
        self.failures += 1
        self.failure, self.failed_at = kind, at

    def choose(self, count: int) -> int:
        """A number below `count`, from the user's own stream of the run's seed."""
        return self.values.maker.random.randrange(count)

    def shown(self) -> dict[str, str]:
        """Its values, for reading. The number of the round is only kept among them where the
        journey asks for it.
        """
        return {**self.values, "round.number": str(self.round)}
