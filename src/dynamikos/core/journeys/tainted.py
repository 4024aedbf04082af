"""What is computed from a secret is a secret: which values and texts of a journey are, found by
reading it.
"""

from collections.abc import Collection

from dynamikos.core.errors import DynamikosError
from dynamikos.core.journeys.kinds import Step
from dynamikos.core.journeys.model import Journey
from dynamikos.core.values.masking import MASK
from dynamikos.core.values.template import HOLE, NAME, names_in


def is_secret(name: str, secret: Collection[str]) -> bool:
    return name.startswith("secrets.") or name in secret


def uses(text: str, secret: Collection[str]) -> bool:
    """Whether any hole of `text` needs a secret value."""
    try:
        return any(is_secret(name, secret) for name in names_in(text))
    except DynamikosError:
        return False


def computes(text: str, secret: Collection[str]) -> bool:
    """Whether any hole of `text` makes something else of a secret value than that value."""
    return any(
        not NAME.match(hole.group(1).strip()) and uses(hole.group(0), secret)
        for hole in HOLE.finditer(text)
    )


def shown(text: str, secret: Collection[str]) -> str:
    """`text` with MASK in place of each hole that needs a secret value."""
    return HOLE.sub(lambda hole: MASK if uses(hole.group(0), secret) else hole.group(0), text)


def secret_names(journey: Journey, columns: Collection[str] = ()) -> frozenset[str]:
    """Names of the journey's values that hold a secret or what is computed from one; `columns` are
    the masked ones of its data.
    """
    found = set(columns)
    steps = [step for _, step in journey.steps()]
    while True:
        before = len(found)
        for step in steps:
            found |= _given(step, found)
        if len(found) == before:
            return frozenset(found)


def _given(step: Step, secret: Collection[str]) -> set[str]:
    if step.in_turn:
        return {
            name
            for name, (_, text) in zip(step.gives(), step.texts(), strict=True)
            if uses(text, secret)
        }
    return set(step.gives()) if any(uses(text, secret) for _, text in step.texts()) else set()
