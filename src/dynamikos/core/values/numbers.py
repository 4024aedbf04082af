"""Texts as numbers and back: every value of a journey is a text, arithmetic on it is decimal."""

import re
from decimal import Context, Decimal, DecimalException

from dynamikos.core.errors import TemplateError

NUMBER = re.compile(r"\s*[+-]?[0-9]{1,400}(\.[0-9]{1,400})?([eE][+-]?[0-9]{1,3})?\s*\Z")
ARITHMETIC = Context(prec=40, Emax=999, Emin=-999)


def as_number(value: object) -> Decimal | None:
    """`value` as a number, or None when it is none.

    Numbers have a decimal point, never a comma, and at most 400 digits.
    """
    if isinstance(value, Decimal):
        return value
    if isinstance(value, bool):
        return None
    if isinstance(value, int):
        return Decimal(value) if abs(value) < 10**400 else None
    if isinstance(value, float):
        return Decimal(repr(value)) if value - value == 0 else None
    if isinstance(value, str) and NUMBER.match(value):
        return Decimal(value.strip())
    return None


def number(value: object) -> Decimal:
    """`value` as a number. Raises TemplateError saying what it was."""
    found = as_number(value)
    if found is None:
        raise TemplateError(
            f"“{str(value)[:60]}” is not a number; + − * / work on numbers, ~ joins texts"
        )
    return found


def plain(value: Decimal) -> str:
    """Without exponent and without zeros behind the point: 12.50 → "12.5", 1E+2 → "100"."""
    text = format(value, "f")
    return text.rstrip("0").rstrip(".") or "0" if "." in text else text


def calculate(operator: str, left: object, right: object) -> Decimal:
    """left operator right, to 40 digits. Raises TemplateError: no numbers, division by nought, too
    large.
    """
    a, b = number(left), number(right)
    try:
        match operator:
            case "+":
                return ARITHMETIC.add(a, b)
            case "-":
                return ARITHMETIC.subtract(a, b)
            case "*":
                return ARITHMETIC.multiply(a, b)
            case "/":
                return ARITHMETIC.divide(a, b)
            case "//":
                return ARITHMETIC.divide_int(a, b)
            case "%":
                return ARITHMETIC.remainder(a, b)
            case _:
                if abs(b) > 1000 or b != b.to_integral_value():
                    raise TemplateError("** takes whole powers up to 1000")
                return ARITHMETIC.power(a, b)
    except (DecimalException, ZeroDivisionError) as problem:
        raise TemplateError(
            f"{plain(a)} {operator} {plain(b)} can't be calculated:"
            f" {'division by nought' if not b else 'the result is too large'}"
        ) from problem
