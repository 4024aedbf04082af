"""What is asked to be otherwise in one start of a plan, from what a page sends."""

from collections.abc import Mapping

from dynamikos.core.plans import Plan
from dynamikos.core.plans.once import Once
from dynamikos.web.plans.actions import read_text
from dynamikos.web.plans.models import LoadPlan
from dynamikos.web.plans.queries import content
from dynamikos.web.ui.numbers import number, whole

FIELDS = ("text", "once_load", "once_length", "once_think", "once_generators", "once_seed")


def asked(plan: LoadPlan, typed: Mapping[str, str]) -> tuple[Plan, str]:
    """(the plan as it is for this start, how it differs, in a sentence). Raises DynamikosError naming the field."""
    stored = content(plan)
    core, said = stored, []
    if typed.get("text"):
        core = read_text(plan, typed["text"])
        if core != stored:
            said.append("This start only: from a text of the plan that was changed for it.")

    def given(name: str) -> str:
        return typed.get(name, "").strip()

    once = Once(
        load=number(given("once_load") or "100", "Load, %", 0.1, 10_000) / 100,
        length=number(given("once_length") or "100", "Length, %", 0.1, 10_000) / 100,
        think=number(given("once_think"), "Think times", 0, 100) if given("once_think") else None,
        generators=whole(given("once_generators"), "Generators", 1, 256) if given("once_generators") else None,
        seed=whole(given("once_seed"), "Seed", 0, 2**31) if given("once_seed") else None,
    )
    made = once.of(core)
    return made, " ".join([*said, *filter(None, (once.says(core),))])
