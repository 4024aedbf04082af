"""What a message repeats of what was typed."""

from unittest import TestCase

from dynamikos.core.errors import (
    ECHO,
    DynamikosError,
    PlanError,
    RuleError,
    TextError,
    in_words,
    to_json,
)
from dynamikos.core.plans.environment import parse_target
from dynamikos.core.values import names_in


class Brief(TestCase):
    def test_a_quotation_or_a_word_of_any_length_is_cut_and_the_rest_of_the_message_stays(
        self,
    ) -> None:
        for typed in ("x" * 100_000, "x y " * 25_000):
            for text in (f"'{typed}' is no number; type one", f"“{typed}” is no number; type one"):
                said = in_words(PlanError(text))
                self.assertLess(len(said), ECHO + 60)
                self.assertTrue(said.endswith("is no number; type one"), said)
        self.assertIn("…", str(DynamikosError("x" * 500)))

    def test_what_is_short_and_lists_of_many_stay_as_they_are(self) -> None:
        for text in (
            "'a' is no number",
            ", ".join(f"'name-{at}'" for at in range(200)),
            "line\n" * 300,
            "",
            "It can't be " + "so " * 99,
        ):
            self.assertEqual(str(DynamikosError(text)), text)

    def test_every_kind_of_error(self) -> None:
        typed = "q" * 5_000
        for kind in (DynamikosError, PlanError, RuleError):
            self.assertLess(len(str(kind(f"'{typed}' is wrong"))), 2 * ECHO)
        error = TextError(f"'{typed}' is wrong", line=3, file="a.yaml")
        self.assertTrue(str(error).startswith("a.yaml, line 3: 'qqq"))
        self.assertLess(len(str(to_json(error)["problem"])), 2 * ECHO)

    def test_as_it_is_typed_in_places_that_repeat_it(self) -> None:
        for call in (
            lambda: parse_target("q" * 50_000),
            lambda: names_in("{{ " + "q" * 50_000 + " | " + "z" * 50_000 + " }}"),
        ):
            with self.subTest(call), self.assertRaises(DynamikosError) as raised:
                call()
            self.assertLess(len(str(raised.exception)), 4 * ECHO)
