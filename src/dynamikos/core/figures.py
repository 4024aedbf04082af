"""Numbers as people write them."""

import math
import re
from typing import Literal

MOST_DIGITS = 18  # of a whole number: it fits 64 bits
THOUSANDS = re.compile(r"[+-]?[1-9]\d{0,2}(,\d{3})+(\.\d*)?\Z")


def digits(text: str) -> int | None:
    """What is written in digits 0 to 9 alone, at most MOST_DIGITS of them; None for all else
    (`str.isdigit` takes ² too, and `int` refuses thousands of digits).
    """
    return int(text) if text.isascii() and text.isdigit() and len(text) <= MOST_DIGITS else None


def clock(seconds: float) -> str:
    """The run clock: 04:35, and 1:02:03 from an hour on."""
    hours, rest = divmod(int(seconds), 3600)
    return f"{hours}:{rest // 60:02}:{rest % 60:02}" if hours else f"{rest // 60:02}:{rest % 60:02}"


def short(value: float, figures: Literal[3, 4] = 3) -> str:
    """So many figures, or all there are before the point: 0.00123, 12.3, 1,234."""
    return (
        f"{value:,.0f}"
        if abs(value) >= 1000 - 0.5 * 10 ** (3 - figures)
        else f"{value:.{figures}g}"
    )


def milliseconds(value_ms: float) -> str:
    """A duration as it is written everywhere: 182 ms, 1.94 s."""
    return f"{short(value_ms / 1000)} s" if value_ms >= 999.5 else f"{short(value_ms)} ms"


def signed(part: float, unit: str) -> str:
    """A change in hundredths, with its sign: +12.3 %, -0.5 points, +4,680 %."""
    return f"{'' if part < 0 else '+'}{short(100 * part)} {unit}".strip()


def odds(p: float) -> str:
    """How likely something is by chance: 2.5 %, 1 in 4,000, less than 1 in a million."""
    if p >= 0.01:
        return f"{short(100 * min(p, 1.0))} %"
    return f"1 in {short(1 / p)}" if p >= 1e-6 else "less than 1 in a million"


def figure(text: str) -> float | None:
    """4,000 and 4 000 are four thousand, 12,5 and 12.5 twelve and a half, and 1.234,5 is 1234.5; a
    comma before three digits parts thousands, unless it comes after a 0. None for what is no
    number, or an endless one.
    """
    plain = "".join(text.split())
    if (
        plain.rfind(",") > plain.rfind(".") >= 0
    ):  # of two kinds of signs the last one is that of the fraction
        plain = plain.replace(".", "").replace(",", ".")
    elif THOUSANDS.match(plain):
        plain = plain.replace(",", "")
    elif plain.count(",") == 1 and "." not in plain:
        plain = plain.replace(",", ".")
    try:
        value = float(plain)
    except ValueError:
        return None
    return value if math.isfinite(value) and "_" not in plain else None
