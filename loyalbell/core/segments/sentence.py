"""A rule as an English sentence, in the words of the editor."""

from loyalbell.core.segments.conditions import say_condition
from loyalbell.core.segments.conditions.wording import Saying
from loyalbell.core.segments.model import Group, Rule

MATCH_WORDS = {"all": "meet all of these", "any": "meet any of these", "none": "meet none of these"}


def say_group(group: Group, saying: Saying) -> str:
    joiner = " and " if group.match == "all" else " or "
    said = [
        f"({say_group(line, saying)})" if isinstance(line, Group) else say_condition(line, saying)
        for line in group.lines
    ]
    body = joiner.join(said) or "are on file"
    return f"meet none of these: {body}" if group.match == "none" and said else body


def say_rule(rule: Rule, saying: Saying) -> str:
    """The whole rule: ``Customers who have ordered at least once ever and ...``."""
    return f"Customers who {say_group(rule.root, saying)}"
