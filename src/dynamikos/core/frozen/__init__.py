"""The frozen document of a run: every input it had, never a secret.

Never changes after the run was started. Start reading at `document`.
"""

from dynamikos.core.frozen.document import (
    CheckPlace,
    DataPile,
    FrozenRun,
    Series,
    canonical,
    checks_of,
    digest,
    every_check,
    every_series,
    series_of,
    stream,
)

__all__ = [
    "CheckPlace",
    "DataPile",
    "FrozenRun",
    "Series",
    "canonical",
    "checks_of",
    "digest",
    "every_check",
    "every_series",
    "series_of",
    "stream",
]
