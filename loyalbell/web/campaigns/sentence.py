"""What pressing *Send* does, in one sentence: to how many, when, how often, and who is held back."""

from datetime import datetime

from loyalbell.core.campaigns.plan import CampaignPlan
from loyalbell.services.campaigns.audience import Audience
from loyalbell.web.formatting import Formatter


def say_button(who: Audience, plan: CampaignPlan, rounds: list[datetime], say: Formatter) -> str:
    """``Send to 90 on Wed 20 May, 10:00; 22 held back``."""
    return f"Send {_to(len(who.reached))} {_when(plan, rounds, say)}{_held(who, ' held back')}"


def say_act(name: str, who: Audience, plan: CampaignPlan, rounds: list[datetime], say: Formatter) -> str:
    """The sentence that is asked before it is done."""
    many = len(who.reached)
    people = "1 person" if many == 1 else f"{many:,} people"
    often = ", and again on its later dates" if plan.recurs else ""
    pace = ", a few at a time" if plan.pacing else ""
    held = _held(who, " are held back to compare with")
    return f"“{name}” goes to {people} {_when(plan, rounds, say)}{often}{pace}{held}."


def _to(many: int) -> str:
    return f"to {many:,}"


def _when(plan: CampaignPlan, rounds: list[datetime], say: Formatter) -> str:
    first = rounds[0] if plan.recurs and rounds and plan.at else plan.at
    return "now" if first is None else f"on {say.plain_when(first)}"


def _held(who: Audience, words: str) -> str:
    held = sum(cause == "held back" for cause in who.left_out.values())
    return f"; {held:,}{words}" if held else ""
