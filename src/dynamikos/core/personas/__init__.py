"""Personas: how a kind of visitor behaves, with which client and over which line.

Never performs anything: the engine does. Start reading at `model`.
"""

from dynamikos.core.personas.kinds import CLIENTS, LINES
from dynamikos.core.personas.model import (
    Line,
    Pace,
    Patience,
    Persona,
    Visit,
    describe,
    headers_of,
    line_of,
    parse_persona,
    persona_problems,
    persona_schema,
    write_persona,
)

__all__ = [
    "CLIENTS",
    "LINES",
    "Line",
    "Pace",
    "Patience",
    "Persona",
    "Visit",
    "describe",
    "headers_of",
    "line_of",
    "parse_persona",
    "persona_problems",
    "persona_schema",
    "write_persona",
]
