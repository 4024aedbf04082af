"""Reading a run of an hour: fifteen rows of a crowd over one journey, hundreds of series, on four
generators, folded by the coordinator's own code; and a soak of eight hours. Each figure beside an
empty page in the same run.
"""

import math
import random
import resource
import time
from collections.abc import Callable
from typing import Any

import msgspec
import numpy as np

from bench.database import own_database
from bench.pages import Result, median_ms

ROWS, SHARDS, SECONDS, SOAK_S = 15, 4, 3600, 8 * 3600
MEASURES = 60  # of servers beside it


def run() -> list[Result]:
    with own_database():
        return _measure()


def _made(sample: Any, rows: int, shards: int, seconds: int) -> Any:
    """A run of so many rows, generators and seconds, in the database as the coordinator leaves
    it.
    """
    from django.db import transaction
    from django.utils import timezone
    from msgspec.structs import replace
    from tests.web.test_runs import generator

    from dynamikos.core.frozen import canonical, every_series
    from dynamikos.core.plans import Crowd, CrowdRow
    from dynamikos.core.profiles import Stretch
    from dynamikos.core.reports import Health, SeriesSecond, ShardSecond
    from dynamikos.core.reports.frames import frame_of
    from dynamikos.core.statistics import Histogram
    from dynamikos.fleet.coordinator.expand import Folding
    from dynamikos.web.runs import actions, measures, queries
    from dynamikos.web.runs.models import Run, Shard
    from dynamikos.web.streams.models import Message

    Run.objects.update(state="ended")
    generator(f"g{seconds}")
    made = actions.start(sample.member, sample.plan)
    inputs = queries.frozen(made)
    key = inputs.journey.journey
    crowd = Crowd(
        crowd="c",
        profile=(Stretch(stretch="burst", to=20, seconds=seconds),),
        rows=tuple(CrowdRow(row=f"row-{n}", journey=key) for n in range(rows)),
    )
    inputs = replace(inputs, crowds=(crowd,), measured=(0.0, float(seconds)))
    made.frozen, made.begins_at = canonical(inputs), timezone.now()
    made.save()
    for number in range(shards):
        Shard.objects.create(
            run=made,
            number=number,
            generator_name=f"g{number}",
            state="ended",
            ending={"cause": "finished"},
        )
    series = every_series(inputs)
    draw = random.Random(3)
    pool = []
    for _ in range(200):
        values = [int(draw.lognormvariate(10.5, 0.6)) for _ in range(3)]
        hist = Histogram.of(values).to_bytes()
        squares = str(sum(value * value for value in values))
        pool.append(
            SeriesSecond(no=0, n=3, sum_us=sum(values), squares=squares, hist=hist, ttfb_hist=hist)
        )
    known = {each.no: each for each in series}
    folding, begun, expanding = Folding(made, known), time.perf_counter(), 0.0
    frames = []
    for second in range(seconds):
        messages = [
            ShardSecond(
                shard=shard,
                second=second,
                users={"thinking": 5},
                answered=len(series),
                sent=len(series),
                series=[
                    replace(pool[(7 * second + 3 * shard + each.no) % 200], no=each.no)
                    for each in series
                ],
                health=Health(),
                last=second == seconds - 1,
            )
            for shard in range(shards)
        ]
        at = time.perf_counter()
        with transaction.atomic():
            folding.add(second, messages)
            if second % 60 == 59:
                folding.write(second // 60)
        expanding += time.perf_counter() - at
        body = msgspec.json.encode(frame_of(second, messages[:1], known)).decode()
        frames.append(Message(subject=made.pk, sequence=second, event="frame", body=body))
    Message.objects.bulk_create(frames, batch_size=2000)
    Run.objects.filter(pk=made.pk).update(
        state="ended", ending={"cause": "finished"}, ended_at=timezone.now(), watermark=seconds - 1,
        chunked=seconds // 60 - 1, findings=[],
        outcome={"ended": "finished", "exit_code": 0, "from_s": 0, "to_s": seconds},
    )  # fmt: skip
    told = np.random.default_rng(5).normal(50, 5, (MEASURES, seconds))
    measures.take(
        made, "target", {f"utilization_{number}": trace for number, trace in enumerate(told)}
    )
    return made, len(series), 1000 * expanding / seconds, time.perf_counter() - begun


def _again(made: Any) -> Any:
    """The same run once more, under another number, with what a verdict has of steps."""
    from dynamikos.core.frozen import every_series
    from dynamikos.core.verdicts import Outcome
    from dynamikos.core.verdicts.outcome import OUTCOME
    from dynamikos.web.runs import comparing, queries, reading
    from dynamikos.web.runs.models import Block, Chunk, Minute, Run

    found = Run.objects.get(pk=made.pk)
    inputs = queries.frozen(found)
    rows = reading.window(found, every_series(inputs), 0, SECONDS).rows(SECONDS)
    outcome = Outcome(rows=rows, to_s=float(SECONDS), exit_code=0)
    Run.objects.filter(pk=made.pk).update(outcome=OUTCOME.plain(outcome))
    figures = msgspec.to_builtins(
        comparing.figures(Run.objects.get(pk=made.pk))
    )  # as they are kept, once it is over
    Run.objects.filter(pk=made.pk).update(figures=figures)
    found.refresh_from_db()
    found.pk, found.number = None, found.number + 1000
    found.save(force_insert=True)
    for kind, lines in (
        (Chunk, Chunk.objects.filter(run=made.pk, shard=Chunk.ALL)),
        (Block, Block.objects.filter(run=made.pk)),
        (Minute, Minute.objects.filter(run=made.pk)),
    ):
        copies = []
        for each in lines.iterator(500):
            each.pk, each.run = None, found
            copies.append(each)
        kind.objects.bulk_create(copies, batch_size=500)
    return found


def _measure() -> list[Result]:
    from django.test import Client
    from tests.web.support import Sample

    from dynamikos.core.frozen import every_series
    from dynamikos.web.runs import queries, reading
    from dynamikos.web.runs.models import Run

    sample = Sample()
    client = Client()
    client.force_login(sample.accounts["ada"])

    def get(path: str) -> None:
        answer = client.get(path)
        assert answer.status_code == 200, (path, answer.status_code)

    def timed(work: Callable[[], object], times: int = 5) -> float:
        work()
        return median_ms(work, times)

    made, series, expanding_ms, _ = _made(sample, ROWS, SHARDS, SECONDS)
    address = sample.address(f"runs/{made.pk}")
    found = Run.objects.get(pk=made.pk)
    inputs = queries.frozen(found)
    steps = [each for each in every_series(inputs) if each.level in ("step", "round")]
    page = timed(lambda: get(address))
    whole = timed(lambda: get(f"{address}/tables?from=600&to=3000"))
    ragged = timed(lambda: get(f"{address}/tables?from=1234&to=3333"))
    of_row = timed(lambda: get(f"{address}/tables?from=1234&to=3333&row=row-7"))
    of_shard = timed(lambda: reading.window(found, steps, 0, SECONDS, (2,)), 3)
    step = next(each for each in reading.shown_series(inputs) if each.level == "step")
    look = timed(
        lambda: get(
            f"{address}/closer?from=0&to=3600&journey={step.journey}&step={step.step}&request=&of="
        ),
        3,
    )
    moment = timed(
        lambda: get(
            f"{address}/suspects?from=1800&to=1860&journey={step.journey}&step={step.step}&request=&of="
        ),
        3,
    )
    points = len(reading.line(found, [step.no], 0, SECONDS))
    other = _again(made)
    compared = timed(lambda: get(sample.address(f"runs/compare?run={made.pk}&run={other.pk}")), 3)
    over = timed(lambda: get(sample.address(f"runs/compare/over?run={made.pk}&run={other.pk}")), 3)
    report = timed(lambda: get(f"{address}/report.html"), 3)
    pages = timed(lambda: get(f"{address}/report.pdf"), 1)
    size = len(client.get(f"{address}/report.html").content) / 1e6
    soak, _, _, _ = _made(sample, 1, 1, SOAK_S)
    long = timed(lambda: get(sample.address(f"runs/{soak.pk}")), 3)
    empty = timed(lambda: get("/"))
    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1000
    return [
        ("series of the run, without those of everybody", series, "", "≥ 400", series >= 400),
        ("its page", page, "ms", "≤ 1,000", page <= 1000),
        ("a window of whole minutes", whole, "ms", "≤ 300", whole <= 300),
        ("a window with ragged edges", ragged, "ms", "≤ 300", ragged <= 300),
        ("the same of one row", of_row, "ms", "≤ 300", of_row <= 300),
        (
            "a slice by generator: every step and round of an hour",
            of_shard,
            "ms",
            "≤ 1,500",
            of_shard <= 1500,
        ),
        ("looking closer at a step, the whole hour", look, "ms", "≤ 300", look <= 300),
        (f"the suspects of a minute among {MEASURES} measures", moment, "ms", "", True),
        ("comparing two such hours", compared, "ms", "≤ 1,500", compared <= 1500),
        ("both laid over one another, one step", over, "ms", "", True),
        ("its report as one file", report, "ms", "≤ 5,000", report <= 5000),
        ("size of that file", size, "MB", "≤ 3", size <= 3),
        ("its report on pages (PDF)", pages, "ms", "≤ 20,000", pages <= 20_000),
        ("points of a line", points, "", "≤ 800", points <= 800),
        ("page of a soak of eight hours", long, "ms", "≤ 2,000", long <= 2000),
        ("empty page (projects)", empty, "ms", "", True),
        ("page of the hour / empty page", page / empty, "", "", True),
        (
            "coordinator: folding a second of four generators",
            expanding_ms,
            "ms",
            "≤ 500",
            expanding_ms <= 500,
        ),
        ("memory of this process, which made it as well", memory, "MB", "", not math.isnan(memory)),
    ]
