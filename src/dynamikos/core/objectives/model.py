"""What an objective says."""

from typing import Annotated, Literal, get_args

import msgspec

PERCENTILE = r"p[1-9]\d?(\.\d{1,2})?"
Measure = Annotated[
    str, msgspec.Meta(pattern=f"^({PERCENTILE}|mean|max|failure-rate|throughput|checks|left)$")
]
MEASURES = (
    "p50",
    "p90",
    "p95",
    "p99",
    "mean",
    "max",
    "failure-rate",
    "throughput",
    "checks",
    "left",
)
Time = Literal["response", "first-byte"]
Then = Literal["note", "warn", "fail", "stop gently", "stop now"]
THENS: tuple[Then, ...] = get_args(Then)
Unit = Literal["ms", "%", "/s", ""]


class Objective(
    msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, omit_defaults=True
):
    """`measure` of what it is about at most, or `at_least`, `limit`: ms for times, % for failure
    rate, passed checks and what was left, rounds or passes a second for throughput, and its own
    unit for a captured number.

    It is about all steps, one `step` or one of its requests (`request`), of everybody, or of one
    `journey`, or of one `row` of a crowd; about the time from the start of `step` to the end of a
    later one (`until`), think times left out; about a captured `number`; or about what a `probe` of
    the plan tells of one measure, its `reading`, whose values by second are then what is taken the
    mean, the largest or a percentile of. `time`: until the last byte, or the first one.

    It is judged over the measured part, or, with `every_s`, over each interval of so many seconds
    in it, of which `missed_allowed` % may be missed; the first `grace_s` seconds don't count, and
    `from_start` begins at second 0 instead. `then`: what is done where it is missed; stopping, as
    soon as `in_a_row` intervals were.
    """

    objective: str
    measure: Measure
    limit: Annotated[float, msgspec.Meta(ge=0)]
    at_least: bool = False
    time: Time = "response"
    step: str | None = None
    request: str | None = None
    until: str | None = None
    number: str | None = None
    probe: str | None = None
    reading: str | None = None
    journey: str | None = None
    row: str | None = None
    every_s: Annotated[int, msgspec.Meta(ge=1, le=86_400)] | None = None
    missed_allowed: Annotated[float, msgspec.Meta(ge=0, le=100)] = 0.0
    grace_s: Annotated[float, msgspec.Meta(ge=0, le=604_800)] = 0.0
    from_start: bool = False
    then: Then = "fail"
    in_a_row: Annotated[int, msgspec.Meta(ge=1, le=10_000)] = 1

    @property
    def percent(self) -> float | None:
        """Of a percentile; None for another measure."""
        return float(self.measure[1:]) if self.measure[1:2].isdigit() else None

    @property
    def is_spread(self) -> bool:
        """Whether it is about a distribution: times, or captured numbers."""
        return self.percent is not None or self.measure in ("mean", "max")

    @property
    def unit(self) -> Unit:
        """Of its limit."""
        if self.measure == "throughput":
            return "/s"
        if not self.is_spread:
            return "%"
        return "" if self.number is not None or self.probe is not None else "ms"

    @property
    def level(self) -> str:
        """Which series it is about; see Series."""
        if self.probe is not None:
            return "reading"
        if self.number is not None:
            return "number"
        if self.until is not None:
            return "span"
        if self.request is not None or self.measure == "checks" or self.time == "first-byte":
            return "request"
        return "round" if self.measure == "throughput" and self.step is None else "step"

    @property
    def stops(self) -> bool:
        return self.then.startswith("stop")

    @property
    def decides(self) -> bool:
        """Whether a run that misses it has failed."""
        return self.then not in ("note", "warn")


WHAT = {"failure-rate": "failures of", "checks": "passed checks of", "left": "left by users of"}


def describe(
    objective: Objective,
    step_name: str | None = None,
    until_name: str | None = None,
    *,
    unit: str | None = None,
) -> str:
    """The objective as a statement: "p95 of Find a slot ≤ 650 ms"; of all steps, where nothing else
    is named. `unit` is that of a probe's measure, which only the probe knows.
    """
    scope = step_name or objective.step or ("rounds" if objective.level == "round" else "all steps")
    if objective.request is not None:
        scope = f"{scope} / {objective.request}"
    if objective.until is not None:
        scope = f"{scope} to {until_name or objective.until}"
    if objective.number is not None:
        scope = objective.number
    if objective.probe is not None:
        scope = f"{objective.reading} ({objective.probe})"
    if objective.row is not None:
        scope = f"{scope} ({objective.row})"
    elif objective.journey is not None:
        scope = f"{scope} ({objective.journey})"
    what = WHAT.get(objective.measure, f"{objective.measure} of")
    if objective.time == "first-byte":
        what = what.removesuffix(" of") + " of the first byte of"
    unit = objective.unit if unit is None else unit
    said = (
        f"{what} {scope} {'≥' if objective.at_least else '≤'} "
        f"{objective.limit:g}{f' {unit}' if unit else ''}"
    )
    if objective.every_s is not None:
        said += f" every {objective.every_s} s"
    return said
