"""Numbers as people type them. What can't be read raises DynamikosError naming the field."""

from dynamikos.core.errors import DynamikosError
from dynamikos.core.figures import figure

MOST = 10**18


def number(text: str, what: str, low: float = -MOST, high: float = MOST) -> float:
    value = figure(text)
    if value is None:
        raise DynamikosError(f"{what}: '{text[:40]}' is not a number.")
    if not low <= value <= high:
        raise DynamikosError(f"{what}: {value:g} is not between {low:g} and {high:g}.")
    return value


def whole(text: str, what: str, low: int = -MOST, high: int = MOST) -> int:
    """A number without a fraction, of as many digits as were typed."""
    value = number(text, what, low, high)
    if value != int(value):
        raise DynamikosError(f"{what}: {text[:40]} is not a whole number.")
    digits = "".join(text.split()).replace(",", "")
    return int(digits) if digits.lstrip("+-").isdecimal() else int(value)
