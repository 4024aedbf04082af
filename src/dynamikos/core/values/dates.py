"""Dates in any format and at any offset. The clock is passed in."""

import re
from datetime import UTC, datetime, timedelta, timezone, tzinfo
from functools import lru_cache
from zoneinfo import ZoneInfo

from dynamikos.core.errors import TemplateError

FORMAT = re.compile(r"(?:[^%]|%[-]?[aAbBdHIjmMpSUwWyYzZfGuVFTsDe%]|%L|%Q|%:z)*\Z", re.S)
OURS = re.compile(r"%(?:%|s|L|Q|:z)")  # letters that strftime has not, or not everywhere
OFFSET = re.compile(r"([+-])([0-9]{2}):?([0-9]{2})\Z")
MAX_FORMAT = 200


def verified(form: str) -> str:
    """`form` when it may be given to strftime: known letters, no widths (they could ask for
    gigabytes).

    Raises TemplateError.
    """
    if len(form) > MAX_FORMAT or not FORMAT.match(form):
        raise TemplateError(
            f"“{form[:40]}” is no date format; write letters such as %d.%m.%Y or %Y-%m-%dT%H:%M:%S "
            "(%s: seconds since"
            " 1970)"
        )
    return form


@lru_cache(maxsize=64)
def zone_of(name: str) -> tzinfo:
    """ "UTC", an offset such as "+02:00", or a name such as "Europe/Oslo". Raises TemplateError."""
    offset = OFFSET.match(name)
    if offset:
        minutes = int(offset.group(2)) * 60 + int(offset.group(3))
        if minutes >= 24 * 60:
            raise TemplateError(
                f"“{name}” is no offset from UTC; it lies within a day, such as +02:00"
            )
        return timezone(timedelta(minutes=minutes if offset.group(1) == "+" else -minutes))
    if name == "UTC":
        return UTC
    try:
        return ZoneInfo(name)
    except Exception as problem:
        raise TemplateError(
            f"“{name[:40]}” is no time zone; write UTC, an offset such as +02:00, or a name such "
            "as Europe/Oslo"
        ) from problem


def moved(
    instant: datetime, days: object = 0, hours: object = 0, minutes: object = 0, seconds: object = 0
) -> datetime:
    """Later by so much (earlier when negative). Raises TemplateError for what leaves the
    calendar.
    """
    from dynamikos.core.values.numbers import number

    try:
        return instant + timedelta(
            days=float(number(days)),
            hours=float(number(hours)),
            minutes=float(number(minutes)),
            seconds=float(number(seconds)),
        )
    except OverflowError as problem:
        raise TemplateError("this date lies outside the years 1 to 9999") from problem


def written(instant: datetime, form: str) -> str:
    """`instant` in `form`; whatever the zone, %s is seconds and %Q milliseconds since 1970. %L is
    milliseconds within the second, %:z an offset with its colon.
    """

    def ours(match: re.Match[str]) -> str:
        letter = match.group(0)[1:]
        if letter == "L":
            return f"{instant.microsecond // 1000:03d}"
        if letter == "s":
            return str(int(instant.timestamp()))
        if letter == "Q":
            return str(int(instant.timestamp() * 1000))
        if letter == ":z":
            offset = instant.strftime("%z")
            return f"{offset[:3]}:{offset[3:5]}" if offset else ""
        return match.group(0)

    return instant.strftime(OURS.sub(ours, verified(form)))


def read(text: str, form: str = "") -> datetime:
    """The date in `text`: by `form`, else ISO 8601, else seconds (or milliseconds) since 1970; UTC
    where it names no zone. Raises TemplateError.
    """
    try:
        if form:
            made = datetime.strptime(text.strip(), verified(form))
        elif re.fullmatch(r"[0-9]{9,13}(\.[0-9]+)?", text.strip()):
            seconds = float(text)
            made = datetime.fromtimestamp(seconds / 1000 if seconds >= 1e11 else seconds, UTC)
        else:
            made = datetime.fromisoformat(text.strip())
    except (ValueError, OverflowError, OSError) as problem:
        how = (
            f"the form {form}"
            if form
            else "ISO 8601 (2027-01-31T20:15:00); say how it is written: date('%Y-%m-%d', "
            "reads='%d.%m.%Y')"
        )
        raise TemplateError(f"“{text[:40]}” is no date in {how}") from problem
    return made if made.tzinfo is not None else made.replace(tzinfo=UTC)
