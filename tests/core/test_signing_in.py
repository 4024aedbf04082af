"""What belongs to signing in becomes the opening, whatever it is called and however many steps it
takes.
"""

import json
from unittest import TestCase
from urllib.parse import urlencode

from msgspec.structs import replace

from dynamikos.core.exchanges import Answer, Exchange, Sent
from dynamikos.core.journeys.signing_in import password_fields, signed_in_by

FORM = (("Content-Type", "application/x-www-form-urlencoded"),)
Call = tuple[str, str, dict[str, str] | None]


def call(
    method: str, path: str, given: dict[str, str] | None = None, *, as_json: bool = False
) -> Exchange:
    body = b""
    if given is not None:
        body = json.dumps(given).encode() if as_json else urlencode(given).encode()
    return Exchange(
        sent=Sent(method=method, url=f"https://a.example{path}", headers=FORM, body=body),
        answer=Answer(status=200, body=b"ok"),
    )


def steps(*calls: Exchange) -> list[list[tuple[int, Exchange]]]:
    """A step each."""
    return [[(number, each)] for number, each in enumerate(calls)]


ITEM = call("POST", "/basket", {"item": "lamp", "csrf": "1"})


class SigningIn(TestCase):
    def test_up_to_the_last_that_belongs_to_it(self) -> None:
        name = call("POST", "/account/start", {"identifier": "ada", "csrf_token": "t"})
        password = call("POST", "/account/next", {"password": "p", "state": "s"})
        code = call("POST", "/mfa/verify", {"code": "123456"})
        consent = call("POST", "/oauth/consent", {"allow": "yes"})
        token = call("POST", "/token", {"grant_type": "authorization_code", "code": "c"})
        page = call("GET", "/")
        cases = (
            ((page, password, ITEM), 1),
            ((page, name, password, ITEM), 2),
            ((page, name, password, code, page, ITEM), 3),
            ((page, name, password, consent, page, token, ITEM), 5),
            ((page, call("POST", "/api/login", {"email": "e", "password": "p"}, as_json=True)), 1),
            ((page, call("POST", "/verify", {"otp": "123456"}), ITEM), 1),
        )
        for calls, last in cases:
            with self.subTest(last=last, count=len(calls)):
                self.assertEqual(signed_in_by(steps(*calls), ()), last)

    def test_nothing_is_taken_for_it_where_nothing_is_proved(self) -> None:
        follow = call("POST", "/follow", {"user": "5"})
        search = call("POST", "/search", {"q": "lamp"})
        for calls in ((call("GET", "/"),), (follow, ITEM), (search,), (ITEM, follow), ()):
            self.assertEqual(signed_in_by(steps(*calls), ()), -1)

    def test_what_was_filled_before_stays_in_the_rounds(self) -> None:
        password = call("POST", "/login", {"user": "u", "password": "p"})
        self.assertEqual(signed_in_by(steps(ITEM, password), ()), -1)
        # what is done with a user's name after signing in is no part of it
        follow = call("POST", "/follow", {"user": "5"})
        self.assertEqual(signed_in_by(steps(password, follow, ITEM), ()), 0)

    def test_a_password_is_told_by_the_pages_field_whatever_it_is_called(self) -> None:
        page = call("GET", "/start")
        asking = '<form><input name=who><INPUT type="password" name="secret-word"></form>'
        asked = replace(page, answer=Answer(status=200, body=asking.encode()))
        typed = call("POST", "/start", {"who": "ada", "secret-word": "p"})
        self.assertEqual(password_fields([asked]), {"secretword"})
        self.assertEqual(signed_in_by(steps(page, typed, ITEM), ()), -1)  # nothing asked for it
        name = call("POST", "/start", {"login": "ada"})
        secret = call("POST", "/start", {"secret-word": "p"})
        self.assertEqual(signed_in_by(steps(asked, name, secret, ITEM), ()), 2)
