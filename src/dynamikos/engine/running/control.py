"""How a shard that runs is stopped, changed and looked at from outside."""

import asyncio
from collections.abc import Sequence
from typing import Protocol

from msgspec.structs import replace

from dynamikos.core.profiles.changing import Change
from dynamikos.core.reports.present import Present
from dynamikos.core.verdicts.ending import GENTLY, NOW, Ending


class Steered(Protocol):
    """A shard that runs."""

    def stop_gently(self) -> None:
        """All users leave: step finished, closing performed; nobody new starts."""
        ...

    def replan(self, changes: Sequence[Change]) -> None:
        """All changes of the load that were asked for by now, in order."""
        ...

    def look(self, followed: frozenset[int]) -> Present:
        """Who is there now; from now on the users of these numbers are `followed`."""
        ...

    def forget(self) -> None:
        """What was given to others is not its own any more."""
        ...


class Control:
    """Stops, changes and looks at a shard; what is asked before it runs is done once it does."""

    def __init__(self) -> None:
        self._steered: Steered | None = None
        self._now: asyncio.Event = asyncio.Event()
        self.ending: Ending | None = None  # what stopped it first; `now` where anything did at once
        self.loss_s = float(
            "inf"
        )  # after so long a stop it is taken for lost, and sends nothing more
        self.is_lost = False
        self.broke: Ending | None = None  # the run can't be trusted: an error of ours
        self.changes: tuple[Change, ...] = ()

    def attach(self, steered: Steered) -> None:
        """The shard runs from now on."""
        self._steered = steered
        if self.changes:
            steered.replan(self.changes)
        if self.ending is not None and not self.ending.now:
            steered.stop_gently()

    def detach(self) -> None:
        """The shard runs no more."""
        self._steered = None

    async def until_stopped_now(self) -> None:
        """Returns when its users are to be cut off."""
        await self._now.wait()

    def look(self, followed: frozenset[int]) -> Present | None:
        """Who is there now; from now on the users of these numbers are `followed`. None while
        nobody is there.
        """
        return self._steered.look(followed) if self._steered is not None else None

    @property
    def is_stopped(self) -> bool:
        return self.ending is not None

    def stop_gently(self) -> None:
        """By hand."""
        self.end(GENTLY)

    def stop_now(self) -> None:
        """By hand."""
        self.end(NOW)

    def end(self, why: Ending) -> None:
        """Who stops it first has done it; `why.now` cuts users off, whoever it comes from."""
        known = self.ending
        self.ending = why if known is None else replace(known, now=known.now or why.now)
        if why.now:
            self._now.set()
        elif self._steered is not None:
            self._steered.stop_gently()

    def lose(self) -> None:
        """It did not run for so long that others have taken it for lost."""
        self.is_lost = True
        self.stop_now()

    def change(self, changes: Sequence[Change]) -> None:
        """All changes of the load that were asked for by now, in order."""
        if len(changes) > len(self.changes):
            self.changes = tuple(changes)
            if self._steered is not None and not self.is_stopped:
                self._steered.replan(self.changes)

    def taken_back(self) -> None:
        """The shard had been taken for lost: what was given to others is not its own any more."""
        if self._steered is not None:
            self._steered.forget()
