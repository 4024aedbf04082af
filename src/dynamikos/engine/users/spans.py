"""The times of several steps together, as they are under way: without the think times in them."""

from dynamikos.engine.reporting.recorder import Recorder
from dynamikos.engine.users.compiled import CompiledStep
from dynamikos.engine.users.thinking import Thinking
from dynamikos.engine.users.user_state import UserState


class Spans:
    """Those of one user that are open. A step says which begin and end with it."""

    def __init__(self, own: UserState, recorder: Recorder, thinking: Thinking) -> None:
        self._own, self._recorder, self._thinking = own, recorder, thinking
        # series → due, seconds thought by then, own delay by then
        self._open: dict[int, tuple[float, float, float]] = {}

    def began(self, step: CompiledStep, due: float) -> None:
        """Those that begin with a step do."""
        for series in step.begins:
            self._open[series] = (due, self._thinking.total_s, self._own.late_s)

    def over(self, step: CompiledStep, ended: float, kind: str) -> None:
        """Those that end with a step do: it passed, or failed by `kind`."""
        for series in step.ends:
            self._end(series, ended, kind)

    def fail(self, ended: float, kind: str) -> None:
        """All that are open: what follows is skipped."""
        for series in list(self._open):
            self._end(series, ended, kind)

    def clear(self) -> None:
        """A round begins: what the last one left open is not counted."""
        if self._open:
            self._open.clear()

    def open_now(self) -> list[tuple[int, float]]:
        """(series, due) of each; think times so far count as later dues."""
        total_s = self._thinking.total_s
        return [
            (series, due + total_s - thought) for series, (due, thought, _) in self._open.items()
        ]

    def _end(self, series: int, ended: float, kind: str) -> None:
        due, thought, late_s = self._open.pop(series, (-1.0, 0.0, 0.0))
        if due < 0:
            return
        took = ended - due - (self._thinking.total_s - thought)
        if kind:
            self._recorder.missed(series, ended, round(took * 1e6), kind)
        else:
            self._recorder.passed(series, ended - took, ended, self._own.late_s - late_s)
