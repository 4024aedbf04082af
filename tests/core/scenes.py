"""Runs that were never run: rounds of three steps through stations whose law is known, as
generators report them.
"""

import heapq
import random
from collections.abc import Callable, Mapping

from dynamikos.core.analysis.evidence import Evidence
from dynamikos.core.analysis.gathering import evidence_of
from dynamikos.core.frozen import FrozenRun, every_series
from dynamikos.core.frozen.freeze import Inputs, freeze
from dynamikos.core.journeys import Journey, parse_journey
from dynamikos.core.plans import Crowd, CrowdRow, Plan
from dynamikos.core.profiles import Stretch
from dynamikos.core.reports import Health, KeptExchange, SeriesSecond, ShardSecond
from dynamikos.core.statistics import Histogram

STEPS = ("look", "search", "book")
Slower = Callable[
    [str, float, int], float
]  # by step, second and number of the round: so many times as long


def journey(key: str = "evening") -> Journey:
    steps = "".join(
        f"  - step: {step}\n    name: {step.title()}\n    requests:\n"
        f"      - {{request: {step}, address: 'http://127.0.0.1:9/{step}', checks: [{{status: "
        f"200}}]}}\n"
        for step in STEPS
    )
    return parse_journey(f"form: 1\njourney: {key}\nname: {key.title()}\nrounds:\n{steps}")


def frozen(seconds: int, users: int, rows: int = 1, profile: tuple[Stretch, ...] = ()) -> FrozenRun:
    made = tuple(CrowdRow(row=f"row-{n}", journey="evening") for n in range(rows))
    curve = profile or (Stretch(stretch="burst", to=users, seconds=seconds),)
    crowd = Crowd(crowd="c", profile=curve, rows=made)
    plan = Plan(
        form=2, plan="p", name="P", environment="e", crowds=(crowd,), measured=(10, seconds)
    )
    return freeze(
        Inputs(plan=plan, journeys={"evening": journey()}, values={}), run="r", seed=1, checked=True
    )


class Scene:
    """`users` who think `think_s` and go through three stations of (servers, mean s), round after
    round.
    """

    STATIONS: Mapping[str, tuple[int, float]] = {
        "look": (6, 0.03),
        "search": (3, 0.04),
        "book": (4, 0.05),
    }

    def __init__(
        self,
        seed: int,
        *,
        seconds: int = 240,
        users: int = 30,
        think_s: float = 1.0,
        rows: int = 1,
        slower: Slower = lambda step, at, n: 1.0,
        fails: Callable[[str, float, int, random.Random], str] = lambda step, at, busy, draw: "",
        stall: tuple[str, float, float] | None = None,
        stations: Mapping[str, tuple[int, float]] | None = None,
        arrives: Callable[[int], float] = lambda user: user / 20,
        profile: tuple[Stretch, ...] = (),
        row_factor: Callable[[int], float] = lambda row: 1.0,
        kept: bool = False,
    ) -> None:
        self.frozen = frozen(seconds, users, rows, profile)
        self.series = every_series(self.frozen)
        draw = random.Random(seed)
        given = dict(stations or self.STATIONS)
        free = {step: [0.0] * servers for step, (servers, _) in given.items()}
        numbers = {(each.level, each.row, each.step): each.no for each in self.series}
        self.parts: dict[tuple[int, int], list[int]] = {}
        self.failed: dict[tuple[int, int], dict[str, int]] = {}
        self.here = [0] * (seconds + 1)
        self.busy = {step: [0.0] * (seconds + 2) for step in given}
        self.kept: list[KeptExchange] = []
        events = [(arrives(user), user, user, 0, arrives(user)) for user in range(users)]
        for user in range(users):
            for second in range(min(seconds, int(arrives(user))), seconds):
                self.here[second] += 1
        heapq.heapify(events)
        order = users
        done: dict[str, int] = dict.fromkeys(STEPS, 0)
        while events:
            now, _, user, place, begun = heapq.heappop(events)
            if now >= seconds:
                continue
            step = STEPS[place]
            row = f"row-{user % rows}"
            _, mean = given[step]
            service = (
                draw.expovariate(1 / mean) * slower(step, now, done[step]) * row_factor(user % rows)
            )
            start = max(now, heapq.heappop(free[step]))
            if stall is not None and stall[0] == step and stall[1] <= start < stall[2]:
                start = stall[2]
            end = start + service
            heapq.heappush(free[step], end)
            done[step] += 1
            for second in range(int(start), min(seconds, int(end)) + 1):
                self.busy[step][second] += max(0.0, min(end, second + 1) - max(start, second))
            second, took = int(end), int(1e6 * (end - now))
            kind = fails(step, now, self.here[min(seconds, int(now))], draw)
            for level in ("step", "request"):
                if second < seconds:
                    if kind:
                        counts = self.failed.setdefault((second, numbers[level, row, step]), {})
                        counts[kind] = counts.get(kind, 0) + 1
                    else:
                        self.parts.setdefault((second, numbers[level, row, step]), []).append(took)
            if kept and second < seconds and len(self.kept) < 400:
                self._keep(step, second, kind, draw)
            order += 1
            if place + 1 < len(STEPS):
                heapq.heappush(events, (end, order, user, place + 1, begun))
                continue
            if second < seconds:
                self.parts.setdefault((second, numbers["round", row, ""]), []).append(
                    int(1e6 * (end - begun))
                )
            heapq.heappush(events, (end + draw.expovariate(1 / think_s), order, user, 0, end))

    def _keep(self, step: str, second: int, kind: str, draw: random.Random) -> None:
        term = ("lyra", "cygnus", "orion", "vela")[draw.randrange(4)]
        reason = f"failed: {kind}" if kind else "sample"
        self.kept.append(
            KeptExchange(
                second=second,
                series=0,
                step=step,
                request=step,
                reason=reason,
                user=1,
                round=1,
                method="GET",
                url=f"http://127.0.0.1:9/{step}?q={term}",
                status=200,
                body=f"answer {term}",
                variables={"term": term if not kind else "cygnus"},
            )
        )

    def messages(self) -> list[ShardSecond]:
        made = []
        for second in range(len(self.here) - 1):
            parts = []
            for each in self.series:
                values = self.parts.get((second, each.no), [])
                failed = self.failed.get((second, each.no), {})
                if values or failed:
                    squares = str(sum(value * value for value in values))
                    hist = Histogram.of(values).to_bytes()
                    parts.append(
                        SeriesSecond(
                            no=each.no,
                            n=len(values),
                            sum_us=sum(values),
                            squares=squares,
                            hist=hist,
                            failed=failed,
                        )
                    )
            requests = [part for part in parts if self.series[part.no].level == "request"]
            answered, bad = (
                sum(part.n for part in requests),
                sum(sum(part.failed.values()) for part in requests),
            )
            users = {"in a round": self.here[second]}
            made.append(
                ShardSecond(
                    shard=0,
                    second=second,
                    users=users,
                    sent=answered + bad,
                    answered=answered,
                    failed=bad,
                    series=parts,
                    health=Health(cpu_share=0.1),
                    judged={0: 1, 1: 1, 2: 1},
                )
            )
        return made

    def evidence(self, **more: object) -> Evidence:
        return evidence_of(self.frozen, self.messages(), kept=self.kept, **more)  # type: ignore[arg-type]
