"""What a probe's answers say: measures by name, with rates of counters.

OpenMetrics 1.0 and Prometheus' text format, both read by prometheus-client.
"""

import math
import re
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from fnmatch import translate
from functools import lru_cache
from typing import Any

import msgspec
from prometheus_client.openmetrics.parser import text_string_to_metric_families as openmetrics
from prometheus_client.parser import text_string_to_metric_families as prometheus

from dynamikos.core.errors import DynamikosError
from dynamikos.core.probes.model import MOST_MEASURES
from dynamikos.core.unsafe_characters import storable

MOST_BYTES = 5_000_000
COUNTING = re.compile(r"_(total|count|sum|created)$")
PROCESS = "process_start_time_seconds"


class Measured(msgspec.Struct, frozen=True, kw_only=True):
    """A measure: `name` with its labels, as it is shown; `unit` as it is written behind figures."""

    name: str
    unit: str = ""


@dataclass(frozen=True, slots=True)
class _Sample:
    name: str
    value: float
    counts: bool  # whether it only grows
    unit: str
    counter: str = ""  # what it and the instant of its begin have in common
    begins: bool = (
        False  # it is that instant, where there is such a counter; else it is named so by chance
    )


def wants(patterns: Sequence[str], name: str) -> bool:
    """Whether a measure is one of those chosen: `name` is that of a sample with its labels, in
    order.
    """
    if not patterns:
        return True
    base = name.partition("{")[0]
    whole, plain = _compiled(tuple(patterns))
    return whole.match(name) is not None or plain.match(base) is not None


@lru_cache(maxsize=64)
def _compiled(patterns: tuple[str, ...]) -> tuple[re.Pattern[str], re.Pattern[str]]:
    """One expression for names with their labels, and one for those without: a probe asks for each
    of its samples, each second.
    """
    return (
        re.compile("|".join(translate(_literal(each)) for each in patterns)),
        re.compile("|".join(translate(each) for each in patterns)),
    )


def _literal(pattern: str) -> str:
    """Labels are compared as they are written, but for *."""
    return re.sub(r"[\[\]?]", lambda found: f"[{found.group()}]", pattern)


UNITS = {"seconds": "s", "bytes": "B", "ratio": "%", "celsius": "°C", "watts": "W"}


def _samples(text: str, is_openmetrics: bool) -> Iterator[_Sample]:
    read: Callable[[str], Iterable[Any]] = openmetrics if is_openmetrics else prometheus
    families = read(text)
    for family in families:
        unit = UNITS.get(family.unit, family.unit)
        if not unit:
            ending = family.name.rpartition("_")[2]
            unit = UNITS.get(ending, "")
        for sample in family.samples:
            ending = sample.name[len(family.name) :] if sample.name.startswith(family.name) else ""
            if ending in ("_bucket", "_gsum", "_gcount") or family.type in ("info", "stateset"):
                continue
            labels = ",".join(f'{name}="{value}"' for name, value in sorted(sample.labels.items()))
            name = sample.name + (f"{{{labels}}}" if labels else "")
            counter = f"{COUNTING.sub('', sample.name)}{{{labels}}}"
            counts = (family.type == "counter" and ending != "_created") or ending in (
                "_count",
                "_sum",
                "_total",
            )
            value = float(sample.value)
            begins = sample.name.endswith("_created") and not counts
            yield _Sample(name, value, counts, "" if ending == "_count" else unit, counter, begins)


def _read(body: bytes, content_type: str) -> list[_Sample]:
    """The samples of an answer. Raises DynamikosError for one that can't be read."""
    if len(body) > MOST_BYTES:
        raise DynamikosError(f"its answer has {len(body):,} bytes, at most {MOST_BYTES:,} are read")
    text = storable(body.decode("utf-8", "replace"))
    is_openmetrics = "openmetrics" in content_type or text.rstrip().endswith("# EOF")
    try:
        samples = list(_samples(text, is_openmetrics))
    except (ValueError, KeyError, IndexError, TypeError, AttributeError) as problem:
        what = "OpenMetrics" if is_openmetrics else "Prometheus' text format"
        raise DynamikosError(f"its answer is not {what}: {str(problem)[:200]}") from problem
    if not samples and not text.strip().startswith("#"):
        raise DynamikosError("its answer has no measures in it")
    return samples


class Reader:
    """One probe's answers one after the other. Counters become rates per second. One that began
    anew since the answer before is a gap, since nobody knows what it had counted until then: it is
    lower than it was, its `_created` has changed, or the process has another start. A counter that
    was reset and has passed its old value meanwhile shows in those two alone.
    """

    def __init__(self, patterns: Sequence[str] = ()) -> None:
        self._patterns = patterns
        self._before: dict[str, tuple[float, float]] = {}
        self._begun: dict[str, float] = {}
        self.left_out = 0  # measures beyond the most that are kept

    def read(self, body: bytes, content_type: str, at_s: float) -> dict[Measured, float]:
        """Values of the answer that came at instant `at_s`. Raises DynamikosError for one that
        can't be read.
        """
        samples = _read(body, content_type)
        counters = {each.counter for each in samples if each.counts}
        begun = {e.counter: e.value for e in samples if e.begins and e.counter in counters}
        begun[PROCESS] = next((each.value for each in samples if each.name == PROCESS), 0.0)
        made: dict[Measured, float] = {}
        now: dict[str, tuple[float, float]] = {}
        self.left_out = 0
        for each in samples:
            is_begin = each.begins and each.counter in counters
            if is_begin or not math.isfinite(each.value) or not wants(self._patterns, each.name):
                continue
            if len(made) >= MOST_MEASURES:
                self.left_out += 1
            elif each.counts:
                now[each.name] = each.value, at_s
                rate = self._rate(each, at_s, begun)
                if rate is not None:
                    unit = f"{each.unit}/s" if each.unit else "/s"
                    made[Measured(name=each.name, unit=unit)] = rate
            else:
                factor = 100 if each.unit == "%" else 1
                made[Measured(name=each.name, unit=each.unit)] = each.value * factor
        self._before, self._begun = now, begun
        return {measure: value for measure, value in made.items() if math.isfinite(value)}

    def _rate(self, counter: _Sample, at_s: float, begun: Mapping[str, float]) -> float | None:
        """How much a counter has grown a second since it was read before; None where that can't be
        said: it was not, or it began anew, by itself or with its process.
        """
        before = self._before.get(counter.name)
        if before is None or at_s <= before[1] or counter.value < before[0]:
            return None
        if any(begun.get(of) != self._begun.get(of) for of in (PROCESS, counter.counter)):
            return None
        return (counter.value - before[0]) / (at_s - before[1])

    def forget(self) -> None:
        """There was a gap: rates begin anew."""
        self._before, self._begun = {}, {}
