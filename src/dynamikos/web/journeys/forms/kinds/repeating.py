"""Doing steps again and again."""

from django.http import QueryDict

from dynamikos.core.journeys.kinds import Repeat, Repeating
from dynamikos.web.journeys.forms.checks import THENS
from dynamikos.web.journeys.forms.kinds.base import KindFields
from dynamikos.web.ui.numbers import number, whole

FIELDS = {"times": "times", "while": "while_", "until": "until"}


class RepeatingFields(KindFields[Repeating]):
    """How long it goes on, in what rhythm, and what it means when it does not end."""

    template = "journeys/kinds/repeating.html"

    @classmethod
    def shown(cls, step: Repeating) -> dict[str, object]:
        rule = step.repeat
        how = "times" if rule.times else "while" if rule.while_ else "until"
        text = rule.times or rule.while_ or rule.until
        return {"repeat": {"how": how, "text": text, "rule": rule}, "thens": THENS}

    @classmethod
    def changes(cls, data: QueryDict, old: Repeating) -> dict[str, object]:
        field = FIELDS.get(data.get("how", "times"), "times")
        text = data.get("text", "").strip() or ("1" if field == "times" else "{{ 1 }}")
        then = data.get("then", "round")
        return {
            "repeat": Repeat(
                **{field: text},
                every_s=number(data.get("every_s") or "0", "every"),
                limit_s=number(data.get("limit_s") or "60", "limit"),
                at_most=whole(data.get("at_most") or "1000", "at most"),
                then=then if then in dict(THENS) else "round",  # type: ignore[arg-type]
            )
        }
