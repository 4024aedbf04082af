"""Concurrent users."""

from dynamikos.core.plans.workloads import Users
from dynamikos.web.plans.workloads.base import Fields, Text, chosen, pacing

LEAVING = (("step", "after the step at hand"), ("round", "after the round"), ("now", "at once"))


def read(text: Text, said: str) -> Users:
    words = f"{said}users leave after the step, after the round, or at once."
    return Users(
        leaving=chosen(text("leaving", "step"), dict(LEAVING), words),
        shares=chosen(text("shares", "visits"), ("visits", "users"), words),
        pacing_s=pacing(text, said),
    )


FIELDS = Fields("users", "concurrent users", ("users", "pacing"), read)
