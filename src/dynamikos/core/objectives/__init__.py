"""Objectives: a statement about a measure, and its judgement with evidence.

Never decides what happens then (stopping, exit codes). Start reading at `judge`; `intervals` does
it by interval, `readings` for what probes tell.
"""

from dynamikos.core.objectives.intervals import by_interval, intervals_of, mark, tripped
from dynamikos.core.objectives.judge import Judgement, Mark, Slice, Word, judge, worst_first
from dynamikos.core.objectives.model import MEASURES, THENS, Objective, Then, describe
from dynamikos.core.objectives.readings import (
    Readings,
    Told,
    judge_readings,
    judged_readings,
    mark_readings,
    source_of,
)

__all__ = [
    "MEASURES",
    "THENS",
    "Judgement",
    "Mark",
    "Objective",
    "Readings",
    "Slice",
    "Then",
    "Told",
    "Word",
    "by_interval",
    "describe",
    "intervals_of",
    "judge",
    "judge_readings",
    "judged_readings",
    "mark",
    "mark_readings",
    "source_of",
    "tripped",
    "worst_first",
]
