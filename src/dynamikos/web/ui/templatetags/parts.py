"""Parts that recur on the pages, as tags: each is one element, made in one place. All of them are
on `/patterns/`.
"""

from collections.abc import Iterable
from typing import Any
from urllib.parse import urlencode

from django import template
from django.utils.html import format_html, format_html_join
from django.utils.safestring import SafeString, mark_safe

register = template.Library()


def _id(name: str) -> SafeString:
    return format_html(' id="{}"', name) if name else SafeString("")


@register.simple_block_tag
def problem(content: str, id: str = "") -> SafeString:
    """What is wrong, where, and what to do; said at once to whoever hears the page."""
    return format_html(
        '<div class="notification is-danger" role="alert"{}>{}</div>', _id(id), mark_safe(content)
    )


@register.simple_block_tag
def hint(content: str, id: str = "") -> SafeString:
    """Something good to know: what was done, what can be done next."""
    return format_html('<div class="notification is-info"{}>{}</div>', _id(id), mark_safe(content))


@register.simple_block_tag
def empty(content: str, heading: str = "") -> SafeString:
    """What stands where nothing is yet: what it will be, and how it begins."""
    head = format_html("<h2>{}</h2>", heading) if heading else ""
    return format_html('<div class="empty">{}{}</div>', head, mark_safe(content))


@register.simple_block_tag
def disclosure(
    content: str, summary: str, id: str = "", look: str = "", open: object = False
) -> SafeString:
    """What is looked at now and then: a line that unfolds the rest. `look` is a class of all of
    it.
    """
    classes = format_html(' class="{}"', look) if look else ""
    more = SafeString(" open") if open else ""
    head = format_html('<summary class="small">{}</summary>', summary)
    return format_html(
        "<details{}{}{}>{}{}</details>", classes, _id(id), more, head, mark_safe(content)
    )


@register.simple_tag
def options(
    choices: Iterable[Any],
    chosen: object = None,
    value: str = "",
    words: str = "",
    keep: bool = False,
) -> SafeString:
    """What a select offers: of pairs (value, words), or of objects by the names of two of their
    attributes. The `chosen` one is selected; with `keep` one that is offered no more is offered as
    such, so that saving does not change it.
    """
    pairs = [
        (getattr(each, value), getattr(each, words)) if value else (each[0], each[1])
        for each in choices
    ]
    wanted = "" if chosen is None else str(chosen)
    if keep and wanted and all(str(each) != wanted for each, _ in pairs):
        pairs.insert(0, (wanted, f"{wanted} (not there any more)"))
    lines = (
        (each, SafeString(" selected" if str(each) == wanted else ""), name) for each, name in pairs
    )
    return format_html_join("", '<option value="{}"{}>{}</option>', lines)


@register.simple_block_tag
def field(content: str, label: str, look: str = "") -> SafeString:
    """A field beneath its label; `look` is a class of the label."""
    classes = format_html(' class="{}"', look) if look else ""
    return format_html("<label{}>{} {}</label>", classes, label, mark_safe(content))


@register.simple_tag(takes_context=True)
def pin(context: Any, what: str, title: object, **of: object) -> SafeString:
    """Puts what stands beside it into the casebook: `of` is what names it, as its page's address
    does.
    """
    member = context.get("member")
    if member is None or not member.may_edit:
        return SafeString("")
    return format_html(
        '<button type="button" class="pin" data-pin="{}" data-what="{}" data-title="{}" title="Pin '
        'it (p)"'
        ' aria-label="Pin {}" data-command="Pin: {}"><svg viewBox="0 0 10 14" aria-hidden="true">'
        '<circle cx="5" cy="4" r="3"></circle><path d="M5 7V13"></path></svg></button>',
        urlencode({name: "" if value is None else value for name, value in of.items()}),
        what,
        title,
        title,
        title,
    )


@register.simple_tag
def numeral(
    name: str,
    value: object,
    label: str = "",
    of: object = "",
    least: object = 0,
    hint: object = "",
    form: str = "",
) -> SafeString:
    """A field for a number that is no less than `least`. `label` is what it is called where nothing
    stands beside it, and `of` which row's it is; `hint` stands in it while it is empty; `form` is
    whose it is, where it stands outside.
    """
    text = "" if value is None else f"{value:.10g}" if isinstance(value, float) else str(value)
    named = format_html(' aria-label="{}"', f"{label} {of}".strip()) if label else ""
    hinted = format_html(' placeholder="{}"', hint) if hint != "" else ""
    whose = format_html(' form="{}"', form) if form else ""
    return format_html(
        '<input class="input" type="number" name="{}" min="{}" step="any" value="{}"{}{}{}>',
        name, least, text, named, hinted, whose,
    )  # fmt: skip


@register.simple_tag
def knob(x: float, y: float, at: int, movable: bool) -> SafeString:
    """The handle at the end of stretch `at`, from 0, of a curve; whoever may edit moves it."""
    moves = format_html(
        ' tabindex="0" role="slider" data-stretch="{}" aria-valuenow="{}" aria-label="{}"',
        at, at + 1, f"End of stretch {at + 1}: arrow keys move it, with Shift by ten",
    ) if movable else ""  # fmt: skip
    return format_html(
        '<rect class="knob" x="{}" y="{}" width="10" height="10"{}/>', x - 5, y - 5, moves
    )


@register.simple_tag
def figure(value: object, unit: str = "") -> SafeString:
    """A figure with its unit, in digits of one width."""
    return format_html('<span class="figure">{}{}</span>', value, f" {unit}" if unit else "")


@register.simple_tag
def columns(*names: str) -> SafeString:
    """The head of a table; a name that ends with " #" is of a column of figures."""
    cells = ((" class=n" if name.endswith(" #") else "", name.removesuffix(" #")) for name in names)
    row = format_html_join("", "<th{}>{}</th>", ((SafeString(look), name) for look, name in cells))
    return format_html("<thead><tr>{}</tr></thead>", row)
