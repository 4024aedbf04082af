"""What a generator is called with: a place that can't be kept, or a distance that is none, is said
before it starts.
"""

from unittest import TestCase
from unittest.mock import patch

from click.testing import CliRunner

from dynamikos.cli.commands.generator import LONGEST, command


class Called(TestCase):
    def test_places_and_distances_that_are_none(self) -> None:
        for words, said in (
            (["--place", ""], "1 to 60 signs"),
            (["--place", " "], "1 to 60 signs"),
            (["--place", "x" * (LONGEST + 1)], "1 to 60 signs"),
            (["--place", "a\nb"], "1 to 60 signs"),
            (["--distance-ms", "-1"], "--distance-ms"),
            (["--distance-ms", "far"], "not a valid float"),
            (["--distance-ms", "10001"], "--distance-ms"),
        ):
            with self.subTest(words), patch("dynamikos.fleet.generator.serve") as serve:
                done = CliRunner().invoke(command, words)
                self.assertEqual(done.exit_code, 2, done.output)
                self.assertIn(said, done.output)
                serve.assert_not_called()
