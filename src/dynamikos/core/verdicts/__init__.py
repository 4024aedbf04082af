"""What a whole run came to: its verdict, its exit code, and the files a pipeline reads.

Never judges single objectives (that is `objectives`). Start reading at `outcome`.
"""

from dynamikos.core.verdicts.exports import as_json, as_junit, refused_junit
from dynamikos.core.verdicts.objectives import Watching, judgements_of
from dynamikos.core.verdicts.outcome import Outcome, conclude, statement_of
from dynamikos.core.verdicts.states import (
    COULD_NOT_RUN,
    MET,
    MISSED,
    NOT_JUDGED,
    STOPPED,
    WORDS,
    WORST,
)

__all__ = [
    "COULD_NOT_RUN",
    "MET",
    "MISSED",
    "NOT_JUDGED",
    "STOPPED",
    "WORDS",
    "WORST",
    "Outcome",
    "Watching",
    "as_json",
    "as_junit",
    "conclude",
    "judgements_of",
    "refused_junit",
    "statement_of",
]
