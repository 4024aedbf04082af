"""What a value looks like, and what its name says."""

import json
import math
import re
from base64 import urlsafe_b64decode
from collections import Counter
from datetime import UTC, datetime, timedelta
from functools import lru_cache
from itertools import pairwise
from typing import NamedTuple

UUID = re.compile(r"[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}\Z", re.I)
HEX = re.compile(r"[0-9a-f]{8,}\Z", re.I)
MAIL = re.compile(r"[^@\s]+@[^@\s]+\.[A-Za-z]{2,}\Z")
TOKEN = re.compile(r"eyJ[\w-]+\.eyJ[\w-]+\.[\w-]*\Z")
LOCALE = re.compile(r"[a-z]{2}([-_][A-Z]{2})?\Z")
DECIMAL = re.compile(r"0?\.\d{6,}\Z")
DAY_US = 86_400_000_000
DATES = ("%Y-%m-%d", "%d.%m.%Y", "%d/%m/%Y", "%m/%d/%Y", "%Y%m%d", "%d-%m-%Y", "%Y/%m/%d")
TYPED_NAMES = frozenset(
    "user username login email mail password passwd pass pwd q query search term keyword keywords "
    "text comment message"
    " name firstname lastname surname phone tel city street address zip postcode title subject "
    "description note answer"
    " otp pin amount quantity qty guests visitors people remarks company birthday card "
    "holder".split()
)
SECRET_NAMES = frozenset(
    "token csrf xsrf nonce state key session sid sessionid viewstate ticket challenge verifier "
    "signature sig hash"
    " secret auth authenticity jwt assertion code cursor etag version lock revision "
    "checksum".split()
)
ID_NAMES = frozenset(
    "id ids uid uuid guid pk oid rowid ref reference number no nr key code handle slug".split()
)
CLICK_NAMES = frozenset(
    "x y clickx clicky mousex mousey clientx clienty pagex pagey screenx screeny offsetx offsety "
    "coordx coordy".split()
)
RANDOM_NAMES = frozenset(
    "_ r rnd rand random cb cachebuster cachebust nocache bust t ts time timestamp now seq".split()
)
ACTION_NAMES = frozenset(
    "page size limit offset per sort order lang locale view mode tab step format type action "
    "filter version v".split()
)


# what such a member holds says how many there are: it is no id, whatever is sent later
COUNT_NAMES = frozenset(
    "count counts total totals length size sum pages hits results matches unread remaining".split()
)


@lru_cache(maxsize=10_000)
def words(name: str) -> tuple[str, ...]:
    """A name's words in lower case: "holdToken" and "X-Hold_Token" alike."""
    apart = re.sub(r"([a-z0-9])([A-Z])", r"\1 \2", re.sub(r"([A-Z]+)([A-Z][a-z])", r"\1 \2", name))
    return tuple(word for word in re.split(r"[^A-Za-z0-9]+", apart.lower()) if word)


def counts(path: str) -> bool:
    """Whether the last member of a JSONPath says how many there are."""
    found = words(path.rpartition(".")[2])
    return bool(found) and found[-1] in COUNT_NAMES


def joined(name: str) -> str:
    return "".join(words(name))


@lru_cache(maxsize=10_000)
def likeness(name: str, other: str) -> float:
    """0…1: how far two names speak of the same thing ("slot" and "slots[].id", "X-Form-Key" and
    "form_key").
    """
    ones, others = [_single(w) for w in words(name) if w != "x"], [_single(w) for w in words(other)]
    if not ones or not others:
        return 0.0
    if ones == others:
        return 1.0
    telling, also = {*ones} - ID_NAMES, {*others} - ID_NAMES
    if telling and telling <= {*others}:
        return 0.8 if also <= telling else 0.7
    if telling and also and telling & also:
        return 0.5
    if also and also <= {*ones}:
        return 0.6
    if not telling and {*ones} & {*others}:
        return 0.5
    return 0.0


def _single(word: str) -> str:
    return word[:-1] if len(word) > 3 and word.endswith("s") and not word.endswith("ss") else word


def entropy_bits(value: str) -> float:
    """Shannon's, a character."""
    total = len(value)
    return -sum(n / total * math.log2(n / total) for n in Counter(value).values()) if total else 0.0


def generated(value: str) -> bool:
    """Whether a value looks made by a machine: no word, date, address or small number."""
    if UUID.match(value):
        return True
    if len(value) < 6 or " " in value or value.startswith(("http:", "https:", "/")):
        return False
    if MAIL.match(value) or as_date(value) or _is_slug(value):
        return False
    digits, letters = sum(c.isdigit() for c in value), sum(c.isalpha() for c in value)
    if letters == 0:
        return digits >= 6 and re.fullmatch(r"\d+([-_./:]\d+)*", value) is not None
    if digits:
        return bool(HEX.match(value)) or _is_mixed(value, digits)
    return _is_random_case(value)


SLUG = re.compile(r"[a-z]+|\d{1,4}")
VOWEL = re.compile(r"[aeiouy]")


def _is_slug(value: str) -> bool:
    """Whether words and small numbers stand in a row, as a page's name in its address does."""
    parts = re.split(r"[-_.]", value)
    words = [each for each in parts if len(each) >= 3 and VOWEL.search(each)]
    return len(words) >= 2 and all(map(SLUG.fullmatch, parts))


def _is_mixed(value: str, digits: int) -> bool:
    """Letters and digits that take turns, or many digits, with little repeated."""
    turns = sum(a.isdigit() != b.isdigit() for a, b in pairwise(value))
    return (turns >= 2 or digits >= 3) and entropy_bits(value) >= 2.3


def _is_random_case(value: str) -> bool:
    """Long, with capitals inside, and hardly anything repeated."""
    if len(value) < 16 or not any(c.islower() for c in value):
        return False
    return sum(c.isupper() for c in value[1:]) >= 3 and entropy_bits(value) >= 3.2


def as_date(value: str) -> str:
    """The format of a date, "" if it is none."""
    for form in DATES:
        if 8 <= len(value) <= 10:
            try:
                moment = datetime.strptime(value, form)
            except ValueError:
                continue
            if 1990 <= moment.year <= 2100:
                return form
    return ""


class Stamp(NamedTuple):
    """An instant as a client writes it: which (µs since the epoch, UTC), the form in words, and
    what makes one of now, as the inside of a hole.
    """

    at_us: float
    words: str
    maker: str


COUNTED = (  # (digits, µs of one, in words, maker)
    (10, 1_000_000.0, "seconds since 1970", "make.seconds"),
    (13, 1000.0, "milliseconds since 1970", "make.milliseconds"),
    (16, 1.0, "microseconds since 1970", "make.microseconds"),
    (19, 0.001, "nanoseconds since 1970", "make.microseconds ~ '000'"),
)
ISO = re.compile(r"(\d{4}-\d\d-\d\d)([T ])(\d\d:\d\d)(:\d\d)?([.,]\d{1,9})?(Z|[+-]\d\d:?\d\d)?\Z")
SPELLED = (  # strptime's form, in words
    ("%a, %d %b %Y %H:%M:%S GMT", "an HTTP date"),
    ("%a %b %d %Y %H:%M:%S GMT%z", "a date as browsers write it"),
    ("%Y%m%dT%H%M%SZ", "ISO 8601 date and time without signs between"),
)


def stamp_of(value: str) -> Stamp | None:
    """The instant that a text writes, None where it does not look like one."""
    whole, point, decimals = value.partition(".")
    if whole.isdecimal() and len(value) <= 24:
        for digits, unit_us, words, maker in COUNTED:
            if len(whole) != digits:
                continue
            if not point:
                return Stamp(int(value) * unit_us, words, maker)
            if digits <= 13 and decimals.isdecimal() and len(decimals) <= 6:
                form = "%s.%f" if digits == 10 else "%Q.%f"
                cut = "" if len(decimals) == 6 else f" | cut(0, {digits + 1 + len(decimals)})"
                return Stamp(
                    float(value) * unit_us, f"{words}, with decimals", f"now('{form}'){cut}"
                )
    iso = ISO.match(value)
    return _iso_stamp(value, iso) if iso else _spelled_stamp(value)


def _iso_stamp(value: str, iso: re.Match[str]) -> Stamp | None:
    """One as ISO 8601 writes it, with as many decimals and at the same offset."""
    try:
        moment = datetime.fromisoformat(value.replace(",", "."))
    except ValueError:
        return None
    _, between, _, seconds, decimals, offset = iso.groups()
    count = len(decimals) - 1 if decimals else 0
    form = f"%Y-%m-%d{between}%H:%M" + (":%S" if seconds else "")
    if count:
        form += decimals[0] + ("%L" if count <= 3 else "%f" + "0" * (count - 6))
    zone = ""
    if offset and offset != "Z":
        form += "%:z" if ":" in offset else "%z"
        zone = f", zone='{offset[:3]}:{offset[-2:]}'"
    elif offset:
        form += "Z"
    at_us = (moment if moment.tzinfo else moment.replace(tzinfo=UTC)).timestamp() * 1e6
    return Stamp(at_us, "ISO 8601 date and time", f"now('{form}'{zone})")


def _spelled_stamp(value: str) -> Stamp | None:
    plain = value.partition(" (")[0]
    if not 15 <= len(plain) <= 40:
        return None
    for form, words in SPELLED:
        try:
            moment = datetime.strptime(plain, form)
        except ValueError:
            continue
        offset = plain[-5:]
        zone = f", zone='{offset[:3]}:{offset[3:]}'" if form.endswith("%z") else ""
        end = value[len(plain) :].replace("'", "")
        at_us = (moment if moment.tzinfo else moment.replace(tzinfo=UTC)).timestamp() * 1e6
        return Stamp(at_us, words, f"now('{form}{end}'{zone})")
    return None


def time_stamp(value: str, near_us: int) -> str:
    """How a value writes an instant within a day of `near_us` (µs since the epoch, UTC), "" if it
    does not.
    """
    found = stamp_of(value)
    return found.words if found is not None and abs(found.at_us - near_us) < DAY_US else ""


def distance_us(value: str, near_us: int) -> float:
    """How far a time stamp's instant lies from `near_us`, µs; 0 for what is none."""
    found = stamp_of(value)
    return abs(found.at_us - near_us) if found is not None else 0.0


def own_making(value: str, name: str, started_us: int) -> str:
    """How a client makes such a value by itself, "" if it does not look so."""
    stamp = time_stamp(value, started_us)
    if stamp:
        return f"a time stamp: {stamp}"
    plain = joined(name)
    last = words(name)[-1] if words(name) else ""
    if UUID.match(value):
        return "a UUID of version 7" if value[14] == "7" else "a UUID"
    if re.fullmatch(r"-?\d{1,5}(\.\d+)?", value) and (plain in CLICK_NAMES or last in CLICK_NAMES):
        return "a click position"
    if DECIMAL.match(value):
        return "a random number"
    if value.isdigit() and len(value) >= 4 and (plain in RANDOM_NAMES or last in RANDOM_NAMES):
        return "a random number"
    form = as_date(value)
    if form:
        day, here = (
            datetime.strptime(value, form).replace(tzinfo=UTC),
            datetime.fromtimestamp(started_us / 1e6, UTC),
        )
        if abs(day - here) < timedelta(days=2):
            return f"a date near the day of recording ({form})"
    return ""


def claims_of(value: str) -> dict[str, object] | None:
    """The claims of a JSON Web Token (RFC 7519), None for what is none."""
    if not TOKEN.match(value):
        return None
    head, claims = (_decoded(part) for part in value.split(".")[:2])
    return claims if head is not None and "alg" in head else None


def _decoded(part: str) -> dict[str, object] | None:
    try:
        found = json.loads(urlsafe_b64decode(part + "=" * (-len(part) % 4)))
    except ValueError:
        return None
    return found if isinstance(found, dict) else None


def typed_name(name: str) -> bool:
    return joined(name) in TYPED_NAMES or any(word in TYPED_NAMES for word in words(name))


def secret_name(name: str) -> bool:
    return any(word in SECRET_NAMES for word in words(name)) or any(
        each in joined(name) for each in ("csrf", "xsrf", "token", "viewstate")
    )


def id_name(name: str) -> bool:
    return bool(words(name)) and (words(name)[-1] in ID_NAMES or name.endswith(("Id", "ID")))


def weak(value: str) -> bool:
    """Whether a value is so short that one like it stands in most answers by chance: less than 16
    bits.
    """
    return len(value) <= 4 if value.isdigit() else len(value) <= 3


def as_number(value: str) -> str:
    """A number in one spelling: what was typed as 33 may be filled in as 33.0."""
    return f"{float(value):.6g}" if re.fullmatch(r"-?\d{1,12}([.]\d{1,6})?", value) else value


def unused(base: str, taken: dict[str, int]) -> str:
    """`base`, or with the first number behind it that no name in `taken` has; it is taken then.
    `taken` says for each name the number that is tried next.
    """
    name, number = base, taken.get(base, 2)
    while name in taken:
        name, number = f"{base}_{number}", number + 1
    taken[base] = number
    taken.setdefault(name, 2)
    return name
