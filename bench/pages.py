"""The page of a 10-minute run, and a change of its window, beside an empty page and a plain SELECT
in the same run.

A run of 600 seconds with 20 steps and requests, 200 exchanges/s, made through the coordinator's own
expansion on a cluster of its own.
"""

import random
import statistics
import time

from bench.database import own_database

Result = tuple[str, float, str, str, bool]


def median_ms(work, times: int = 7) -> float:  # type: ignore[no-untyped-def]
    taken = []
    for _ in range(times):
        begun = time.perf_counter()
        work()
        taken.append(1000 * (time.perf_counter() - begun))
    return statistics.median(taken)


def run() -> list[Result]:
    with own_database():
        return _measure()


def _measure() -> list[Result]:
    from django.db import connection
    from django.test import Client
    from django.utils import timezone
    from tests.web.support import Sample
    from tests.web.test_runs import generator

    from dynamikos.core.frozen import series_of
    from dynamikos.core.reports import Health, SeriesSecond, ShardSecond, encode
    from dynamikos.core.statistics import Histogram
    from dynamikos.fleet.coordinator.watch import RunWatch
    from dynamikos.web.runs import actions, queries
    from dynamikos.web.runs.models import Report, Run, Shard

    sample, draw = Sample(), random.Random(4)
    made = actions.start(sample.member, sample.plan) if generator() else None
    assert made is not None
    shard = Shard.objects.create(
        run=made, number=0, generator_name="g", state="ended", ending={"cause": "finished"}
    )
    Run.objects.filter(pk=made.pk).update(state="running", begins_at=timezone.now())
    series = list(series_of(queries.frozen(made).journey))
    reports = []
    for second in range(600):
        parts = []
        for each in series:
            values = [int(draw.lognormvariate(10.5, 0.6)) for _ in range(10)]
            parts.append(
                SeriesSecond(
                    no=each.no,
                    n=10,
                    sum_us=sum(values),
                    squares=str(sum(v * v for v in values)),
                    hist=Histogram.of(values).to_bytes(),
                    ttfb_hist=Histogram.of(values).to_bytes(),
                )
            )
        message = ShardSecond(
            shard=0,
            second=second,
            planned_users=20,
            users={"thinking": 20},
            sent=200,
            answered=200,
            series=parts,
            health=Health(),
            last=second == 599,
        )
        reports.append(Report(shard=shard, second=second, body=encode(message)))
    Report.objects.bulk_create(reports)
    begun = time.perf_counter()
    RunWatch(Run.objects.get(pk=made.pk)).look(may_judge_lost=False)
    expanded = time.perf_counter() - begun
    client = Client()
    client.force_login(sample.accounts["ada"])
    address = sample.address(f"runs/{made.pk}")

    def get(path: str) -> None:
        answer = client.get(path)
        assert answer.status_code == 200, answer.status_code

    def select() -> None:
        with connection.cursor() as cursor:
            cursor.execute(
                "SELECT count(*), sum(length(total)) FROM runs_chunk WHERE run_id = %s", [made.pk]
            )
            cursor.fetchall()

    get(address)
    page, window, ragged = (
        median_ms(lambda: get(address)),
        median_ms(lambda: get(f"{address}/tables?from=120&to=300")),
        median_ms(lambda: get(f"{address}/tables?from=33&to=571")),
    )
    empty, plain = median_ms(lambda: get("/")), median_ms(select)
    return [
        (f"page of a 600 s run, {len(series)} series", page, "ms", "≤ 1,000", page <= 1000),
        ("its window changed to 02:00–05:00", window, "ms", "≤ 300", window <= 300),
        ("its window changed to 00:33–09:31", ragged, "ms", "≤ 300", ragged <= 300),
        ("empty page (projects)", empty, "ms", "", True),
        ("plain SELECT over its chunks", plain, "ms", "", True),
        ("page / empty page", page / empty, "", "≤ 60", page / empty <= 60),
        (
            "coordinator: expanding a second",
            1000 * expanded / 600,
            "ms",
            "≤ 100",
            expanded / 600 <= 0.1,
        ),
    ]
