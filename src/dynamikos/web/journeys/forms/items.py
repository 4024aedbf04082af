"""Items: steps that do something else than sending requests."""

from typing import Any

import msgspec
from django.http import QueryDict
from msgspec.structs import replace

from dynamikos.core.errors import DynamikosError
from dynamikos.core.journeys import Call, Each, Keep, Repeat, Step
from dynamikos.web.journeys.forms.checks import THENS
from dynamikos.web.journeys.forms.rows import number, pairs


def item_changes(data: QueryDict, old: Step) -> dict[str, object]:
    """The fields of an item that the panel edits. Raises DynamikosError for what can't be kept."""
    match old.kind:
        case "set":
            return {"set": pairs(data, "set") or (("name", ""),)}
        case "pause":
            return {"pause": data.get("pause", "").strip() or "0"}
        case "log":
            return {"log": data.get("log", "").strip() or "…"}
        case "call":
            return {
                "call": _made(
                    Call,
                    function=data.get("function", "").strip(),
                    with_=pairs(data, "with"),
                    into=data.get("into", "").strip(),
                )
            }
        case "keep":
            return {"keep": _made(Keep, into=data.get("into", "").strip(), row=pairs(data, "row"))}
        case "each":
            return {
                "each": _made(
                    Each,
                    name=data.get("name-of-one", "").strip(),
                    in_=data.get("in", ""),
                    at_most=int(number(data.get("at_most", "100"), "at most")),
                )
            }
        case "repeat":
            how, text = data.get("how", "times"), data.get("text", "").strip()
            told = {
                {"times": "times", "while": "while_", "until": "until"}.get(how, "times"): (
                    text or ("1" if how == "times" else "{{ 1 }}")
                )
            }
            then = data.get("then", "round")
            return {
                "repeat": _made(
                    Repeat,
                    **told,
                    every_s=number(data.get("every_s") or "0", "every"),
                    limit_s=number(data.get("limit_s") or "60", "limit"),
                    at_most=int(number(data.get("at_most") or "1000", "at most")),
                    then=then if then in dict(THENS) else "round",
                )
            }
        case "if" | "choose":
            names, weights, whens = (
                data.getlist("branch-name"),
                data.getlist("branch-weight"),
                data.getlist("branch-when"),
            )
            made = []
            for at, branch in enumerate(old.branches):
                changed: dict[str, object] = {}
                if at < len(names):
                    changed["name"] = names[at].strip()
                if at < len(weights):
                    changed["weight"] = number(weights[at] or "0", "weight")
                if at < len(whens):
                    changed["when"] = whens[at].strip()
                made.append(replace(branch, **changed))
            found: dict[str, object] = {"branches": tuple(made)}
            if old.kind == "choose":
                found["choose"] = "evenly" if data.get("choose") == "evenly" else "at random"
            return found
    return {"at_once": bool(data.get("at_once"))} if "shows-at-once" in data else {}


def _made(kind: type[Any], **fields: Any) -> Any:
    """A value whose own limits are verified. Raises DynamikosError in words."""
    try:
        return msgspec.convert(msgspec.to_builtins(kind(**fields)), kind)
    except (msgspec.ValidationError, TypeError) as problem:
        text = str(problem)
        if "matching regex" in text:
            text = "a name has small letters, digits and _; a function is written as module.function"
        raise DynamikosError(f"This can't be kept: {text}") from problem
