"""A process that was stopped for so long that others took it for lost sends nothing when it
wakes.
"""

import asyncio
import math
from unittest import TestCase

from dynamikos.engine.pulse import Pulse
from dynamikos.engine.runner import Control
from dynamikos.engine.testing import Scripted
from tests.engine.support import frozen, ok, perform, step
from tests.engine.test_walking import get


class Beats(TestCase):
    def test_once_it_was_away_for_too_long_it_is_never_again_what_others_take_it_for(self) -> None:
        told: list[bool] = []
        pulse = Pulse(4.0, lambda: told.append(True))
        pulse.at = 10.0
        self.assertTrue(pulse.beats(13.9))
        self.assertTrue(pulse.beats(17.8))
        self.assertFalse(pulse.beats(21.9))
        self.assertFalse(pulse.beats(21.95))
        self.assertEqual(told, [True])
        self.assertTrue(Pulse().beats(1e9))
        self.assertTrue(math.isinf(Pulse().limit_s))

    def test_a_shard_that_wakes_after_the_loss_time_sends_nothing_and_says_that_it_is_lost(
        self,
    ) -> None:
        def loses(control: Control) -> None:
            control.loss_s = 4.0

        made = frozen("rounds:\n" + step("a", get("a"), think_s=0.5), users=5, hold_s=60)
        sent: list[float] = []

        def answered(data: bytes) -> Scripted:
            now = asyncio.get_running_loop().time()
            sent.append(now)
            if len(sent) == 100:
                asyncio.get_running_loop()._virtual.virtual += 9  # type: ignore[attr-defined]  # stopped for 9 s
            return ok(data)

        ended, _, _ = perform(made, answered, control=loses)
        self.assertEqual((ended, len(sent)), ("lost", 100))
        sent.clear()
        ended, _, _ = perform(made, answered)  # from files nobody takes it for lost
        self.assertEqual(ended, "finished")
        self.assertGreater(len(sent), 300)
