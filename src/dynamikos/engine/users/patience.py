"""How long a user waits for a step, and what it does then: it reloads the step some times, or
leaves.
"""

from dynamikos.engine.users.manner import Manner


class Patience:
    """`seconds` for a step; 0: for ever. `ran_out` and then `reloads` say what became of the step
    at hand.
    """

    def __init__(self, manner: Manner) -> None:
        self.seconds = manner.patience_s
        self._most = manner.reloads
        self._reloads = 0
        self._of = (0, -1)  # the round and series of the step that was reloaded
        self.is_over = False  # with the step at hand
        self.has_left = False

    def run_out(self) -> None:
        """The user waited for the step at hand as long as it does."""
        self.is_over = True

    def reloads(self, round_number: int, series: int) -> bool:
        """Whether the step is reloaded; else the user has left. The reloads of each step of each
        round are counted from 0.
        """
        self.is_over = False
        if self._of != (round_number, series):
            self._of, self._reloads = (round_number, series), 0
        if self._reloads < self._most:
            self._reloads += 1
            return True
        self.has_left = True
        return False
