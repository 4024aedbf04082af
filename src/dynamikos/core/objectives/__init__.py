"""Objectives: a statement about a measure, and its judgement with evidence.

Never decides what happens then (stopping, exit codes). Start reading at `judge`; `intervals` does it by interval.
"""

from dynamikos.core.objectives.intervals import by_interval, intervals_of, mark, tripped
from dynamikos.core.objectives.judge import Judgement, Mark, Slice, Word, judge
from dynamikos.core.objectives.model import MEASURES, THENS, Objective, Then, describe

__all__ = [
    "MEASURES", "THENS", "Judgement", "Mark", "Objective", "Slice", "Then", "Word", "by_interval", "describe",
    "intervals_of", "judge", "mark", "tripped",
]  # fmt: skip
