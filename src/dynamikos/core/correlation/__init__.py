"""Finding the values a server issued and a client sends back: sites, origins, kinds, captures,
proof.

Never sends anything. Start reading at `search`.
"""

from dynamikos.core.correlation.accept import Accepted, accept
from dynamikos.core.correlation.by_hand import strand_by_hand
from dynamikos.core.correlation.model import Origin, Rule, Strand, Use
from dynamikos.core.correlation.search import find_strands, own_origins

__all__ = [
    "Accepted",
    "Origin",
    "Rule",
    "Strand",
    "Use",
    "accept",
    "find_strands",
    "own_origins",
    "strand_by_hand",
]
