"""What no script can make as a person's device did: signatures of security keys, answers to
CAPTCHAs, one-time codes. Named by what they are, with what can be done, and left as recorded:
random text in their place would only fail later.
"""

import re
from collections.abc import Sequence
from typing import NamedTuple

from msgspec.structs import replace

from dynamikos.core.correlation.model import Strand
from dynamikos.core.correlation.value_shapes import words


class Beyond(NamedTuple):
    """A kind of them: the words of the field, what values look like, what it is, what to do."""

    named: re.Pattern[str]
    value: re.Pattern[str]
    what: str
    advice: str


ANY = re.compile(r".{4,}\Z", re.S)
KINDS = (
    Beyond(
        re.compile(r"client data ?json|attestation object|authenticator data|webauthn|user handle"),
        ANY,
        "signed by a security key or the device (WebAuthn)",
        "let the application under test accept a test credential, or sign in without it there",
    ),
    Beyond(
        re.compile(r"captcha|turnstile"),
        ANY,
        "the answer to a CAPTCHA, which keeps programs out",
        "switch it off in the application under test, or let it accept a fixed test answer",
    ),
    Beyond(
        re.compile(r"\b(?:otp|totp|mfa|2fa|one ?time|two ?factor|verification code)\b"),
        re.compile(r"\d{4,10}\Z"),
        "a one-time code",
        "where it is computed from a secret (RFC 6238), keep that as a secret of the environment "
        "and write {{ totp(secrets.NAME) }}; where it is sent by mail or message, let the "
        "application under test accept a fixed one",
    ),
)


def with_names(strands: Sequence[Strand]) -> list[Strand]:
    """`strands`, those that no script can make with what they are as a doubt."""
    return [_named(each) for each in strands]


def _named(strand: Strand) -> Strand:
    if strand.captures or strand.made_by:
        return strand
    for kind in KINDS:
        if kind.value.match(strand.value) and any(
            kind.named.search(_field(use.place)) for use in strand.uses
        ):
            doubt = f"is {kind.what}: {kind.advice}"
            return replace(
                strand, kind="client-made", proven=False, pattern=kind.what, doubt=doubt,
                reasons=(doubt,),
            )  # fmt: skip
    return strand


def _field(place: str) -> str:
    """The words of the field at a place: "json $.one-timeCode" → "one time code"."""
    kind, _, name = place.partition(" ")
    return "" if kind in ("path", "body") else " ".join(words(name.rpartition(".")[2]))
