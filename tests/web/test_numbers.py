"""Every reader of typed numbers refuses what is endless or none, and keeps the digits of a whole
one.
"""

from collections.abc import Callable
from unittest import TestCase

from django.http import QueryDict

from dynamikos.core.errors import DynamikosError
from dynamikos.core.journeys.kinds import Branch
from dynamikos.web.datasets import forms as datasets
from dynamikos.web.journeys.forms.changes import seconds
from dynamikos.web.journeys.forms.checks import Row, _bounds, _found
from dynamikos.web.journeys.forms.kinds.branching import branches
from dynamikos.web.journeys.forms.kinds.listing import ListingFields
from dynamikos.web.journeys.forms.kinds.repeating import RepeatingFields
from dynamikos.web.ui.numbers import number, whole


def sent(**fields: str) -> QueryDict:
    made = QueryDict(mutable=True)
    made.update(fields)
    return made


READERS: dict[str, Callable[[str], object]] = {
    "number": lambda text: number(text, "n"),
    "whole": lambda text: whole(text, "n"),
    "think time": seconds,
    "bound of a check": lambda text: _bounds("time")(Row("", "at most", text)),
    "count of a check": lambda text: _found(Row("a", "count", text), "css"),
    "weight": lambda text: branches(sent(**{"branch-weight": text}), (Branch(name="a"),)),
    "at most of a list": lambda text: ListingFields.changes(sent(at_most=text), None),  # type: ignore[arg-type]
    "every": lambda text: RepeatingFields.changes(sent(every_s=text), None),  # type: ignore[arg-type]
    "tries": lambda text: RepeatingFields.changes(sent(at_most=text), None),  # type: ignore[arg-type]
    "low of a column": lambda text: datasets.decimal(sent(low=text), "low", 0),
    "start of a column": lambda text: datasets.whole(sent(start=text), "start", 1),
}


class Readers(TestCase):
    def test_what_is_endless_or_no_number_is_refused(self) -> None:
        for name, read in READERS.items():
            read("7")
            for text in ("nan", "inf", "1e999", "many", "1,2,3"):
                with (
                    self.subTest(name, text=text),
                    self.assertRaisesRegex(DynamikosError, "is not a number"),
                ):
                    read(text)

    def test_thousands_stay_thousands(self) -> None:
        self.assertEqual(
            (number("4,000", "n"), whole("4,000", "n"), seconds("4,000")), (4000, 4000, 4000)
        )
        self.assertEqual(whole("4000123412341237", "n"), 4_000_123_412_341_237)
        with self.assertRaisesRegex(DynamikosError, "not a whole"):
            whole("2,5", "n")
