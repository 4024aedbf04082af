"""The one public door: `run` performs a shard, `Rehearsal` one user and one round."""

from dynamikos.core.verdicts.ending import Ending
from dynamikos.engine.http.cookies import suffixes
from dynamikos.engine.ports import Clock, Network, Sink
from dynamikos.engine.running.control import Control
from dynamikos.engine.running.rehearsal import Rehearsal
from dynamikos.engine.running.shard import Shard, primed_for, tables_of, user_contexts
from dynamikos.engine.running.shard_run import ShardRun

__all__ = ["Control", "Rehearsal", "Shard", "primed_for", "run", "tables_of", "user_contexts"]

suffixes()  # read once, before anything is timed


async def run(
    shard: Shard,
    network: Network,
    clock: Clock,
    sink: Sink,
    *,
    begin: float,
    control: Control | None = None,
) -> Ending:
    """Performs `shard` from the clock's instant `begin` (second 0) and returns how it ended.

    Reports one message a second; the last has `last=True`. Raises TemplateError, RuleError or
    Failure before anything is sent.
    """
    return await ShardRun(shard, network, clock, sink, begin, control or Control()).perform()
