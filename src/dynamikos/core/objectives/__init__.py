"""Objectives: a statement about a measure, and its judgement with evidence.

Never decides what happens then (stopping, exit codes). Start reading at `judge`.
"""

from dynamikos.core.objectives.judge import Judgement, Objective, describe, judge

__all__ = ["Judgement", "Objective", "describe", "judge"]
