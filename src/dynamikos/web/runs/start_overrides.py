"""What is asked to be otherwise in one start of a plan, from what a page sends."""

from collections.abc import Mapping

from msgspec.structs import replace

from dynamikos.core.plans import Plan
from dynamikos.core.plans.start_overrides import StartOverrides
from dynamikos.web.plans.actions import read_text
from dynamikos.web.plans.models import LoadPlan
from dynamikos.web.plans.queries import content
from dynamikos.web.ui.numbers import number, whole

KEPT = {"failing": 500, "slowest": 100, "sampled": 1000}  # of each at most
FIELDS = (
    "text", "once_load", "once_length", "once_think", "once_generators", "once_seed",
    *(f"once_{name}" for name in KEPT),
)  # fmt: skip


def asked(plan: LoadPlan, typed: Mapping[str, str]) -> tuple[Plan, str]:
    """(the plan as it is for this start, how it differs, in a sentence). Raises DynamikosError
    naming the field.
    """
    stored = content(plan)
    core, said = stored, []
    if typed.get("text"):
        core = read_text(plan, typed["text"])
        if core != stored:
            said.append("This start only: from a text of the plan that was changed for it.")

    def given(name: str) -> str:
        return typed.get(name, "").strip()

    keep = {
        name: whole(given(f"once_{name}"), f"Kept, {name}", 0, most) for name, most in KEPT.items()
        if given(f"once_{name}")
    }  # fmt: skip
    once = StartOverrides(
        load=number(given("once_load") or "100", "Load, %", 0.1, 10_000) / 100,
        length=number(given("once_length") or "100", "Length, %", 0.1, 10_000) / 100,
        think=number(given("once_think"), "Think times", 0, 100) if given("once_think") else None,
        generators=whole(given("once_generators"), "Generators", 1, 256)
        if given("once_generators")
        else None,
        seed=whole(given("once_seed"), "Seed", 0, 2**31) if given("once_seed") else None,
        keep=replace(core.keep, **keep) if keep else None,
    )
    made = once.of(core)
    return made, " ".join([*said, *filter(None, (once.says(core),))])
