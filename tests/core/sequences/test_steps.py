"""What every step must have, asked of the register: a new one is covered by being in it."""

import unittest

from loyalbell.core.segments.conditions.wording import Saying
from loyalbell.core.sequences.check import check
from loyalbell.core.sequences.plan import every_step, read_plan
from loyalbell.core.sequences.plan_words import say_step
from loyalbell.core.sequences.steps import BY_DO, TYPES
from loyalbell.core.sequences.steps.base import Pick, Surroundings
from loyalbell.core.sequences.wording import Names

LEAST = {"set": {"tag": 1}}
"""What a new step needs besides ``new`` before it can be read."""


def plan_with(do: str) -> dict[str, object]:
    return {"steps": [{"do": do, "id": "a1", **BY_DO[do].new, **LEAST.get(do, {})}]}


class EveryStepTest(unittest.TestCase):
    def test_a_new_one_is_read_said_and_kept_without_loss(self) -> None:
        for do in BY_DO:
            with self.subTest(do):
                plan = read_plan(plan_with(do))
                step = plan.steps[0]
                self.assertIs(type(step), BY_DO[do].model)
                self.assertEqual(read_plan(plan.model_dump(mode="json")), plan)
                self.assertTrue(say_step(step, Names(Saying())))

    def test_what_is_still_to_be_chosen_must_be_fixed_before_it_rings(self) -> None:
        """A step whose line in the editor names something (an offer, a sequence) cannot ring without it."""
        for do, kind in BY_DO.items():
            named = [
                part
                for part in kind.sentence
                if isinstance(part, Pick) and part.of in ("offers", "sequences")
            ]
            if not named:
                continue
            with self.subTest(do):
                wrong = check(read_plan(plan_with(do)), Surroundings())
                self.assertIn(("must fix", "a1"), [(one.level, one.place) for one in wrong])

    def test_each_has_its_own_word_and_title(self) -> None:
        self.assertEqual(len(BY_DO), len(TYPES))
        self.assertEqual(len({kind.title for kind in TYPES.values()}), len(TYPES))

    def test_its_choosers_name_fields_that_it_has(self) -> None:
        for do, kind in BY_DO.items():
            for part in kind.sentence:
                if isinstance(part, Pick):
                    with self.subTest(do=do, field=part.field):
                        self.assertIn(part.field, kind.model.model_fields)

    def test_forks_hold_any_step(self) -> None:
        """Arms are lists of steps like any other: the union is put together after its parts."""
        for do in BY_DO:
            inner = {"do": do, "id": "b1", **BY_DO[do].new, **LEAST.get(do, {})}
            for fork in (
                {"do": "fork", "arms": [{"did": "got", "steps": [inner]}]},
                {"do": "lot", "arms": [{"share": 50, "steps": [inner]}, {"share": 50}]},
            ):
                with self.subTest(do=do, fork=fork["do"]):
                    plan = read_plan({"steps": [{"id": "a1", **fork}]})
                    self.assertIn("b1", [step.id for step in every_step(plan.steps)])
