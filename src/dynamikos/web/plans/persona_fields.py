"""The fields of a persona's page: as it shows them, and as it sends them. What can't be read raises
DynamikosError naming the field.
"""

from collections.abc import Iterator, Mapping
from typing import Any, cast

from dynamikos.core.errors import DynamikosError
from dynamikos.core.personas import Line, Pace, Patience, Persona, Visit, persona_problems
from dynamikos.web.ui.numbers import number, whole

FIELDS = (
    "name",
    "client",
    "headers",
    "connections",
    "factor",
    "spread",
    "patience",
    "patience_spread",
    "then",
    "reloads",
    "line",
    "down",
    "up",
    "latency",
    "jitter",
    "visit",
    "away",
    "cookies",
    "note",
)


def shown(persona: Persona) -> dict[str, str]:
    """Each field as it stands there."""
    patience, line, visit = persona.patience, persona.line or Line(), persona.visit
    return {
        "name": persona.name,
        "client": persona.client,
        "headers": "\n".join(f"{name}: {value}" for name, value in persona.headers),
        "connections": str(persona.connections),
        "factor": f"{persona.pace.factor:g}",
        "spread": f"{persona.pace.spread:g}",
        "patience": f"{patience.seconds:g}" if patience else "",
        "patience_spread": f"{patience.spread:g}" if patience else "",
        "then": patience.then if patience else "leave",
        "reloads": str(patience.reloads) if patience else "",
        "line": ("own" if persona.line is not None and not line.line else line.line),
        "down": _figure(line.down_kbit_s),
        "up": _figure(line.up_kbit_s),
        "latency": _figure(line.latency_ms),
        "jitter": _figure(line.jitter_ms),
        "visit": visit.visit if visit else "",
        "away": f"{visit.away_s:g}" if visit else "",
        "cookies": "\n".join(f"{name}={value}" for name, value in visit.cookies) if visit else "",
        "note": persona.note,
    }


def _figure(value: float | None) -> str:
    return "" if value is None else f"{value:g}"


def persona_from(typed: Mapping[str, str], before: Persona) -> Persona:
    """What the page sends of the persona that is `before` now."""

    def text(name: str, default: str = "") -> str:
        return str(typed.get(name, "")).strip() or default

    made = Persona(
        form=1,
        persona=before.persona,
        name=text("name", before.name)[:80],
        client=text("client"),
        headers=tuple(_pairs(str(typed.get("headers", "")), ":", "Header")),
        connections=whole(text("connections", "6"), "Connections to each origin", 1, 64),
        pace=Pace(
            factor=number(text("factor", "1"), "Think times ×", 0, 100),
            spread=number(text("spread", "0"), "Spread of the pace", 0, 3),
        ),
        patience=_patience(text),
        line=_line(text),
        visit=_visit(text, str(typed.get("cookies", ""))),
        note=text("note")[:2000],
    )
    problems = list(persona_problems(made))
    if problems:
        raise DynamikosError(" ".join(problems))
    return made


def _patience(text: Any) -> Patience | None:
    if not text("patience"):
        return None
    then = text("then", "leave")
    if then not in ("leave", "reload"):
        raise DynamikosError(f"Who is out of patience leaves or reloads, and does not “{then}”.")
    seconds = number(text("patience"), "Waits for a step, in seconds", 0, 86_400)
    if seconds <= 0:
        raise DynamikosError(
            "Waits for a step, in seconds: write more than 0, or leave it empty for who waits for "
            "ever."
        )
    return Patience(
        seconds=seconds,
        spread=number(text("patience_spread", "0"), "Spread of patience", 0, 3),
        then=cast(Any, then),
        reloads=whole(text("reloads", "1"), "Reloads", 1, 100),
    )


def _line(text: Any) -> Line | None:
    chosen = text("line")
    if not chosen:
        return None

    def figure(name: str, title: str, low: float) -> float | None:
        return number(text(name), title, low, 1e8) if text(name) else None

    return Line(
        line="" if chosen == "own" else chosen,
        down_kbit_s=figure("down", "Down, kbit/s", 0.001),
        up_kbit_s=figure("up", "Up, kbit/s", 0.001),
        latency_ms=figure("latency", "There and back, ms", 0),
        jitter_ms=figure("jitter", "Jitter, ms", 0),
    )


def _visit(text: Any, cookies: str) -> Visit | None:
    chosen = text("visit")
    if not chosen:
        return None
    if chosen not in ("first", "return"):
        raise DynamikosError(f"A visit is the first or a return, not “{chosen}”.")
    return Visit(
        visit=cast(Any, chosen),
        away_s=number(text("away", "86400"), "Away for, in seconds", 0, 31_536_000),
        cookies=tuple(_pairs(cookies, "=", "Cookie")),
    )


def _pairs(text: str, sign: str, what: str) -> Iterator[tuple[str, str]]:
    """A pair a line, as it is pasted from a browser."""
    for line in text.splitlines():
        if not line.strip():
            continue
        name, found, value = line.strip().partition(sign)
        if not found or not name.strip():
            raise DynamikosError(
                f"{what}: “{line.strip()[:60]}” is no pair; write name{sign} value, one a line."
            )
        yield name.strip(), value.strip()
