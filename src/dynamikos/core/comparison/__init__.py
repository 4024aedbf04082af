"""Two sides, each a run or a set of runs: what differs, by how much, and what can't be said.

Never reads a run: others gather what is compared. Start reading at `compare`.
"""

from dynamikos.core.comparison.compare import (
    Comparison,
    Difference,
    History,
    Word,
    compare,
    counted,
)
from dynamikos.core.comparison.side import AnyLine, Line, OneRun, Wanted, family_of
from dynamikos.core.comparison.trend import Figure, Turn, figures_of, lines_of, turns

__all__ = [
    "AnyLine",
    "Comparison",
    "Difference",
    "Figure",
    "History",
    "Line",
    "OneRun",
    "Turn",
    "Wanted",
    "Word",
    "compare",
    "counted",
    "family_of",
    "figures_of",
    "lines_of",
    "turns",
]
