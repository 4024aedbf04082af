"""Child processes for what users write and for long computing: bounded in memory and time, ended
when they are over.

Nothing of the web runs in them, nothing they compute can stop the web. Start reading at `pool`; the
jobs are in `jobs`.
"""

from dynamikos.workers.pool import WorkerError, call

__all__ = ["WorkerError", "call"]
