"""What single pages do: versions that must match, tokens that are renewed, uploads to addresses
signed beforehand.
"""

import base64
import json
from unittest import TestCase

from dynamikos.core.correlation import Strand, accept, find_strands
from dynamikos.core.exchanges import Recording
from dynamikos.core.journeys import write_journey
from dynamikos.core.journeys.from_recording import journey_from
from tests.core.correlation.recordings import Tape

BASE = "http://desk.example"


def token(t: Tape, kind: str) -> str:
    """A JSON Web Token (RFC 7519) of this recording."""
    part = base64.urlsafe_b64encode(
        json.dumps({"sub": "ada", "kind": kind, "jti": t.hex(16)}).encode()
    ).decode()
    return f"eyJhbGciOiJIUzI1NiJ9.{part.rstrip('=')}.{t.hex(40)}"


def bearer(text: str) -> dict[str, str]:
    return {"Authorization": f"Bearer {text}"}


class Modern(TestCase):
    def scene(self) -> tuple[list[Tape], list[Strand]]:
        tapes = [Tape(BASE, seed) for seed in (1, 2)]
        for t in tapes:
            access, refresh, later = (
                t.must(token(t, "access")),
                t.must(token(t, "refresh")),
                t.must(token(t, "later")),
            )
            note, version, tag = t.must(t.hex(10)), str(3 + t.seed * 4), t.must(f'"{t.hex(8)}"')
            t.call(
                "POST",
                "/api/sign-in",
                body={"user": "ada", "password": "x"},
                gives={"access_token": access, "refresh_token": refresh, "expires_in": 60},
            )
            t.call(
                "POST",
                "/api/notes",
                body={"text": "a"},
                sent=bearer(access),
                gives={"id": note, "version": 1},
            )
            t.call(
                "GET",
                f"/api/notes/{note}",
                sent=bearer(access),
                gives={"id": note, "text": "a", "version": int(t.must(version))},
                headers={"ETag": tag},
            )
            t.call(
                "PUT",
                f"/api/notes/{note}",
                body={"text": "b", "version": int(version)},
                sent={**bearer(access), "If-Match": tag},
                gives={"id": note, "text": "b"},
            )
            t.call(
                "POST",
                "/api/token",
                body={"refresh_token": refresh},
                gives={"access_token": later, "expires_in": 60},
            )
            key, signature = t.must(t.hex(12)), t.must(t.hex(32))
            place = f"{BASE}/store/{key}?signature={signature}&expires=3600"
            t.call(
                "POST",
                "/api/uploads",
                body={"name": "a.txt"},
                sent=bearer(later),
                gives={"put_to": place},
            )
            t.call("PUT", place.removeprefix(BASE), raw=b"content", kind="text/plain", gives={})
            t.call("DELETE", f"/api/notes/{note}", sent=bearer(later), status=204)
        return tapes, find_strands([t.exchanges for t in tapes])

    def test_all_of_it_is_found_and_proven(self) -> None:
        tapes, strands = self.scene()
        proven = {each.value for each in strands if each.kind == "issued" and each.proven}
        missing = [value for value in tapes[0].issued if value not in proven]
        self.assertEqual(missing, [])

    def test_accepted_nothing_of_the_recording_is_sent(self) -> None:
        tapes, strands = self.scene()
        journey = journey_from(
            Recording(exchanges=tuple(tapes[0].exchanges), pages={}), "Notes", [BASE]
        )
        chosen = [each for each in strands if each.kind == "issued" and each.proven]
        made = accept(journey, chosen, tapes[0].exchanges)
        self.assertEqual(made.left, ())
        text = write_journey(made.journey)
        left = [value for value in tapes[0].issued if len(value) > 4 and value.strip('"') in text]
        self.assertEqual(left, [])


class Files(TestCase):
    def test_names_of_files_are_never_made_by_the_client(self) -> None:
        """Browsers ask for them in another order each time."""
        names = [
            "8422.6bf54fe1812896f5.js",
            "framework-bb5d156c0c21e596.js",
            "6528.9404ab77fde6eae9.js",
        ]
        tapes = []
        for seed, order in ((1, (0, 1, 2)), (2, (1, 2, 0))):
            tape = Tape("http://desk.example", seed)
            tape.call("GET", "/", page="<h1>Desk</h1>")
            for at in order:
                tape.call("GET", f"/static/chunks/{names[at]}", raw=b"1", kind="text/javascript")
            tape.call("GET", "/api/day", gives={"day": 1})
            tapes.append(tape.exchanges)
        self.assertEqual({each.kind for each in find_strands(tapes)}, {"constant"})
