"""A rehearsal: one user, everything kept."""

from collections.abc import Callable

from dynamikos.core.frozen import stream
from dynamikos.core.reports import KeptExchange
from dynamikos.engine import guard
from dynamikos.engine.ports import Clock, Network
from dynamikos.engine.reporting.health import HealthWatch
from dynamikos.engine.reporting.keeping import Choice
from dynamikos.engine.reporting.recorder import Recorder
from dynamikos.engine.running.shard import Shard, user_contexts
from dynamikos.engine.users.performer import User
from dynamikos.engine.users.user_context import UserContext


class Rehearsal:
    """One user, one round or a few, no think times, everything kept (redirect hops too).

    Afterwards, if wanted, the journey's clean-up.
    """

    def __init__(self, shard: Shard, user: int = 1, rounds: int = 1) -> None:
        """`user` is the number the virtual user has."""
        self._shard, self._number, self._rounds = shard, user, rounds
        self._user: User | None = None
        self._context: UserContext | None = None

    async def perform(
        self, network: Network, clock: Clock, keep: Callable[[KeptExchange], None]
    ) -> str:
        """Returns "passed" or "failed". Raises TemplateError or RuleError before anything is
        sent.
        """
        recorder = Recorder(0, clock.now())
        health = HealthWatch()
        (context,) = user_contexts(self._shard, network, clock, recorder, health, keep)
        self._context = context
        context.think_factor = 0.0
        context.cache = "none"  # what was recorded is compared, request by request
        context.keep_everything = True
        context.choice = Choice(stream(self._shard.frozen.seed, "keep", "", 0), everything=True)
        user = self._user = User(self._number, context, rounds=self._rounds)
        with guard.watching():
            why = await user.perform()
        return "failed" if why != "done" or recorder.failures else "passed"

    async def clean_up(
        self, network: Network, clock: Clock, keep: Callable[[KeptExchange], None]
    ) -> str:
        """Every step of the clean-up, with the values and cookies that the user ended with;
        "passed" or "failed".
        """
        user, context = self._user, self._context
        if user is None or context is None:
            return "failed"
        context.network, context.clock, context.keep, context.recorder.failures = (
            network,
            clock,
            keep,
            0,
        )
        with guard.watching():
            await user.clean_up()
        return "failed" if context.recorder.failures else "passed"
