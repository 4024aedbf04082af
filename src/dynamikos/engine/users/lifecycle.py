"""Where a virtual user stands between coming and going, and how it was asked to leave: the only
place that says so.
"""

from enum import Enum, IntEnum

from dynamikos.engine.reporting.recorder import Recorder


class Phase(Enum):
    """The part of its journey that a user performs."""

    NEW = "new"
    OPENING = "opening"
    BETWEEN = "between rounds"  # waits for its next round
    ROUND = "in a round"
    CLOSING = "closing"
    OVER = "over"


class Leaving(IntEnum):
    """How it was asked to leave; a later request is only heard where it is more urgent."""

    NOT = 0
    AFTER_ROUND = 1
    GENTLY = 2  # after the step at hand, think time cut short


# What follows what. Any of them ends at once when a user is abandoned or an error of ours ends it.
FOLLOWS: dict[Phase, frozenset[Phase]] = {
    Phase.NEW: frozenset({Phase.OPENING, Phase.OVER}),
    Phase.OPENING: frozenset({Phase.BETWEEN, Phase.OVER}),
    Phase.BETWEEN: frozenset({Phase.ROUND, Phase.CLOSING, Phase.OVER}),
    Phase.ROUND: frozenset({Phase.BETWEEN, Phase.OVER}),
    Phase.CLOSING: frozenset({Phase.OVER}),
    Phase.OVER: frozenset(),
}
THINKING = "thinking"
# by what name a phase is counted in the figures of users; "" is outside
COUNTED: dict[Phase, str] = {
    Phase.NEW: "",
    Phase.OPENING: "opening",
    Phase.BETWEEN: THINKING,
    Phase.ROUND: "in a round",
    Phase.CLOSING: "closing",
    Phase.OVER: "",
}


class Lifecycle:
    """Its phase, whether it thinks, and how it was asked to leave. Tells the recorder what it is
    counted as.
    """

    def __init__(self, recorder: Recorder, row: int) -> None:
        self._recorder, self._row = recorder, row
        self.phase = Phase.NEW
        self.leave = Leaving.NOT
        self.counted = ""  # by what name it is counted now
        self.in_round = self.leaving = False  # asked often, so kept beside `phase` and `leave`

    def enter(self, phase: Phase) -> None:
        """The next phase. Raises AssertionError for one that does not follow: an error of ours."""
        assert phase in FOLLOWS[self.phase], f"{phase.value} after {self.phase.value}"
        self.phase = phase
        self.in_round = phase is Phase.ROUND
        self._count(COUNTED[phase])

    def think(self) -> None:
        """It begins to think, whatever the phase."""
        self._count(THINKING)

    def thought(self) -> None:
        """It goes on with what its phase is."""
        self._count(COUNTED[self.phase])

    def ask(self, leave: Leaving) -> None:
        """It is asked to leave."""
        if leave > self.leave:
            self.leave = leave
        if leave is Leaving.AFTER_ROUND and not self.in_round:
            self.leave = Leaving.GENTLY
        self.leaving = self.leave is Leaving.GENTLY

    @property
    def is_last_round(self) -> bool:
        """Whether no round follows that at hand."""
        return self.leave is not Leaving.NOT

    @property
    def cuts_short(self) -> bool:
        """Whether the round at hand ends after its step."""
        return self.leaving and self.in_round

    def _count(self, name: str) -> None:
        if name != self.counted:
            self._recorder.move(self.counted, name, self._row)
            self.counted = name
