"""What a probe's answers say: measures by name, with rates of counters.

OpenMetrics 1.0 and Prometheus' text format, both read by prometheus-client.
"""

import math
import re
from collections.abc import Callable, Iterable, Iterator, Sequence
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
        if len(body) > MOST_BYTES:
            raise DynamikosError(
                f"its answer has {len(body):,} bytes, at most {MOST_BYTES:,} are read"
            )
        text = storable(body.decode("utf-8", "replace"))
        is_openmetrics = "openmetrics" in content_type or text.rstrip().endswith("# EOF")
        made: dict[Measured, float] = {}
        now: dict[str, tuple[float, float]] = {}
        self.left_out = 0
        try:
            samples = list(_samples(text, is_openmetrics))
        except (ValueError, KeyError, IndexError, TypeError, AttributeError) as problem:
            what = "OpenMetrics" if is_openmetrics else "Prometheus' text format"
            raise DynamikosError(f"its answer is not {what}: {str(problem)[:200]}") from problem
        if not samples and not text.strip().startswith("#"):
            raise DynamikosError("its answer has no measures in it")
        counters = {each.counter for each in samples if each.counts}
        begun = {
            each.counter: each.value for each in samples if each.begins and each.counter in counters
        }
        begun[PROCESS] = next((each.value for each in samples if each.name == PROCESS), 0.0)
        same_process = begun.get(PROCESS) == self._begun.get(PROCESS)
        for each in samples:
            if (
                (each.begins and each.counter in counters)
                or not wants(self._patterns, each.name)
                or not math.isfinite(each.value)
            ):
                continue
            if len(made) >= MOST_MEASURES:
                self.left_out += 1
                continue
            if not each.counts:
                made[Measured(name=each.name, unit=each.unit)] = each.value * (
                    100 if each.unit == "%" else 1
                )
                continue
            now[each.name] = each.value, at_s
            before = self._before.get(each.name)
            anew = not same_process or begun.get(each.counter) != self._begun.get(each.counter)
            if before is None or at_s <= before[1] or each.value < before[0] or anew:
                continue
            grown = each.value - before[0]
            rate = Measured(name=each.name, unit=f"{each.unit}/s" if each.unit else "/s")
            made[rate] = grown / (at_s - before[1])
        self._before, self._begun = now, begun
        return {measure: value for measure, value in made.items() if math.isfinite(value)}

    def forget(self) -> None:
        """There was a gap: rates begin anew."""
        self._before, self._begun = {}, {}
