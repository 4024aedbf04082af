"""A run's figures as files: CSV and Parquet of a table or of the seconds, OpenMetrics of the
whole.
"""

from collections.abc import Iterable, Iterator

from dynamikos.core.frozen import FrozenRun, every_series
from dynamikos.core.reports import Row
from dynamikos.core.statistics import Histogram
from dynamikos.web.runs import reading
from dynamikos.web.runs.models import Run

SECONDS = (
    "second",
    "level",
    "row",
    "journey",
    "step",
    "request",
    "passed",
    "failed",
    "mean_ms",
    "p50_ms",
    "p95_ms",
    "p99_ms",
    "bytes_in",
)


def seconds(found: Run, inputs: FrozenRun, from_s: int, to_s: int) -> Iterator[tuple[object, ...]]:
    """A line for each series of each row and second in which something ended."""
    every = {each.no: each for each in every_series(inputs)}
    for second, part in reading.fine_parts(
        found, list(every), from_s, min(to_s, found.watermark + 1)
    ):
        each, times = every[part.no], Histogram.from_bytes(part.hist)
        percentiles = [times.percentile_us(percent) for percent in (50, 95, 99)]
        yield (
            second,
            each.level,
            each.row,
            each.journey,
            each.step,
            each.request,
            part.n,
            sum(part.failed.values()),
            part.sum_us / part.n / 1000 if part.n else None,
            *(None if value is None else value / 1000 for value in percentiles),
            part.bytes_in,
        )


def as_openmetrics(found: Run, rows: Iterable[Row]) -> str:
    """The measured part of a run that is over (OpenMetrics 1.0)."""
    lines: list[str] = []
    kept = [each for each in rows if each.level in ("step", "request", "repeat", "round")]

    def family(name: str, unit: str, said: str, value: str, scale: float = 1.0) -> None:
        full = f"dynamikos_{name}{f'_{unit}' if unit else ''}"
        lines.extend(
            (
                f"# TYPE {full} gauge",
                *([f"# UNIT {full} {unit}"] if unit else []),
                f"# HELP {full} {said}",
            )
        )
        for each in kept:
            amount = getattr(each, value)
            if amount is not None:
                labels = ",".join(
                    f'{key}="{_escaped(text)}"'
                    for key, text in (
                        ("run", str(found.number)), ("level", each.level), ("row", each.row),
                        ("journey", each.journey), ("step", each.step), ("request", each.request),
                    )
                )  # fmt: skip
                lines.append(f"{full}{{{labels}}} {amount * scale:.9g}")

    family("samples", "", "Samples of the measured part", "count")
    family("failures", "", "Those that failed", "failures")
    family("per_second", "", "Samples a second", "per_s")
    for percent in (50, 90, 95, 99):
        family(
            f"response_p{percent}",
            "seconds",
            f"p{percent} of those that passed",
            f"p{percent}_ms",
            0.001,
        )
    family("response_mean", "seconds", "Mean of those that passed", "mean_ms", 0.001)
    return "\n".join([*lines, "# EOF", ""])


def _escaped(text: str) -> str:
    return text.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n")
