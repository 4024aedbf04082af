"""The live frame: one second of the whole run, as the tape draws it. Documented in
docs/stream.md.
"""

from collections.abc import Iterable, Mapping, Sequence

import msgspec

from dynamikos.core.frozen import Series
from dynamikos.core.reports.messages import ShardSecond
from dynamikos.core.statistics import Histogram


class Frame(msgspec.Struct, array_like=True, frozen=True, kw_only=True):
    """Second, users planned and by state, exchanges/s, response time of steps in ms (None = none
    ended), failures, health.
    """

    second: int
    planned: int
    starting: int
    busy: int
    thinking: int
    leaving: int
    answered: float
    failed: float
    p50_ms: float | None
    p95_ms: float | None
    p99_ms: float | None
    steps: float
    steps_failed: float
    in_flight: int
    late_p99_ms: float
    cpu_percent: float
    is_late: bool
    kinds: dict[str, int]
    oldest_ms: float = 0.0  # age of the oldest request in flight
    late_by: tuple[
        str, ...
    ] = ()  # why generators were late: lateness, stall, processor, machine, container limit
    seconds: int = 1  # that it stands for, from `second` on; then figures are of a second of them

    @property
    def users(self) -> int:
        return self.starting + self.busy + self.thinking + self.leaving


def frame_of(
    second: int, messages: Iterable[ShardSecond], series: Mapping[int, Series], *, missing: int = 0
) -> Frame:
    """The frame of one second from the messages of all shards. Gauges add over shards; the worst
    health is shown. `missing` users are planned on shards that are lost.
    """
    users: dict[str, int] = {}
    kinds: dict[str, int] = {}
    times: list[bytes] = []
    planned, answered, failed, flying, steps_failed, oldest_us = missing, 0, 0, 0, 0, 0
    late_us, cpu, late_by, passed_n = 0, 0.0, dict[str, None](), 0
    for message in messages:
        planned += message.planned_users
        answered += message.answered
        failed += message.failed
        flying += message.in_flight
        for state, count in message.users.items():
            users[state] = users.get(state, 0) + count
        for part in message.series:
            level = series[part.no].level if part.no in series else ""
            if level == "step":
                times.extend((part.hist, part.cut_hist))
                passed_n += part.n
                steps_failed += sum(part.failed.values())
            elif level in ("request", "item", "repeat"):
                for kind, count in part.failed.items():
                    kinds[kind] = kinds.get(kind, 0) + count
        late_us = max(late_us, message.health.late_p99_us)
        cpu = max(cpu, message.health.cpu_share)
        late_by |= dict.fromkeys(message.health.late_by)
        oldest_us = max(oldest_us, message.oldest_us)

    passed = Histogram.joined(times)

    def ms(percent: int) -> float | None:
        value = passed.percentile_us(percent)
        return None if value is None else round(value / 1000, 3)

    return Frame(
        second=second,
        planned=planned,
        starting=users.get("opening", 0),
        busy=users.get("in a round", 0),
        thinking=users.get("thinking", 0),
        leaving=users.get("closing", 0),
        answered=answered,
        failed=failed,
        p50_ms=ms(50),
        p95_ms=ms(95),
        p99_ms=ms(99),
        steps=passed_n,
        steps_failed=steps_failed,
        in_flight=flying,
        late_p99_ms=late_us / 1000,
        cpu_percent=round(cpu * 100, 1),
        is_late=bool(late_by),
        kinds=kinds,
        oldest_ms=round(oldest_us / 1000, 1),
        late_by=tuple(late_by),
    )


def joined(frames: Sequence[Frame], times: Sequence[float | None]) -> Frame:
    """Frames of a stretch as one: users, counts and rates as their mean, health as its worst;
    `times` are p50, p95 and p99 of the stretch, which can't be had from those of its seconds.
    """

    def mean(name: str, digits: int = 0) -> float:
        return round(float(sum(getattr(each, name) for each in frames)) / len(frames), digits)

    kinds: dict[str, int] = {}
    for each in frames:
        for kind, count in each.kinds.items():
            kinds[kind] = kinds.get(kind, 0) + count
    return Frame(
        second=frames[0].second,
        planned=int(mean("planned")),
        starting=int(mean("starting")),
        busy=int(mean("busy")),
        thinking=int(mean("thinking")),
        leaving=int(mean("leaving")),
        answered=mean("answered", 2),
        failed=mean("failed", 2),
        p50_ms=times[0],
        p95_ms=times[1],
        p99_ms=times[2],
        steps=mean("steps", 2),
        steps_failed=mean("steps_failed", 2),
        in_flight=max(each.in_flight for each in frames),
        late_p99_ms=max(each.late_p99_ms for each in frames),
        cpu_percent=max(each.cpu_percent for each in frames),
        is_late=any(each.is_late for each in frames),
        kinds=kinds,
        oldest_ms=max(each.oldest_ms for each in frames),
        late_by=tuple(dict.fromkeys(why for each in frames for why in each.late_by)),
        seconds=len(frames),
    )
