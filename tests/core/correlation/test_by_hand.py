"""A strand begun by marking a value in an answer."""

from unittest import TestCase

from dynamikos.core.correlation import accept, strand_by_hand
from dynamikos.core.errors import DynamikosError
from dynamikos.core.exchanges import Recording
from dynamikos.core.journeys.from_recording import journey_from
from tests.core.correlation.recordings import SCENES, Tape, played


class ByHand(TestCase):
    def test_every_planted_value_can_be_followed_from_its_answer(self) -> None:
        """For each scene: what the search proves can also be begun by hand, with the same places
        and a proof.
        """
        from dynamikos.core.correlation import find_strands, own_origins

        tried = 0
        for name in SCENES:
            recordings = [played(name, 1).exchanges, played(name, 2).exchanges]
            for strand in find_strands(recordings):
                if (
                    strand.kind != "issued"
                    or not strand.proven
                    or strand.followed
                    or strand.origin is None
                    or strand.capture is None
                ):
                    continue
                if any(use.coding for use in strand.uses) or strand.capture.pick == "random":
                    continue  # what is wrapped when it is sent is marked as it is sent
                made = strand_by_hand(
                    recordings,
                    strand.origin.entry,
                    strand.value,
                    origins=own_origins(recordings[0]),
                )
                self.assertTrue(made.proven, (name, strand.name))
                self.assertLessEqual(
                    {(use.entry, use.place) for use in strand.uses},
                    {(use.entry, use.place) for use in made.uses},
                )
                tried += 1
        self.assertGreater(tried, 15)

    def test_accepted_into_the_journey(self) -> None:
        name = next(iter(SCENES))
        recordings = [played(name, 1).exchanges, played(name, 2).exchanges]
        from dynamikos.core.correlation import find_strands, own_origins

        origins = own_origins(recordings[0])
        strand = next(
            each
            for each in find_strands(recordings)
            if each.kind == "issued" and each.proven and not each.followed
        )
        assert strand.origin is not None
        made = strand_by_hand(
            recordings, strand.origin.entry, strand.value, origins=origins, taken=[strand.name]
        )
        self.assertNotEqual(made.name, strand.name)
        journey = journey_from(
            Recording(exchanges=tuple(recordings[0]), pages={}), "By hand", origins
        )
        changed = accept(journey, [made], recordings[0]).journey
        captured = {
            capture.name
            for _, step in changed.steps()
            for request in step.requests
            for capture in request.captures
        }
        self.assertIn(made.name, captured)

    def test_places_that_hold_a_short_value_by_chance(self) -> None:
        """With a second recording they are left out; with one alone they are listed, and not
        ticked.
        """
        tapes = [Tape("http://desk.example", seed) for seed in (1, 2)]
        for t in tapes:
            page = str(6 + t.seed)
            t.call("POST", "/pages", form={"title": "x"}, gives={"page_id": int(page)})
            t.call("GET", f"/pages/{page}", page="<p>one</p>")
            t.call("GET", "/search?rows=7&page_id=" + page, page="<p>found</p>")
        alone = strand_by_hand([tapes[0].exchanges], 0, "7", origins=["http://desk.example"])
        self.assertEqual(
            {use.place: use.sure for use in alone.uses},
            {"path 2": True, "query rows": False, "query page_id": True},
        )
        both = strand_by_hand([t.exchanges for t in tapes], 0, "7", origins=["http://desk.example"])
        self.assertEqual({use.place for use in both.uses}, {"path 2", "query page_id"})
        self.assertTrue(all(use.sure for use in both.uses))

    def test_wrong_turns(self) -> None:
        recording = played(next(iter(SCENES)), 1).exchanges
        for text, position, words in (
            ("", 0, "No value is marked"),
            ("nowhere to be found", 0, "not sent in any later request"),
            ("x", 9999, "own hosts"),
        ):
            with self.assertRaises(DynamikosError) as caught:
                strand_by_hand([recording], position, text)
            self.assertIn(words, str(caught.exception))
