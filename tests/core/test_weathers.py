"""The practice target's weathers in computed time: the planted cause is the first suspect, what
merely follows the load never is.
"""

import random
from collections.abc import Callable
from unittest import TestCase

import numpy as np

from dynamikos.core.analysis.suspects import Suspect, Trace, suspects
from observatory.resources import Works
from observatory.weather import ROUTES, SMALL_POOL, WEATHER

SECONDS = 300


class Weather:
    """Open load on the stand-in's resources: `per_s` by second. What its /metrics would have told
    each second.
    """

    def __init__(
        self,
        weather: str,
        seed: int,
        per_s: Callable[[float], float],
        kinds: tuple[str, ...] = ("sky", "object"),
        stall: tuple[str, float, float] | None = None,
    ) -> None:
        works, draw = Works(WEATHER[weather], seed), random.Random(seed)
        if stall is not None:
            works.resources[stall[0]].stalled = stall[1:]
        self.took: dict[str, list[list[float]]] = {
            kind: [[] for _ in range(SECONDS + 60)] for kind in kinds
        }
        names = list(works.resources)
        self.measures: dict[str, list[float]] = {}
        now, served = 0.0, 0
        for second in range(SECONDS):
            while now < second + 1:
                kind = draw.choice(kinds)
                works.enter(now, ROUTES[kind], lambda visit, kind=kind: self._done(kind, visit))
                served += 1
                now += draw.expovariate(per_s(now))
            works.advance(second + 1)
            at = float(second + 1)
            for name in names:
                each = works.resources[name]
                share, wait = each.last_second(at)
                for what, value in (
                    ("utilization", share),
                    ("waiting", wait),
                    ("queue", each.queue_length(at)),
                ):
                    self.measures.setdefault(f"{what} {name}", []).append(value)
            flushing = stall is not None and stall[1] <= at < stall[2]
            self.measures.setdefault("flushing", []).append(float(flushing))
            count = served + draw.gauss(0, 1)
            self.measures.setdefault("lamps", []).append(40 + 2 * count)
            self.measures.setdefault("moths", []).append(3 + draw.gauss(0, 1))
            self.measures.setdefault("dome", []).append(8 + draw.uniform(-0.4, 0.4))
            served = 0

    def _done(self, kind: str, visit) -> None:  # type: ignore[no-untyped-def]
        second = int(visit.departure)
        if second < SECONDS:
            self.took[kind][second].append(visit.departure - visit.arrival)

    def suspects(self, kind: str, window: tuple[int, int]) -> list[Suspect]:
        step: Trace = np.array(
            [np.mean(each) if each else np.nan for each in self.took[kind][:SECONDS]]
        )
        return suspects(
            step, window, {name: np.array(values) for name, values in self.measures.items()}
        ).every


def first(found: list[Suspect]) -> set[str]:
    return {found[0].measure, *found[0].folded} if found else set()


class Causes(TestCase):
    def test_gust_is_the_disk(self) -> None:
        for seed in range(4):
            made = Weather("gust", seed, lambda at: 60, stall=("disk", 150.0, 156.0))
            with self.subTest(seed):
                found = made.suspects("object", (150, 157))
                self.assertTrue(
                    first(found) & {"flushing", "queue disk", "waiting disk", "utilization disk"},
                    found,
                )

    def test_masquerade_never_outranks_the_cause(self) -> None:
        most = SMALL_POOL["pool"][0] / SMALL_POOL["pool"][1]
        for seed in range(10):
            made = Weather(
                "masquerade",
                seed,
                lambda at: 1.05 * most if 140 <= at < 170 else 0.5 * most,
                kinds=("sky",),
            )
            with self.subTest(seed):
                self.assertTrue(
                    any("pool" in each for each in first(made.suspects("sky", (140, 175))))
                )
                names = [each.measure for each in made.suspects("sky", (140, 175))]
                cause = min(
                    names.index(each) for each in ("queue pool", "waiting pool") if each in names
                )
                self.assertLess(cause, names.index("lamps") if "lamps" in names else len(names))

    def test_clear_has_no_suspect(self) -> None:
        found = [
            each
            for seed in range(4)
            for each in Weather("clear", seed, lambda at: 60).suspects("sky", (150, 157))
        ]
        self.assertFalse([each for each in found if each.is_proven])
