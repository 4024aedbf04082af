"""How things end and why they fail, as values: words, weights, and what earlier days had."""

from itertools import permutations
from unittest import TestCase

from hypothesis import given
from hypothesis import strategies as st

from dynamikos.core.errors import DynamikosError
from dynamikos.core.failure_kinds import EXACT, FAMILIES, Leaving, kind_of, leaving_of
from dynamikos.core.lifecycles import REHEARSAL, RUN, SHARD, WrongStep, before, going, moved, over
from dynamikos.core.verdicts.ending import (
    FINISHED,
    GENTLY,
    LONGEST,
    LOST,
    NOW,
    Ending,
    broke,
    ending_of,
    of_all,
    of_words,
    plain,
    refused,
    stopped,
)
from dynamikos.core.verdicts.outcome import OUTCOME

OBJECTIVE = Ending(cause="stopped", by="objective", objective="p95 of all steps ≤ 500 ms missed")


class Endings(TestCase):
    def test_words_and_what_they_were_as_sentences(self) -> None:
        for ending, words in (
            (FINISHED, "finished"),
            (GENTLY, "stopped gently"),
            (NOW, "stopped now"),
            (LOST, "lost"),
            (OBJECTIVE, "stopped: objective: p95 of all steps ≤ 500 ms missed"),
            (stopped("rule", "rows of observers used up"), "stopped: rows of observers used up"),
            (
                stopped("disk", "the disk of dome is full: 3 of 64 MB"),
                "stopped: the disk of dome is full: 3 of 64 MB",
            ),
            (broke("KeyError: 'slot': none"), "broke: KeyError: 'slot': none"),
            (refused("no generator was free"), "no generator was free"),
        ):
            with self.subTest(words):
                self.assertEqual(ending.words, words)
                self.assertEqual(of_words(words), ending)
        self.assertEqual(of_words("refused: the rows are gone"), refused("the rows are gone"))
        self.assertEqual(of_words(""), FINISHED)

    def test_who_did_it(self) -> None:
        hand, own, whole = (
            [GENTLY, NOW],
            [OBJECTIVE, stopped("rule", "x"), stopped("generator", "x")],
            [FINISHED],
        )
        for ending in (*hand, *own, *whole, LOST, broke("x"), refused("x")):
            with self.subTest(ending.words):
                self.assertEqual(ending.is_by_hand, ending in hand)
                self.assertEqual(ending.is_own, ending in own)
                self.assertEqual(ending.is_whole, ending in whole)

    def test_the_whole_ends_as_the_part_that_says_most(self) -> None:
        order = [broke("x"), refused("x"), OBJECTIVE, NOW, GENTLY, FINISHED, LOST]
        for at, first in enumerate(order):
            for rest in permutations(order[at:], min(3, len(order) - at)):
                self.assertEqual(of_all([*rest, first]), first)
        self.assertEqual(of_all([]), LOST)

    @given(st.text(max_size=2000))
    def test_any_reason_is_kept_and_comes_back(self, text: str) -> None:
        for ending in (broke(text), refused(text), stopped("rule", text)):
            self.assertEqual(ending_of(plain(ending)), ending)
            self.assertLessEqual(len(ending.detail), LONGEST)

    def test_what_is_none_of_it(self) -> None:
        self.assertIsNone(ending_of(None))
        self.assertIsNone(ending_of({}))
        for wrong in ({"cause": "exploded"}, {"cause": 4}, [1], {"by": "nobody"}):
            with self.subTest(wrong), self.assertRaises(DynamikosError):
                ending_of(wrong)


class Outcomes(TestCase):
    def test_form_1_is_read_with_values_and_says_what_nobody_knows(self) -> None:
        late = "Generators were late in 9 of 60 measured seconds"
        old = {
            "ended": "stopped: rows of observers used up",
            "retired": {"rows of observers used up": 2},
            "doubts": [
                f"{late} (): they may have.",
                f"{late}: .",
                f"{late} (their loop stalled in 9): they may have.",
            ],
        }
        found = OUTCOME.of(old)
        self.assertEqual(found.ending, stopped("rule", "rows of observers used up"))
        self.assertEqual(found.leavings, [Leaving("rows", "rows of observers used up", 2)])
        self.assertEqual(found.doubts[0], f"{late} (their causes are not known): they may have.")
        self.assertEqual(found.doubts[1], f"{late}: their causes are not known.")
        self.assertEqual(found.doubts[2], old["doubts"][2])


class Lifecycles(TestCase):
    def test_each_pair_of_states_in_both_directions(self) -> None:
        for table, allowed in (
            (RUN, {"asked running", "asked refused", "running ended", "running refused"}),
            (
                SHARD,
                {
                    "assigned loading",
                    "assigned ended",
                    "assigned lost",
                    "loading ready",
                    "loading ended",
                    "loading lost",
                    "ready running",
                    "ready ended",
                    "ready lost",
                    "running ended",
                    "running lost",
                    "lost running",
                    "lost ended",
                },
            ),
            (
                REHEARSAL,
                {
                    "asked running",
                    "asked stopping",
                    "asked lost",
                    "running stopping",
                    "running passed",
                    "running failed",
                    "running lost",
                    "stopping passed",
                    "stopping failed",
                    "stopping lost",
                    "lost passed",
                    "lost failed",
                },
            ),
        ):
            for now in table:
                for then in table:
                    with self.subTest(now=now, then=then):
                        if f"{now} {then}" in allowed:
                            self.assertEqual(moved(table, now, then), then)
                            self.assertIn(now, before(table, then))
                        else:
                            self.assertRaises(WrongStep, moved, table, now, then)
                            self.assertNotIn(now, before(table, then))
            self.assertEqual(sorted([*over(table), *going(table)]), sorted(table))

    def test_what_is_over(self) -> None:
        self.assertEqual((over(RUN), over(SHARD)), (["ended", "refused"], ["ended"]))
        with self.assertRaisesRegex(WrongStep, "running does not follow ended; nothing does"):
            moved(RUN, "ended", "running")


class Kinds(TestCase):
    def test_whose_fault_it_is(self) -> None:
        for kind, fault, rest in (
            ("connect-refused", "target", ""),
            ("dns", "network", ""),
            ("own-limit-sockets", "generator", "sockets"),
            ("engine-error: KeyError", "generator", "KeyError"),
            ("rate-cap", "generator", ""),
            ("status-503", "target", "503"),
            ("timeout-first-byte", "target", "first-byte"),
            ("check-text", "target", "text"),
            ("value-missing", "script", ""),
            ("a step failed", "target", ""),
        ):
            with self.subTest(kind):
                found = kind_of(kind)
                self.assertEqual((found.kind, found.fault, found.rest), (kind, fault, rest))
                self.assertEqual(found.is_own, fault == "generator")
                self.assertEqual(found.is_limit, kind.startswith("own-limit"))
                self.assertEqual(found.is_time_out, kind.startswith("timeout"))
                self.assertTrue(found.words)

    def test_what_they_say(self) -> None:
        for kind, said in (
            ("status-403", "answered with 403 Forbidden"),
            ("status-599", "answered with: 599"),
            ("own-limit-sockets", "a limit of the generator's machine: sockets"),
            ("dns", "the host name has no address"),
            ("a step failed", "a step failed"),
        ):
            self.assertEqual(kind_of(kind).says, said)

    def test_no_family_hides_an_exact_kind(self) -> None:
        for kind, (fault, words) in EXACT.items():
            self.assertEqual((kind_of(kind).fault, kind_of(kind).words), (fault, words))
            self.assertFalse(any(kind.startswith(begin) for begin, _, _ in FAMILIES), kind)

    def test_leavings_and_what_they_were_as_sentences(self) -> None:
        for leaving in (
            Leaving("rows", "rows of observers used up", 3),
            Leaving("rows", "observers has no rows", 1),
            Leaving("broke", "KeyError: 'x'", 2),
            Leaving("check", "status-404", 1),
            Leaving("repeat", "Wait for the code: repeat-limit", 4),
            Leaving("opening", "", 7),
        ):
            with self.subTest(leaving.words):
                self.assertEqual(leaving_of(leaving.words, leaving.count), leaving)
