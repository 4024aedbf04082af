"""What the plan page sends, as core values. Raises DynamikosError naming the field."""

from collections.abc import Collection
from typing import get_args

from django.http import QueryDict
from msgspec.structs import replace

from dynamikos.core.errors import DynamikosError
from dynamikos.core.plans import Plan, Timeouts
from dynamikos.core.plans.crowds import measured_of
from dynamikos.core.plans.model import Caching, Keep, Repeat, Undecided
from dynamikos.web.plans.crowd_fields import crowds_from
from dynamikos.web.plans.objective_fields import objectives_from
from dynamikos.web.plans.probe_fields import probes_from
from dynamikos.web.ui.numbers import number, whole

TIMEOUTS = (
    ("connect_s", "Connecting"),
    ("first_byte_s", "Until the first byte"),
    ("whole_s", "All of it"),
)


def changes(data: QueryDict, before: Plan) -> dict[str, object]:
    """All fields of the page of a plan that is `before` now."""
    name = data.get("name", "").strip()[:120]
    if not name:
        raise DynamikosError("A load plan needs a name.")
    who = crowds_from(data, before)
    return {
        "name": name,
        **who,
        "measured": _measured(data, measured_of(replace(before, **who).everybody())),
        "environment": data.get("environment", ""),
        "think_factor": number(data.get("think_factor", "1"), "Think time factor", 0, 100),
        "cache": _one_of(data, "cache", get_args(Caching), before.cache),
        "objectives": objectives_from(data),
        "probes": probes_from(data, before),
        "timeouts": Timeouts(
            **{
                name: number(
                    data.get(f"timeout_{name}") or str(getattr(Timeouts(), name)),
                    title,
                    0.001,
                    86_400,
                )
                for name, title in TIMEOUTS
            }
        ),
        "failed_pause_s": number(
            data.get("failed_pause_s") or "1", "Pause after a failed round", 0, 3600
        ),
        "repeat": Repeat(
            times=whole(data.get("times") or "1", "Times", 1, 100),
            pause_s=number(data.get("pause_s") or "0", "Pause between runs", 0, 86_400),
            seed="same" if data.get("repeat_seed") == "same" else "new",
        ),
        "keep": Keep(
            failing=whole(
                data.get("keep_failing") or str(before.keep.failing), "Caching, failing", 0, 500
            ),
            slowest=whole(
                data.get("keep_slowest") or str(before.keep.slowest), "Caching, slowest", 0, 100
            ),
            sampled=whole(
                data.get("keep_sampled") or str(before.keep.sampled),
                "Caching, drawn at random",
                0,
                1000,
            ),
        ),
        "fuse_percent": number(
            data.get("fuse_percent") or "50", "Failures that end the run", 0, 100
        ),
        "undecided": _one_of(data, "undecided", get_args(Undecided), before.undecided),
        "turned_away_allowed": number(
            data.get("turned_away_allowed") or "0", "Arrivals that may be turned away", 0, 100
        ),
        "new_seed": bool(data.get("new_seed")),
        "seed": whole(data.get("seed") or "1", "Seed", 0, 2**31),
        "grace_s": number(data.get("grace_s", "30"), "Grace", 0, 3600),
        "generators": whole(data.get("generators") or "1", "Generators", 1, 256),
    }


def _one_of(data: QueryDict, name: str, known: Collection[str], before: str) -> str:
    """What was chosen from a list; what stood there `before` where nothing was sent."""
    chosen = data.get(name, "")
    return chosen if chosen in known else before


def _measured(data: QueryDict, suggested: tuple[float, float]) -> tuple[float, float] | None:
    """The measured part, where it is said; an end that is not said is the suggested one."""
    begin, end = data.get("measured_from", "").strip(), data.get("measured_to", "").strip()
    if not begin and not end:
        return None
    return (
        number(begin or str(suggested[0]), "Begin of the measured part", 0, 1e7),
        number(end or str(suggested[1]), "End of the measured part", 0, 1e7),
    )
