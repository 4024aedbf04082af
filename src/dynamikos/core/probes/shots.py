"""What a browser saw of a page, and how its layout shifted."""

from collections.abc import Sequence

import msgspec

BREAK_MS, LONGEST_MS = 1000, 5000  # between two shifts of a session, and of a session


class Shot(msgspec.Struct, frozen=True, kw_only=True):
    """One look at a page: what it looked like (JPEG), its figures by name (ms; layout shift without
    unit), or why there are none.
    """

    page: str
    jpeg: bytes = b""
    figures: dict[str, float] = {}
    problem: str = ""


def shifted(shifts: Sequence[tuple[float, float]]) -> float:
    """The cumulative layout shift of (ms, share) in order of time: the largest sum of a session, in
    which less than a second lies between two shifts and which lasts five seconds at most (Layout
    Instability, session windows of 2021).
    """
    most = total = 0.0
    begun = before = float("-inf")
    for at, value in shifts:
        if at - before > BREAK_MS or at - begun > LONGEST_MS:
            begun, total = at, 0.0
        total, before = total + value, at
        most = max(most, total)
    return most


def blind(shots: Sequence[Shot]) -> dict[str, str]:
    """Pages of a look that could not be looked at, and why."""
    return {each.page: each.problem for each in shots if each.problem}


def worth_keeping(before: Sequence[Shot], shot: Shot, since_s: float) -> bool:
    """Whether a picture says more than those kept before of its page, the last one `since_s` ago:
    the first (which may have come to no picture), one that failed after one that did not, the
    slowest so far, and one a minute.
    """
    if not before or (shot.jpeg and not any(each.jpeg for each in before)):
        return True
    if shot.problem:
        return not before[-1].problem or since_s >= 60
    slowest = max((each.figures.get("largest paint", 0.0) for each in before), default=0.0)
    return (
        since_s >= 60
        or bool(before[-1].problem)
        or shot.figures.get("largest paint", 0.0) > 1.2 * slowest
    )
