"""How large an answer is, and how long it took."""

from collections.abc import Callable

from dynamikos.core.captures.view import View
from dynamikos.core.checks.check_kinds import Beyond, CheckKind, Look, Values
from dynamikos.core.errors import RuleError
from dynamikos.core.text import Frozen


class Bounds(Frozen, frozen=True, kw_only=True):
    """At least, at most, or both."""

    at_least: float | None = None
    at_most: float | None = None


def _bounds(
    what: str, unit: str, measure: Callable[[View], float | None]
) -> Callable[[Bounds], Look]:
    def make(given: Bounds) -> Look:
        low, high = given.at_least, given.at_most
        if low is None and high is None:
            raise RuleError(f"{what} needs at_least, at_most or both")
        words = [
            f"at least {low:,g} {unit}" if low is not None else "",
            f"at most {high:,g} {unit}" if high is not None else "",
        ]
        expected = f"{what} " + " and ".join(filter(None, words))

        def actual(view: View) -> float:
            found = measure(view)
            if found is None:
                raise Beyond(expected)
            return found

        def is_so(view: View, values: Values) -> bool:
            found = actual(view)
            return (low is None or found >= low) and (high is None or found <= high)

        return Look(is_so, lambda view, values: (expected, f"{actual(view):,g} {unit}"))

    return make


def _says(name: str, unit: str) -> Callable[[Bounds], str]:
    def says(given: Bounds) -> str:
        least = f" ≥ {given.at_least:g}" if given.at_least is not None else ""
        most = f" ≤ {given.at_most:g}" if given.at_most is not None else ""
        return f"{name}{least}{most} {unit}"

    return says


SIZE = CheckKind(
    "size",
    _bounds("size", "bytes", lambda view: view.size_bytes),
    _says("size", "bytes"),
    needs_body=True,
)
TIME = CheckKind(
    "time", _bounds("response time", "ms", lambda view: view.duration_ms), _says("time", "ms")
)
