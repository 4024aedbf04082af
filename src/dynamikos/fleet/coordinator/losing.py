"""Generators that are lost while a run goes on, and how long one is waited for."""

import time
from collections.abc import Mapping, Sequence

from django.utils import timezone

from dynamikos.core.lifecycles import SHARD, moved
from dynamikos.core.verdicts.ending import LOST, plain
from dynamikos.fleet.coordinator.stream import say
from dynamikos.fleet.settings import LOST_CLOSE_S, LOST_S
from dynamikos.web.notices.actions import announce
from dynamikos.web.places.queries import locks_held
from dynamikos.web.runs.models import Lease, Run, Shard


class Losses:
    """Those of one run."""

    def __init__(self, run: Run) -> None:
        self._run = run
        self._since: dict[
            int, tuple[float, bool]
        ] = {}  # by shard: when, whether its process is gone

    def look(self, shards: Sequence[Shard], read: Mapping[int, int]) -> None:
        """Lock gone and not seen: dead. Seen no more although the lock is held (a cut link): cut
        off, treated alike. `read`: by shard, up to which second it has reported.
        """
        held: set[int] | None = None
        for shard in shards:
            if shard.state in ("ended", "lost") or shard.generator is None:
                continue
            age = (timezone.now() - shard.generator.last_seen).total_seconds()
            if age < LOST_S / 2:
                continue
            held = locks_held() if held is None else held
            gone = shard.generator.lock not in held
            if (gone and age > LOST_S / 2) or age > 2 * LOST_S:
                self._since[shard.number] = (time.monotonic(), gone)
                self._lose(shard, read.get(shard.number, -1) + 1)

    def _lose(self, shard: Shard, second: int) -> None:
        run = self._run
        shard.state, shard.ending = moved(SHARD, shard.state, "lost"), plain(LOST)
        shard.lost_at_s = second
        shard.save(update_fields=["state", "ending", "lost_at_s"])
        # surely not dealt
        Lease.objects.filter(run=run, shard=shard.number, begun=False).update(shard=-1)
        said = f"The generator {shard.generator_name} was lost after second {second}"
        say(run.pk, "log", f"{said}; what it reported stays.")
        announce(run, "lost", f"{said} of run {run.number}; what it reported stays.")

    def is_given_up(self, shard: Shard) -> bool:
        """Whether a lost shard is not waited for any longer."""
        if shard.state != "lost":
            self._since.pop(shard.number, None)
            return False
        since, gone = self._since.setdefault(shard.number, (time.monotonic(), False))
        return time.monotonic() - since > (min(LOST_CLOSE_S, 1.0) if gone else LOST_CLOSE_S)
