"""How a run, or a generator's part of one, ended: a value. Sentences of it are made where they are
shown.
"""

from collections.abc import Iterable
from typing import Any, Literal

import msgspec

from dynamikos.core.errors import DynamikosError, brief

Cause = Literal["finished", "stopped", "lost", "refused", "broke"]
By = Literal["", "person", "rule", "objective", "disk", "shell", "generator"]
DISK_FULL = "the disk of "  # as such a reason began in endings that were sentences
LONGEST = 500  # characters of a detail: it may be what an operating system or a database says


class Ending(msgspec.Struct, frozen=True, kw_only=True):
    """`cause`: what happened; *refused* is what never began to send. `by`: who stopped it, a
    person's hand if nobody else. `now`: whether users were cut off in their rounds, where that is
    known. `objective`: the statement of the one that stopped it. `detail`: the reason, for a
    person, without a full stop.
    """

    cause: Cause = "finished"
    by: By = ""
    now: bool = False
    objective: str = ""
    detail: str = ""

    @property
    def is_by_hand(self) -> bool:
        return self.cause == "stopped" and self.by == "person"

    @property
    def is_whole(self) -> bool:
        """Whether it ended as it was planned."""
        return self.cause == "finished"

    @property
    def is_own(self) -> bool:
        """Whether its own rules, an objective among them, ended it: what was measured until then
        counts.
        """
        return self.cause == "stopped" and self.by != "person"

    @property
    def words(self) -> str:
        """In a few words, as lists and the JSON of a run (`ended`) have it."""
        if self.is_by_hand:
            return "stopped now" if self.now else "stopped gently"
        if self.cause == "refused" and self.detail:
            return self.detail
        why = f"objective: {self.objective}" if self.objective else self.detail
        return f"{self.cause}: {why}" if why else self.cause

    @property
    def why(self) -> str:
        """What a rule or an objective said."""
        return self.objective or self.detail


FINISHED, LOST = Ending(), Ending(cause="lost")
NOW, GENTLY = (Ending(cause="stopped", by="person", now=now) for now in (True, False))


def broke(detail: object) -> Ending:
    """An error of ours ended it."""
    return Ending(cause="broke", detail=brief(str(detail))[:LONGEST])


def stopped(by: By, detail: object, *, now: bool = False) -> Ending:
    """Something else than a person or an objective ends it."""
    return Ending(cause="stopped", by=by, now=now, detail=brief(str(detail))[:LONGEST])


def refused(detail: object, by: By = "") -> Ending:
    """Nothing was sent."""
    return Ending(cause="refused", by=by, detail=brief(str(detail))[:LONGEST])


# What says most of how the whole ended, first: what broke or was refused, what rules ended, what a
# person did.
_WEIGHT = ("broke", "refused", "own", "now", "gently", "finished", "lost")


def of_all(endings: Iterable[Ending]) -> Ending:
    """How a run ended, from how its parts did; lost where none said anything."""

    def weight(each: Ending) -> tuple[int, str]:
        kind: str = "own" if each.is_own else each.cause
        if each.is_by_hand:
            kind = "now" if each.now else "gently"
        return _WEIGHT.index(kind), each.words

    return min(endings, key=weight, default=LOST)


def plain(ending: Ending) -> dict[str, Any]:
    """As a JSON column has it."""
    made: dict[str, Any] = msgspec.to_builtins(ending)
    return made


def ending_of(stored: Any) -> Ending | None:
    """What a JSON column holds; None where nothing has ended. Raises DynamikosError."""
    if not stored:
        return None
    try:
        return msgspec.convert(stored, Ending)
    except msgspec.ValidationError as problem:
        raise DynamikosError(f"it is not how a run ends: {problem}") from problem


def of_words(words: str) -> Ending:
    """Of an earlier day, when an ending was a sentence."""
    if words in ("", "finished"):
        return FINISHED
    if words in ("stopped gently", "stopped now"):
        return NOW if words == "stopped now" else GENTLY
    if words == "lost":
        return LOST
    cause, _, why = words.partition(": ")
    if cause == "stopped":
        what, _, objective = why.partition(": ")
        if what == "objective":
            return Ending(cause="stopped", by="objective", objective=objective)
        return Ending(
            cause="stopped", by="disk" if why.startswith(DISK_FULL) else "rule", detail=why
        )
    if cause == "broke":
        return Ending(cause="broke", detail=why)
    return Ending(cause="refused", detail=why if cause == "refused" else words)
