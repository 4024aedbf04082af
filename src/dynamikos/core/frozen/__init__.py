"""The frozen document of a run: every input it had, never a secret.

Never changes after the run was started. Start reading at `document`.
"""

from dynamikos.core.frozen.document import DataPile, FrozenRun, Series, canonical, digest, series_of, stream

__all__ = ["DataPile", "FrozenRun", "Series", "canonical", "digest", "series_of", "stream"]
