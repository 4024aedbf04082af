"""What a CSS selector finds."""

from dynamikos.core.captures import CssForm
from dynamikos.core.captures.kinds import css
from dynamikos.core.checks.check_kinds import CheckKind, Look
from dynamikos.core.checks.kinds.expected import Expected, look_for


class CssText(Expected, frozen=True, kw_only=True):
    """The text, or an attribute, of the elements a selector finds."""

    selector: str
    attribute: str = ""


def look(given: CssText) -> Look:
    form = CssForm(selector=given.selector, attribute=given.attribute)
    finder = css.find(form)
    return look_for(
        given,
        css.says(form),
        lambda view: (text.strip() for text in finder(view)),
        "no such element",
    )


KIND = CheckKind(
    "css",
    look,
    lambda given: f"{given.selector} {given.says()}",
    CssText.with_texts,
    looks_inside=True,
    needs_body=True,
)
