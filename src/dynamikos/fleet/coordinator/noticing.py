"""Has runs that are over looked at for findings, one at a time, by a process of its own: it may
take a while.
"""

import datetime
import logging
import subprocess
import sys
import time

import msgspec
from django.conf import settings
from django.utils import timezone

from dynamikos.core.analysis.evidence import Found
from dynamikos.web.runs.models import Report, Run, Shard

log = logging.getLogger(__name__)
LONGEST_S = 300.0
SHARDS = 200  # whose reports are deleted at once
NOT_HAD = msgspec.to_builtins(
    Found(
        rule="not-looked-at",
        about="measurement",
        sentence="The run could not be looked at.",
        means="Its figures stand; what the rules would have said of them is not known.",
        try_="Why stands in log/coordinator.log, in the installation's state folder.",
    )
)


def expire() -> int:
    """Raw reports of runs that ended so many days ago are not needed any more: what is folded of
    them stays. How many; none where they are kept for ever (0 days).
    """
    days = settings.REPORTS_DAYS
    if days <= 0:
        return 0
    old = timezone.now() - datetime.timedelta(days=days)
    shards = Shard.objects.filter(run__ended_at__lt=old, run__is_folded=True).values_list(
        "pk", flat=True
    )
    # by their index, some at a time: of a join of tables that grew a moment ago the database may
    # make a slow plan
    pieces = (shards[at : at + SHARDS] for at in range(0, len(shards), SHARDS))
    return sum(int(Report.objects.filter(shard__in=list(some)).delete()[0]) for some in pieces)


class Noticing:
    """At most one run is looked at at a time; of one that can't be that is said."""

    def __init__(self) -> None:
        self._process: subprocess.Popen[bytes] | None = None
        self._run: Run | None = None
        self._since = 0.0

    @property
    def is_busy(self) -> bool:
        return self._process is not None

    def tick(self) -> None:
        if self._process is not None:
            late = time.monotonic() - self._since > LONGEST_S
            if self._process.poll() is None and not late:
                return
            if late:
                self._process.kill()
            if (late or self._process.returncode) and self._run is not None:
                log.error("the findings of run %s could not be had", self._run.pk)
                Run.objects.filter(pk=self._run.pk, findings__isnull=True).update(
                    findings=[NOT_HAD]
                )
            self._process = None
        waiting = Run.objects.filter(
            state=Run.State.ENDED, findings__isnull=True, is_folded=True, watermark__gte=0
        )
        self._run = waiting.order_by("-ended_at").first()
        if self._run is not None:
            command = [sys.executable, "-m", "dynamikos.cli", "analyse", str(self._run.pk)]
            self._process = subprocess.Popen(command, stdin=subprocess.DEVNULL)
            self._since = time.monotonic()
