"""What the plan page sends, as core values. Raises DynamikosError naming the field."""

from typing import cast

from django.http import QueryDict
from msgspec.structs import replace

from dynamikos.core.errors import DynamikosError
from dynamikos.core.journeys import key_from
from dynamikos.core.objectives import Objective
from dynamikos.core.objectives.judge import Measure
from dynamikos.core.plans import Plan, Timeouts
from dynamikos.core.plans.crowds import measured_of
from dynamikos.web.plans.crowd_fields import crowds_from
from dynamikos.web.ui.numbers import number

TIMEOUTS = (("connect_s", "Connecting"), ("first_byte_s", "Until the first byte"), ("whole_s", "All of it"))
MEASURES = ("p50", "p90", "p95", "p99", "mean", "max", "failure-rate")


def changes(data: QueryDict, before: Plan) -> dict[str, object]:
    """All fields of the page of a plan that is `before` now."""
    name = data.get("name", "").strip()[:120]
    if not name:
        raise DynamikosError("A load plan needs a name.")
    who = crowds_from(data, before)
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
                **_scope(step),
            )
        )
    return {
        "name": name,
        **who,
        "measured": _measured(data, measured_of(replace(before, **who).everybody())),
        "environment": data.get("environment", ""),
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


def _measured(data: QueryDict, suggested: tuple[float, float]) -> tuple[float, float] | None:
    """The measured part, where it is said; an end that is not said is the suggested one."""
    begin, end = data.get("measured_from", "").strip(), data.get("measured_to", "").strip()
    if not begin and not end:
        return None
    return (
        number(begin or str(suggested[0]), "Begin of the measured part", 0, 1e7),
        number(end or str(suggested[1]), "End of the measured part", 0, 1e7),
    )


def scope_of(objective: Objective) -> str:
    """What an objective is about, as its select sends it."""
    if objective.row is not None:
        return f"row={objective.row}"
    return f"{objective.journey}/{objective.step}" if objective.journey else objective.step or ""


def _scope(text: str) -> dict[str, str | None]:
    if text.startswith("row="):
        return {"row": text[4:]}
    journey, sign, step = text.rpartition("/")
    return {"step": step or None, "journey": journey or None} if sign else {"step": text or None}
