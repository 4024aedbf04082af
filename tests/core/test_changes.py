"""Changes of a journey are values: the same as JSON, and each says what is wrong instead of doing
half of it.
"""

import json
import random
from pathlib import Path
from tempfile import TemporaryDirectory
from unittest import TestCase, mock

import msgspec
from click.testing import CliRunner
from msgspec.structs import replace

from dynamikos.cli.commands.change import command
from dynamikos.core.errors import DynamikosError
from dynamikos.core.journeys import changes, parse_journey, parse_shared, write_journey
from dynamikos.core.journeys.background import said
from dynamikos.core.journeys.changes import CHANGES, Change, read_change
from tests.core.test_kinds import ALL, HEAD

JOURNEY = parse_journey(ALL)
SHARED = {
    "in": parse_shared(
        "form: 1\nshared: in\nname: In\nrequests: [{request: r, address: http://x/}]"
    )
}
ONE_OF_EACH: tuple[Change, ...] = (
    changes.WriteRequest(at="ask/r", value=JOURNEY.rounds[0].requests[1]),
    changes.WriteStep(at="pause", name="Wait", does={"pause": "3"}, part="closing"),
    changes.WriteJourney(name="Other", headers=(("Accept-Language", "en"),)),
    changes.Think(at="ask", think="even", think_s=2),
    changes.ThinkAll(think="fixed", value=3),
    changes.PutColumn(value="x", name="rows.c", places=("ask/r/address",)),
    changes.Move(at="ask/s", by=1),
    changes.Place(at="log", before="ask"),
    changes.PutInto(at="log", owner="repeat"),
    changes.Split(at="ask/s"),
    changes.Merge(at="first"),
    changes.Gather(chosen=("ask/r", "ask/u"), to="first"),
    changes.Switch(at="ask/t"),
    changes.Duplicate(at="repeat"),
    changes.Remove(at="choose"),
    changes.Several(chosen=("ask/r", "log"), each="remove"),
    changes.AddStep(name="More", after="inner"),
    changes.AddItem(item="if", after="ask"),
    changes.UseShared(shared="in"),
    changes.Own(at="ask"),
    changes.Wrap(at="ask", item="repeat"),
    changes.Unwrap(at="if"),
    changes.AddBranch(at="if"),
    changes.RemoveBranch(at="choose", branch=1),
    changes.LeaveOutBackground(),
    changes.BackgroundByTime(),
)
NOW = parse_journey(
    f"""{ALL}
  - {{step: first, name: First, think_s: 1, requests: [{{request: a, address: http://x/}}]}}
  - {{step: second, name: Second, requests: [{{request: a, address: http://x/}}]}}
  - step: polls
    name: Polls
    requests:
      - {{request: poll, address: http://x/poll, note: "{said(True, 2, 4)}"}}
      - {{request: page, address: http://x/page}}
"""
)


class Values(TestCase):
    def test_each_is_there_and_the_same_as_json(self) -> None:
        self.assertEqual({type(change) for change in ONE_OF_EACH}, set(CHANGES))
        for change in ONE_OF_EACH:
            self.assertEqual(read_change(json.loads(msgspec.json.encode(change))), change)

    def test_each_does_something_and_selects_what_is_there(self) -> None:
        for change in ONE_OF_EACH:
            with self.subTest(change):
                made, at = change.apply(NOW, SHARED)
                if not isinstance(change, changes.Own):  # it uses no shared step
                    self.assertFalse(made == NOW)
                places = {step.step for _, step in made.steps()}
                places |= {f"{step.step}/{request.request}" for step, request in made.requests()}
                self.assertIn(at, {"", *places})

    def test_in_any_order_the_journey_stays_whole(self) -> None:
        chance = random.Random(5)
        made, refused = NOW, 0
        for _ in range(400):
            try:
                made = chance.choice(ONE_OF_EACH).apply(made, SHARED).journey
            except DynamikosError as problem:
                refused += 1
                self.assertGreater(len(str(problem)), 20)
            keys = [step.step for _, step in made.steps()]
            self.assertEqual(len(keys), len(set(keys)))
            if len(keys) > 60:
                made = NOW
        self.assertGreater(refused, 0)

    def test_of_any_step_and_request_it_is_made_or_refused_in_words(self) -> None:
        places = [step.step for _, step in NOW.steps()]
        places += [f"{step.step}/{request.request}" for step, request in NOW.requests()]
        made = 0
        for change in (each for each in ONE_OF_EACH if isinstance(each, changes.At)):
            for at in places:
                with self.subTest(change, at=at):
                    try:
                        after = replace(change, at=at).apply(NOW, SHARED).journey
                    except DynamikosError as problem:
                        self.assertGreater(len(str(problem)), 20)
                    else:
                        made += 1
                        self.assertEqual(parse_journey(write_journey(after)), after)
        self.assertGreater(made, len(places))

    def test_what_stands_inside_stays_when_a_step_is_written(self) -> None:
        written = changes.WriteStep(
            at="if", name="If", does={"branches": [{"when": "{{ 2 }}"}, {"name": "no"}]}
        )
        step = written.apply(JOURNEY, {}).journey.find_step("if")
        assert step is not None
        self.assertEqual([branch.when for branch in step.branches], ["{{ 2 }}", ""])
        self.assertEqual([inner.step for inner in step.branches[0].steps], ["inner-3"])

    def test_what_is_wrong_is_said(self) -> None:
        cases: tuple[tuple[object, str], ...] = (
            ({"change": "nothing"}, "There are write-request"),
            ({"change": "switch"}, "`at`"),
            ({"change": "move", "at": "ask", "by": 7}, "This is no change"),
            ([], "This is no change"),
        )
        for plain, words in cases:
            with self.subTest(plain), self.assertRaisesRegex(DynamikosError, words):
                read_change(plain)
        for change, words in (
            (changes.Switch(at="gone"), "no step 'gone'"),
            (changes.WriteStep(at="pause", name=""), "needs a name"),
            (changes.WriteStep(at="pause", name="P", does={"pause": 3}), "can't be kept"),
            (changes.WriteStep(at="pause", name="P", does={"log": "x"}), "can't be kept"),
            (
                changes.WriteStep(at="repeat", name="R", does={"steps": []}),
                "steps can't be changed",
            ),
            (
                changes.Think(at="ask", think="even", think_s=5, think_to_s=1),
                "must be more than 5 s",
            ),
            (changes.UseShared(shared="none"), "Choose a shared step"),
            (changes.RemoveBranch(at="if", branch=9), "no branch 10"),
            (changes.Wrap(at="ask", item="log"), "holds no steps"),
            (changes.Own(at="set"), "has no recorded or use"),
            (changes.AddStep(name=" "), "needs a name"),
            (changes.WriteStep(at="log", name="L", does={"log": ""}), "needs its log"),
            (changes.WriteStep(at="set", name="S", does={"set": []}), "needs its set"),
            (
                changes.WriteStep(at="call", name="C", does={"call": {"function": "NONE"}}),
                "written as module.function",
            ),
            (
                changes.WriteStep(at="if", name="I", does={"branches": [{"when": "{{ 1 }}"}]}),
                "2 branches, and 1 were",
            ),
            (
                changes.WriteStep(at="if", name="I", does={"branches": [1, 2]}),
                "branches are a list",
            ),
            (changes.ThinkAll(think="even", value=5, to=2), "must be more than 5 s"),
            (changes.PutColumn(value="", name="a.b", places=()), "which text"),
            (changes.PutColumn(value="x", name="a b", places=()), "no name of a column"),
            (
                changes.PutColumn(value="x", name="a.b", places=("ask/r/body",)),
                "not stand in ask/r/body any more",
            ),
        ):
            with self.subTest(change), self.assertRaisesRegex(DynamikosError, words):
                change.apply(JOURNEY, {})

    def test_an_empty_journey(self) -> None:
        empty = parse_journey(HEAD.replace("rounds:\n", ""))
        made, at = changes.AddStep(name="First").apply(empty, {})
        self.assertEqual((at, [step.name for _, step in made.steps()]), ("first", ["First"]))


class Shell(TestCase):
    def test_changes_of_a_file_all_or_none(self) -> None:
        with TemporaryDirectory() as folder:
            file = Path(folder) / "a.yaml"
            file.write_text(write_journey(JOURNEY))
            good = '[{"change": "switch", "at": "log"}, {"change": "remove", "at": "set"}]'
            made = CliRunner().invoke(command, [str(file), "-"], input=good)
            self.assertEqual(made.exit_code, 0, made.output)
            expected = (
                changes.Remove(at="set")
                .apply(changes.Switch(at="log").apply(JOURNEY, {}).journey, {})
                .journey
            )
            self.assertEqual(parse_journey(made.output), expected)
            self.assertEqual(parse_journey(file.read_text()), JOURNEY)
            bad = '[{"change": "switch", "at": "log"}, {"change": "remove", "at": "nowhere"}]'
            refused = CliRunner().invoke(
                command, [str(file), "-", "--in-place", "--json"], input=bad
            )
            self.assertEqual(refused.exit_code, 2)
            self.assertIn(
                "change 2: there is no step 'nowhere'", json.loads(refused.output)["problem"]
            )
            self.assertEqual(parse_journey(file.read_text()), JOURNEY)
            CliRunner().invoke(command, [str(file), "-", "--in-place"], input=good)
            self.assertEqual(parse_journey(file.read_text()), expected)
            link = Path(folder) / "link.yaml"
            link.symlink_to(file)
            with mock.patch.object(
                Path, "write_bytes", side_effect=OSError(28, "No space left on device", "a.yaml")
            ):
                full = CliRunner().invoke(
                    command,
                    [str(link), "-", "--in-place", "--json"],
                    input='{"change": "unwrap", "at": "if"}',
                )
            self.assertEqual(
                json.loads(full.output), {"problem": f"{file.resolve()}: No space left on device"}
            )
            self.assertEqual(parse_journey(file.read_text()), expected)
            CliRunner().invoke(
                command, [str(link), "-", "--in-place"], input='{"change": "switch", "at": "log"}'
            )
            self.assertEqual(
                parse_journey(file.read_text()),
                changes.Switch(at="log").apply(expected, {}).journey,
            )
            self.assertEqual(
                {each.name for each in Path(folder).iterdir()}, {"a.yaml", "link.yaml"}
            )
            self.assertTrue(link.is_symlink())
            file.write_text("form: 1\njourney: j\nname: J\nrounds: 3\n")
            where = json.loads(
                CliRunner().invoke(command, [str(file), "-", "--json"], input=good).output
            )
            self.assertEqual((where["file"], where["line"]), ("a.yaml", 4))
