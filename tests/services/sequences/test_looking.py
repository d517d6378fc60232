"""Who crossed a start line is found while the one writer is free; a change in between is looked at anew."""

from typing import Any
from unittest.mock import patch

from loyalbell.services.scheduler import tick
from loyalbell.services.sequences import pausing, runner
from tests.services.delivery.test_claiming import writer_is_free
from tests.services.sequences.test_runner import AFTER_AN_ORDER, HOUR, SequenceCase


class LookingTest(SequenceCase):
    def ring_once(self) -> int:
        made = self.ring({"start": AFTER_AN_ORDER, "steps": [self.message("m")]})
        self.add_order(self.add_person(), 0)
        self.clock.move_on(HOUR)
        return made

    def test_the_writer_is_free_meanwhile(self) -> None:
        self.ring_once()
        free = []
        cross = runner.crossings

        def crossed(*args: Any) -> Any:
            free.append(writer_is_free(self.application))
            return cross(*args)

        with patch.object(runner, "crossings", crossed):
            tick(self.application, self.sender)
        self.assertTrue(free and all(free))
        self.assertEqual(len(self.deliveries("sent")), 1)

    def test_paused_in_between_nobody_comes_in_and_nobody_is_lost(self) -> None:
        made = self.ring_once()
        cross = runner.crossings

        def crossed(*args: Any) -> Any:
            found = cross(*args)
            pausing.pause(self.application, made, "Ida")
            return found

        with patch.object(runner, "crossings", crossed):
            tick(self.application, self.sender)
        self.assertEqual(self.enrolments(), [])
        pausing.resume(self.application, made, still_wanted=True, let_in=True, by="Ida")
        self.walk(HOUR)
        self.assertEqual(len(self.deliveries("sent")), 1)
