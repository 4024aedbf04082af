"""A message about a run, as JSON for programs and as a letter for people. Signed by HMAC-SHA256
(RFC 2104).
"""

import hashlib
import hmac
from typing import Literal

import msgspec

Event = Literal["ended", "stopped", "lost", "test"]
EVENTS: dict[Event, str] = {
    "ended": "a run is over", "stopped": "an objective stops a run", "lost": "a generator is lost",
}  # fmt: skip
WAITS_S = (10.0, 60.0, 300.0, 1800.0, 7200.0)  # before the second try and those after it


class Told(msgspec.Struct, frozen=True, kw_only=True):
    """Of one event: its sentence, the run's number, plan and verdict (one word, "" while it is not
    over), whether that is doubted and why, and where all of it can be read. In form 1, which
    receivers may still ask for, `verdict` has the words of its day.
    """

    form: int = 2
    event: Event
    sentence: str
    project: str = ""
    plan: str = ""
    run: int = 0
    verdict: str = ""  # in the words of form 1
    state: str = ""  # in those of the table of states
    doubted: bool = False
    doubts: list[str] = []
    link: str = ""
    at: str = ""  # ISO 8601, UTC


def body_of(told: Told) -> bytes:
    """As it is sent to a webhook."""
    return msgspec.json.format(msgspec.json.encode(told), indent=1)


def signature(key: str, at: int, body: bytes) -> str:
    """The header that proves who sent it and when: `t=SECONDS,sha256=HEX` over "SECONDS." and the
    body.
    """
    made = hmac.new(key.encode(), f"{at}.".encode() + body, hashlib.sha256).hexdigest()
    return f"t={at},sha256={made}"


def mail_of(told: Told) -> tuple[str, str]:
    """(subject, text) of a letter."""
    about = f"{told.plan}, run {told.run}" if told.run else told.project
    subject = " ".join(
        f"{about}: {told.state or told.verdict or EVENTS.get(told.event, told.event)}".split()
    )
    lines = [told.sentence, "", f"Project: {told.project}"]
    if told.run:
        lines += [f"Plan: {told.plan}", f"Run: {told.run}"]
    lines += [f"When: {told.at}"] if told.at else []
    lines += ["", told.link] if told.link else []
    return subject[:200], "\n".join(lines) + "\n"


def wait_s(tries: int) -> float | None:
    """How long to wait after so many tries that failed; None: it is given up."""
    return WAITS_S[tries - 1] if 0 < tries <= len(WAITS_S) else None
