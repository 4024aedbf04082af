"""What the plan page sends, as core values. Raises DynamikosError naming the field."""

from typing import cast

from django.http import QueryDict

from dynamikos.core.errors import DynamikosError
from dynamikos.core.journeys import key_from
from dynamikos.core.objectives import Objective
from dynamikos.core.objectives.judge import Measure
from dynamikos.core.plans import Timeouts
from dynamikos.core.profiles import Stretch

TIMEOUTS = (("connect_s", "Connecting"), ("first_byte_s", "Until the first byte"), ("whole_s", "All of it"))
MEASURES = ("p50", "p90", "p95", "p99", "mean", "max", "failure-rate")


def number(text: str, what: str, low: float, high: float) -> float:
    try:
        value = float(text.replace(",", "."))
    except ValueError as problem:
        raise DynamikosError(f"{what}: '{text}' is not a number.") from problem
    if not low <= value <= high:
        raise DynamikosError(f"{what}: {value:g} is not between {low:g} and {high:g}.")
    return value


def changes(data: QueryDict) -> dict[str, object]:
    """All fields of the page."""
    name = data.get("name", "").strip()[:120]
    if not name:
        raise DynamikosError("A load plan needs a name.")
    stretches: list[Stretch] = []
    for kind, to, seconds in zip(data.getlist("stretch"), data.getlist("to"), data.getlist("seconds"), strict=False):
        if not seconds.strip():
            if to.strip():
                raise DynamikosError(
                    f"Stretch {len(stretches) + 1} goes to {to.strip()} users, but how long it takes is missing: write"
                    " its seconds."
                )
            continue
        length = number(seconds, "Seconds of a stretch", 0, 604_800)
        if kind == "climb":
            stretches.append(
                Stretch(stretch="climb", to=int(number(to or "0", "Users of a stretch", 0, 100_000)), seconds=length)
            )
        else:
            stretches.append(Stretch(stretch="hold", seconds=length))
    objectives: list[Objective] = []
    for key, measure, step, limit in zip(
        data.getlist("objective"), data.getlist("measure"), data.getlist("step"), data.getlist("limit"), strict=False
    ):
        if not limit.strip():
            continue  # an objective without a limit is taken away
        if measure not in MEASURES:
            raise DynamikosError(f"'{measure}' is not a measure; choose one of {', '.join(MEASURES)}.")
        key = key or key_from(f"{measure} {step}", {each.objective for each in objectives})
        objectives.append(
            Objective(
                objective=key,
                measure=cast(Measure, measure),
                limit=number(limit, "Limit of an objective", 0, 1e9),
                step=step or None,
            )
        )
    return {
        "name": name,
        "journey": data.get("journey", ""),
        "environment": data.get("environment", ""),
        "profile": tuple(stretches),
        "think_factor": number(data.get("think_factor", "1"), "Think time factor", 0, 100),
        "objectives": tuple(objectives),
        "timeouts": Timeouts(
            **{
                name: number(data.get(f"timeout_{name}") or str(getattr(Timeouts(), name)), title, 0.001, 86_400)
                for name, title in TIMEOUTS
            }
        ),
        "failed_pause_s": number(data.get("failed_pause_s") or "1", "Pause after a failed round", 0, 3600),
        "new_seed": bool(data.get("new_seed")),
        "seed": int(number(data.get("seed") or "1", "Seed", 0, 2**31)),
        "grace_s": number(data.get("grace_s", "30"), "Grace", 0, 3600),
        "generators": int(number(data.get("generators") or "1", "Generators", 1, 256)),
    }
