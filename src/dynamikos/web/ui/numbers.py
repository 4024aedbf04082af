"""Numbers as people type them. What can't be read raises DynamikosError naming the field."""

from dynamikos.core.errors import DynamikosError


def number(text: str, what: str, low: float, high: float) -> float:
    try:
        value = float(text.replace(",", "."))
    except ValueError as problem:
        raise DynamikosError(f"{what}: '{text}' is not a number.") from problem
    if not low <= value <= high:
        raise DynamikosError(f"{what}: {value:g} is not between {low:g} and {high:g}.")
    return value


def whole(text: str, what: str, low: int, high: int) -> int:
    """A number without a fraction."""
    value = number(text, what, low, high)
    if value != int(value):
        raise DynamikosError(f"{what}: {text} is not a whole number.")
    return int(value)
