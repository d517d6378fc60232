"""A tick that looks at people together does what one does that looks at each alone: all that is held against
the tick, once more with everybody in groups.
"""

from unittest.mock import patch

from loyalbell.core.sequences.together import looks
from loyalbell.services.sequences import engine_batch
from tests.services.sequences import test_place_waits, test_rehearsal_agrees, test_runner, test_set_aside
from tests.support import ApplicationCase


class _InGroups(ApplicationCase):
    def setUp(self) -> None:
        super().setUp()
        for module, name, value in (
            (engine_batch, "FEW", 0),
            (looks, "FEW", 0),
            (looks, "ALIKE", 1),
            (looks, "MANY", 1),
        ):
            fixed = patch.object(module, name, value)
            fixed.start()
            self.addCleanup(fixed.stop)


class RingingTogether(_InGroups, test_runner.RingingTest):
    pass


class SetAsideTogether(_InGroups, test_set_aside.SetAsideTest):
    pass


class PlaceWaitsTogether(_InGroups, test_place_waits.PlaceWaitsTest):
    pass


class AgreeTogether(_InGroups, test_rehearsal_agrees.AgreeTest):
    pass
