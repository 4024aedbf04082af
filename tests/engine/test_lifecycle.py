"""Where a user stands: every pair of phases, the requests to leave, and what it is counted as."""

from itertools import product

from django.test import SimpleTestCase

from dynamikos.engine.reporting.recorder import Recorder
from dynamikos.engine.users.lifecycle import COUNTED, FOLLOWS, Leaving, Lifecycle, Phase
from dynamikos.engine.users.manner import Manner
from dynamikos.engine.users.patience import Patience


def there(recorder: Recorder) -> dict[str, int]:
    """Users by what they are counted as."""
    return {name: count for name, count in recorder.users.items() if count}


WAYS = {
    Phase.NEW: (),
    Phase.OPENING: (Phase.OPENING,),
    Phase.BETWEEN: (Phase.OPENING, Phase.BETWEEN),
    Phase.ROUND: (Phase.OPENING, Phase.BETWEEN, Phase.ROUND),
    Phase.CLOSING: (Phase.OPENING, Phase.BETWEEN, Phase.CLOSING),
    Phase.OVER: (Phase.OPENING, Phase.OVER),
}


def life_in(phase: Phase) -> tuple[Lifecycle, Recorder]:
    recorder = Recorder(0, 0.0)
    life = Lifecycle(recorder, 0)
    for step in WAYS[phase]:
        life.enter(step)
    return life, recorder


class Phases(SimpleTestCase):
    def test_each_pair_of_phases_is_allowed_or_refused(self) -> None:
        for old, new in product(Phase, Phase):
            with self.subTest(old=old, new=new):
                life, _ = life_in(old)
                if new in FOLLOWS[old]:
                    life.enter(new)
                    self.assertIs(life.phase, new)
                else:
                    with self.assertRaises(AssertionError):
                        life.enter(new)
                    self.assertIs(life.phase, old)

    def test_a_user_is_counted_once_in_each_phase_and_nowhere_before_and_after(self) -> None:
        for phase in Phase:
            life, recorder = life_in(phase)
            with self.subTest(phase):
                self.assertEqual(there(recorder), {COUNTED[phase]: 1} if COUNTED[phase] else {})
                if phase in (Phase.NEW, Phase.OVER):
                    continue
                life.think()
                self.assertEqual(there(recorder), {"thinking": 1})
                life.thought()
                self.assertEqual(there(recorder), {COUNTED[phase]: 1})


class Departures(SimpleTestCase):
    def test_after_the_round_means_now_where_there_is_none(self) -> None:
        for phase in Phase:
            life, _ = life_in(phase)
            life.ask(Leaving.AFTER_ROUND)
            with self.subTest(phase):
                self.assertEqual(life.leaving, phase is not Phase.ROUND)
                self.assertTrue(life.is_last_round)
                self.assertFalse(life.cuts_short)

    def test_a_gentle_end_is_not_taken_back_by_a_later_request(self) -> None:
        life, _ = life_in(Phase.ROUND)
        life.ask(Leaving.AFTER_ROUND)
        life.ask(Leaving.GENTLY)
        self.assertTrue(life.cuts_short)
        life.ask(Leaving.AFTER_ROUND)
        self.assertTrue(life.cuts_short)
        life.ask(Leaving.NOT)
        self.assertTrue(life.leaving)


class Patiences(SimpleTestCase):
    def test_reloads_are_counted_for_each_step_of_each_round(self) -> None:
        patience = Patience(Manner(patience_s=2.0, reloads=2))
        asked = [(1, 4), (1, 4), (1, 5), (2, 4), (2, 4)]
        self.assertTrue(all(patience.reloads(*each) for each in asked))
        self.assertFalse(patience.has_left)
        self.assertFalse(patience.reloads(2, 4))
        self.assertTrue(patience.has_left)

    def test_without_reloads_the_first_time_is_the_last(self) -> None:
        patience = Patience(Manner(patience_s=2.0))
        patience.run_out()
        self.assertTrue(patience.is_over)
        self.assertFalse(patience.reloads(1, 0))
        self.assertFalse(patience.is_over)
        self.assertTrue(patience.has_left)
