"""Connections that carry many exchanges at once: how a user takes their slots, and what closing one
ends.
"""

from unittest import TestCase

from dynamikos.engine.testing import Scripted, answer
from tests.engine.support import BASE, frozen, perform, step, totals

SIX = """rounds:
  - step: s
    name: S
    at_once: true
    requests:
"""
SIX += "".join(f'      - {{request: q{n}, address: "{BASE}/q{n}"}}\n' for n in range(6))


def quick(data: bytes) -> Scripted:
    return Scripted(answer(b"fine"), 0.1)


class Slots(TestCase):
    def test_requests_one_after_the_other_share_one_slot(self) -> None:
        made = frozen(f"rounds:\n{step('s', f'request: a{chr(10)}address: {BASE}/a')}", hold_s=3)
        _, sink, network = perform(made, quick, slots=4)
        self.assertEqual(len(network.opened), 1)
        self.assertEqual(len(network.channels[0].links), 1)
        self.assertGreater(len(network.requests), 20)
        self.assertEqual(sum(each.failed for each in sink.messages), 0)

    def test_those_at_once_fill_channels_that_are_used_again(self) -> None:
        """What is asked for while a channel is being opened opens another, as browsers do;
        afterwards none is.
        """
        made = frozen(SIX, hold_s=3)
        _, sink, network = perform(made, quick, slots=4)
        opened = len(network.opened)
        self.assertLessEqual(opened, 6)
        self.assertEqual(len(network.requests) % 6, 0)
        self.assertGreater(len(network.requests), 6 * 20)
        self.assertEqual(sum(each.failed for each in sink.messages), 0)
        self.assertEqual(totals(made, sink).failed, 0)

    def test_a_later_request_takes_a_slot_where_there_is_one(self) -> None:
        lines = step("one", f"request: a\naddress: {BASE}/a") + SIX.removeprefix("rounds:\n")
        _, _, network = perform(frozen("rounds:\n" + lines, hold_s=3), quick, slots=6)
        self.assertEqual(len(network.opened), 1)
        self.assertEqual(len(network.channels[0].links), 6)

    def test_a_channel_that_is_closed_is_given_up(self) -> None:
        def closing(data: bytes) -> Scripted:
            return Scripted(answer(b"fine", headers="Connection: close\r\n"), 0.1)

        made = frozen(f"rounds:\n{step('s', f'request: a{chr(10)}address: {BASE}/a')}", hold_s=3)
        _, sink, network = perform(made, closing, slots=1)
        # each slot is spent with its exchange, and a free one takes its place on the same channel
        self.assertEqual(len(network.opened), 1)
        self.assertEqual(sum(each.failed for each in sink.messages), 0)

    def test_whoever_leaves_closes_the_channels_too(self) -> None:
        made = frozen(f"rounds:\n{step('s', f'request: a{chr(10)}address: {BASE}/a')}", hold_s=2)
        _, _, network = perform(made, quick, slots=4)
        self.assertFalse(network.channels[0].alive)
