"""Rows of rehearsals: others each time, from the end."""

from unittest import TestCase

from dynamikos.core.dealing.rehearsing import UsedUp, next_rows, reads_used


class Rows(TestCase):
    def test_two_rounds_never_get_the_rows_of_the_last_two(self) -> None:
        taken, seen = 0, list[int]()
        for rounds in (2, 1, 2, 2):
            first, taken = next_rows(7, taken, rounds, endless=False)
            seen += range(first, first + rounds)
        self.assertEqual(sorted(seen), list(range(7)))
        self.assertEqual(seen[:2], [5, 6])
        with self.assertRaisesRegex(UsedUp, "every one of the 7 rows"):
            next_rows(7, taken, 1, endless=False)
        self.assertEqual(next_rows(7, taken, 2, endless=True), (5, 2))

    def test_at_the_limit(self) -> None:
        self.assertEqual(next_rows(2, 0, 2, endless=False), (0, 2))
        self.assertEqual(next_rows(1, 0, 2, endless=False), (0, 1))
        self.assertEqual(next_rows(3, 1, 2, endless=False), (0, 3))
        with self.assertRaises(UsedUp):
            next_rows(3, 2, 2, endless=False)


class ReadsUsed(TestCase):
    def test_speaks(self) -> None:
        for status, text in (
            (409, ""),
            (400, "This e-mail address is already registered"),
            (422, '{"email": ["has been taken"]}'),
            (400, "duplicate key value"),
            (403, "The voucher has been used"),
        ):
            self.assertTrue(reads_used(status, text), text)

    def test_silent(self) -> None:
        for status, text in (
            (200, "already"),
            (500, "already"),
            (404, "no such page"),
            (400, "the title is missing"),
            (401, "wrong password"),
            (400, "unused fields: readily"),
        ):
            self.assertFalse(reads_used(status, text), text)
