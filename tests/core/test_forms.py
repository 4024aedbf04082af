"""Stored documents of every form are read; what a newer version wrote says so."""

import json
import subprocess
import sys
from pathlib import Path
from typing import Any
from unittest import TestCase

import msgspec

from dynamikos.core.correlation.model import STRANDS
from dynamikos.core.dealing.deal import DEAL
from dynamikos.core.errors import TextError
from dynamikos.core.forms import NewerForm, Unfit, VersionedCodec
from dynamikos.core.frozen.document import FROZEN
from dynamikos.core.journeys import parse_journey
from dynamikos.core.journeys.shared import SHARED
from dynamikos.core.journeys.text import JOURNEY
from dynamikos.core.personas.model import PERSONA
from dynamikos.core.plans.environment import WAY
from dynamikos.core.plans.model import PLAN
from dynamikos.core.telling.casebook import CASEBOOK
from dynamikos.core.text import parse
from dynamikos.core.verdicts.outcome import OUTCOME

FOLDER = Path(__file__).parents[1] / "stored"
KINDS: tuple[VersionedCodec[Any], ...] = (
    JOURNEY,
    SHARED,
    PLAN,
    DEAL,
    WAY,
    FROZEN,
    OUTCOME,
    STRANDS,
    PERSONA,
    CASEBOOK,
)


def example(kind: VersionedCodec[Any], form: int) -> Any:
    return json.loads((FOLDER / f"{kind.name.replace(' ', '-')}-{form}.json").read_text())


FIRST_USE = """
import sys, threading
sys.setswitchinterval(1e-6)
import orjson
from dynamikos.core.forms.ready import make_ready
from dynamikos.core.frozen.document import FROZEN
document = orjson.loads(sys.stdin.buffer.read())
made = make_ready()
together = threading.Barrier(8)
def read():
    together.wait()
    FROZEN.of(document)
threads = [threading.Thread(target=read) for _ in range(8)]
for each in threads: each.start()
for each in threads: each.join()
print(made)
"""


class Threads(TestCase):
    def test_the_first_use_by_several_threads_at_once_ends_no_process(self) -> None:
        """Without `make_ready` nearly every one of these ends by a segmentation fault."""
        document = (FOLDER / "frozen-run-2.json").read_bytes()
        for _ in range(4):
            done = subprocess.run(
                [sys.executable, "-c", FIRST_USE],
                input=document,
                capture_output=True,
                timeout=60,
                check=False,
            )
            self.assertEqual(done.returncode, 0, done.stderr[-300:])
            self.assertGreater(int(done.stdout), 50)


class Examples(TestCase):
    def test_there_is_one_of_each_kind_and_form_and_it_is_read(self) -> None:
        for kind in KINDS:
            for form in range(1, kind.form + 1):
                with self.subTest(kind.name, form=form):
                    value = kind.of(example(kind, form))
                    self.assertEqual(kind.of(kind.plain(value)), value)
                    self.assertEqual(kind.plain(value)["form"], kind.form)

    def test_a_damaged_one_of_any_form_is_said_to_be_so(self) -> None:
        for kind in KINDS:
            for form in range(1, kind.form + 1):
                whole = example(kind, form)
                for name in whole if isinstance(whole, dict) else ():
                    for wrong in (7, "x", [[]], {"a": {"b": 1}}, None):
                        with self.subTest(kind.name, form=form, name=name, wrong=wrong):
                            try:
                                kind.of({**whole, name: wrong})  # some fields take some of it
                            except Unfit:
                                continue

    def test_a_run_whose_rows_name_nothing_is_unfit(self) -> None:
        for change in ({"crowds": []}, {"journeys": {}}):
            with self.assertRaises(Unfit):
                FROZEN.of({**example(FROZEN, 2), **change})
        one = example(FROZEN, 1)
        for profile in (7, [7], [{"stretch": "leap"}], None):  # looked into by the upgrade
            with self.subTest(profile=profile), self.assertRaises(Unfit):
                FROZEN.of({**one, "plan": {**one["plan"], "profile": profile}})

    def test_a_newer_one_says_so(self) -> None:
        for kind in KINDS:
            with self.subTest(kind.name), self.assertRaises(NewerForm) as caught:
                plain = kind.plain(kind.of(example(kind, 1)))
                kind.of({**plain, "form": kind.form + 1})
            self.assertIn("newer version", str(caught.exception))

    def test_an_outcome_that_lacks_any_field_of_today(self) -> None:
        whole = example(OUTCOME, 1)
        for name in whole:
            with self.subTest(name):
                self.assertTrue(
                    OUTCOME.of({key: value for key, value in whole.items() if key != name}).sentence
                )

    def test_what_fits_nothing_is_said_in_words(self) -> None:
        for document in (b"", b"[1", b'"x"', b'{"form": 1}', b'{"form": true}', b"[" * 2000):
            with self.subTest(document[:20]), self.assertRaises(Unfit):
                JOURNEY.read(document)


class Board(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    form: int
    title: str
    notices: tuple[str, ...] = ()


def renamed(plain: dict[str, Any]) -> dict[str, Any]:
    return {"title" if name == "name" else name: value for name, value in plain.items()}


def listed(plain: dict[str, Any]) -> dict[str, Any]:
    one = plain.pop("notice", "")
    return {**plain, "notices": [one] if one else []}


def with_b(plain: dict[str, Any]) -> dict[str, Any]:
    return {**plain, "value": [*plain["value"], "b"]}


class Upgrades(TestCase):
    """A kind that has changed twice: a field was renamed, then one became several."""

    BOARD = VersionedCodec("board", Board, (renamed, listed))

    def test_each_form_becomes_todays(self) -> None:
        wanted = Board(form=3, title="Tonight", notices=("clear",))
        for plain in (
            {"name": "Tonight", "notice": "clear"},
            {"form": 1, "name": "Tonight", "notice": "clear"},
            {"form": 2, "title": "Tonight", "notice": "clear"},
            {"form": 3, "title": "Tonight", "notices": ["clear"]},
        ):
            before = dict(plain)
            self.assertEqual(self.BOARD.of(plain), wanted)
            self.assertEqual(plain, before)  # what is stored stays as it is

    def test_text_forms_too(self) -> None:
        self.assertEqual(
            parse("form: 1\nname: Tonight\nnotice: clear\n", self.BOARD).notices, ("clear",)
        )
        with self.assertRaises(TextError) as caught:
            parse("title: x\nform: 4\n", self.BOARD)
        self.assertEqual(caught.exception.line, 2)
        with self.assertRaisesRegex(TextError, "line 1.*newer version"):
            parse_journey("form: 2\njourney: a\nname: A\n")

    def test_lists_are_kept_with_their_number(self) -> None:
        words: VersionedCodec[list[str]] = VersionedCodec(
            "list of words", list[str], (lambda plain: {**plain, "value": plain["value"] + ["b"]},)
        )
        self.assertEqual(words.of(["a"]), ["a", "b"])
        self.assertEqual(words.read_packed(words.packed(["a", "b"])), ["a", "b"])
