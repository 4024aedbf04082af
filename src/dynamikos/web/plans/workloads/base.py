"""What the page needs of a workload, and fields that several have."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from dynamikos.core.errors import DynamikosError
from dynamikos.core.plans.workloads import UNIT_S, Workload
from dynamikos.web.ui.numbers import number, whole

Text = Callable[[str, str], str]  # what was typed into a field, or the default where nothing was


@dataclass(frozen=True, slots=True)
class Fields:
    """`title` as the page lists it; `parts` are its templates in `plans/workloads`; `read` makes it
    of what was typed.

    `read` is given what begins its errors. It raises DynamikosError naming the field.
    """

    key: str
    title: str
    parts: tuple[str, ...]
    read: Callable[[Text, str], Workload]


def pacing(text: Text, said: str) -> tuple[float, ...] | None:
    """Seconds, or a range of them; nothing for none."""
    typed = [text(name, "") for name in ("pacing", "pacing-to")]
    return tuple(number(part, f"{said}a round every", 0, 86_400) for part in typed if part) or None


def chosen(value: str, known: object, said: str) -> Any:
    """`value`, which is one of `known`. Raises DynamikosError with `said`."""
    if value not in known:  # type: ignore[operator]
        raise DynamikosError(said)
    return value


def opened(text: Text, said: str) -> dict[str, Any]:
    """The fields of all whose profile counts what begins."""
    words = f"{said}arrivals are per second, minute or hour, evenly or at random."
    return {
        "per": chosen(text("per", "second"), UNIT_S, words),
        "spread": chosen(text("spread", "even"), ("even", "poisson"), words),
        "ceiling": whole(text("ceiling", "100"), f"{said}users at most", 1, 1_000_000),
    }
