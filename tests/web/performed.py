"""A run as generators report it: so many users, and times that are drawn."""

from collections.abc import Callable

import numpy as np
from django.utils import timezone
from msgspec.structs import replace

from dynamikos.core.frozen import FrozenRun, Series, canonical, every_series
from dynamikos.core.probes import Probe
from dynamikos.core.reports import Health, SeriesSecond, ShardSecond, encode
from dynamikos.core.statistics import Histogram
from dynamikos.fleet.coordinator.watch import RunWatch
from dynamikos.web.runs import actions, queries
from dynamikos.web.runs.models import Report, Run, Shard
from tests.web.support import Sample

Slower = Callable[[Series, int], float]


def begun(sample: Sample, seconds: int, probes: tuple[Probe, ...] = ()) -> tuple[Run, FrozenRun]:
    """A run that has begun, of the sample's plan with three steps of its journey, measured from its
    tenth second on.
    """
    run = actions.start(sample.member, sample.plan)
    frozen = queries.frozen(run)
    short = replace(frozen.journey, opening=(), rounds=frozen.journey.rounds[:3], closing=())
    frozen = replace(
        frozen,
        plan=replace(frozen.plan, probes=probes),
        journeys={short.journey: short},
        measured=(10.0, seconds),
    )
    run.frozen, run.state, run.begins_at = canonical(frozen), "running", timezone.now()
    run.save()
    return run, frozen


def reported(
    run: Run, frozen: FrozenRun, seconds: int, slower: Slower, draw: np.random.Generator
) -> Shard:
    """Six exchanges of each series a second; `slower` says how many times as long they take."""
    shard = Shard.objects.create(run=run, number=0, generator_name="g", state="running")
    reports = []
    for second in range(seconds):
        parts = []
        for each in every_series(frozen):
            values = [int(v * slower(each, second)) for v in draw.lognormal(10, 0.3, 6)]
            hist = Histogram.of(values).to_bytes()
            squares = str(sum(v * v for v in values))
            parts.append(
                SeriesSecond(no=each.no, n=6, sum_us=sum(values), squares=squares, hist=hist)
            )
        reports.append(
            Report(
                shard=shard,
                second=second,
                body=encode(
                    ShardSecond(
                        shard=0,
                        second=second,
                        users={"thinking": 20},
                        answered=18,
                        sent=18,
                        series=parts,
                        health=Health(),
                        last=second == seconds - 1,
                    )
                ),
            )
        )
    Report.objects.bulk_create(reports)
    return shard


def ended(run: Run) -> Run:
    """What was reported is folded, and the run is over."""
    RunWatch(run).look(may_judge_lost=False)
    Run.objects.filter(pk=run.pk).update(
        state="ended",
        ending={"cause": "finished"},
        ended_at=timezone.now(),
        outcome={"ended": "finished", "exit_code": 0},
    )
    return Run.objects.get(pk=run.pk)
