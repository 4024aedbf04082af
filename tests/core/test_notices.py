"""What is told of a run, how it is signed, and when it is tried again."""

import hashlib
import hmac
import json
from unittest import TestCase

from dynamikos.core.notices import Told, body_of, mail_of, signature, wait_s

TOLD = Told(
    event="ended",
    sentence="1 of 3 objectives missed.",
    project="Brindle Fell",
    plan="Evening",
    run=7,
    verdict="missed",
    link="http://127.0.0.1/p/x/runs/y",
    at="2026-11-29T05:00:00+00:00",
)


class Messages(TestCase):
    def test_a_program_reads_it_and_can_prove_who_sent_it_and_when(self) -> None:
        body = body_of(TOLD)
        told = json.loads(body)
        self.assertEqual(
            (told["form"], told["event"], told["run"], told["verdict"]), (2, "ended", 7, "missed")
        )
        at, _, hex_ = signature("key", 1700000000, body).partition(",sha256=")
        self.assertEqual(at, "t=1700000000")
        self.assertEqual(hex_, hmac.new(b"key", b"1700000000." + body, hashlib.sha256).hexdigest())
        self.assertNotEqual(signature("key", 1, body), signature("other", 1, body))
        self.assertNotEqual(signature("key", 1, body), signature("key", 2, body))

    def test_a_letter_has_a_subject_of_one_line_with_the_verdict(self) -> None:
        subject, text = mail_of(TOLD)
        self.assertEqual(subject, "Evening, run 7: missed")
        for said in ("1 of 3 objectives missed.", "Run: 7", "http://127.0.0.1/p/x/runs/y"):
            self.assertIn(said, text)
        odd = Told(event="lost", sentence="s", plan="a\r\nBcc: x@y.example", run=1)
        self.assertNotIn("\n", mail_of(odd)[0])
        self.assertIn("a generator is lost", mail_of(odd)[0])

    def test_waits_grow_and_end(self) -> None:
        waits = [wait_s(tries) for tries in range(1, 7)]
        self.assertEqual(waits[-1], None)
        known = [each for each in waits if each is not None]
        self.assertEqual(known, sorted(known))
        self.assertEqual(len(known), 5)
        self.assertIsNone(wait_s(0))
