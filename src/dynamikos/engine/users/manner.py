"""How one user behaves, drawn for it from its persona: its pace, its patience, its line."""

import math
import random
from dataclasses import dataclass

from dynamikos.core.personas import Persona, line_of
from dynamikos.engine.http.shaping import Line


@dataclass(frozen=True, slots=True)
class Manner:
    """Think times × `pace`; `patience_s` for a step (0: for ever), then it reloads `reloads` times
    before it leaves.
    """

    pace: float = 1.0
    patience_s: float = 0.0
    reloads: int = 0
    line: Line | None = None
    cookies: tuple[tuple[str, str], ...] = ()


PLAIN = Manner()


def manner_of(persona: Persona, stream: random.Random) -> Manner:
    """Always draws the same from a stream: pace first, then patience."""
    pace = persona.pace.factor * math.exp(
        stream.gauss(0.0, persona.pace.spread) if persona.pace.spread else 0.0
    )
    patience, figures, waits_s, reloads = persona.patience, line_of(persona), 0.0, 0
    if patience is not None:
        waits_s = patience.seconds * math.exp(
            stream.gauss(0.0, patience.spread) if patience.spread else 0.0
        )
        reloads = patience.reloads if patience.then == "reload" else 0
    returns = persona.visit is not None and persona.visit.visit == "return"
    return Manner(
        pace=pace,
        patience_s=waits_s,
        reloads=reloads,
        line=Line(*figures, stream) if figures is not None else None,
        cookies=persona.visit.cookies if returns and persona.visit is not None else (),
    )
