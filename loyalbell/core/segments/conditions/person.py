"""Name, place, language, and since when somebody is a customer."""

from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from loyalbell.core.history.columns import Ints, Mask
from loyalbell.core.history.visits import local_days
from loyalbell.core.segments.conditions.base import ConditionType
from loyalbell.core.segments.conditions.measuring import COMPARE, read_number
from loyalbell.core.segments.conditions.wording import Saying, join
from loyalbell.core.segments.evaluation_context import EvaluationContext
from loyalbell.core.segments.periods import Part
from loyalbell.core.segments.problems import RuleProblem

PERSON_FACTS = {
    "city": "city",
    "region": "region",
    "postal_code": "postal code",
    "language": "language",
    "first_name": "first name",
    "last_name": "last name",
    "email": "email",
    "phone": "mobile phone",
}


class PersonCondition(Part):
    """Something on file about the person.

    ``since``: days since they became a customer, ``value`` as a number.
    """

    about: Literal["person"] = "person"
    fact: Literal[
        "city", "region", "postal_code", "language", "first_name", "last_name", "since", "email", "phone"
    ]
    comparison: Literal[
        "is", "is not", "begins with", "at least", "at most", "exactly", "is known", "is not known"
    ] = "is known"
    value: Annotated[str, Field(max_length=200)] = ""


def meets(line: PersonCondition, context: EvaluationContext) -> Mask:
    people = context.snapshot.people
    if line.fact in ("email", "phone"):
        has: Mask = people.has_address[:, 0 if line.fact == "email" else 1]
        return has if line.comparison != "is not known" else ~has
    if line.fact == "since":
        return _since(line, context)
    codes = people.words_of(line.fact)
    known: Mask = codes > 0
    if line.comparison in ("is known", "is not known"):
        return known if line.comparison == "is known" else ~known
    wanted = line.value.casefold()
    used: Ints = np.unique(codes[known])
    said = {int(code): context.snapshot.words.said[int(code)].casefold() for code in used}
    if line.comparison in ("is", "is not"):
        met = np.isin(codes, [code for code, word in said.items() if word == wanted])
        return met if line.comparison == "is" else known & ~met
    if line.comparison == "begins with":
        return np.isin(codes, [code for code, word in said.items() if word.startswith(wanted)])
    raise RuleProblem(f"“{line.comparison}” cannot be asked of this")


def _since(line: PersonCondition, context: EvaluationContext) -> Mask:
    joined = context.joined
    known = joined > -(2**61)
    if line.comparison not in ("at least", "at most", "exactly"):
        raise RuleProblem(f"“{line.comparison}” cannot be asked of days")
    days = np.zeros(context.size, dtype=np.int64)
    here = known & (joined <= context.now)
    days[here] = context.today - local_days(joined[here], context.snapshot.zone)
    met: Mask = here & COMPARE[line.comparison](days, read_number(line.value))
    return met


def say(line: PersonCondition, saying: Saying) -> str:
    if line.fact == "since":
        return f"have been customers for {line.comparison} {line.value} days"
    name = PERSON_FACTS[line.fact]
    return join(
        f"have {'an' if name[0] in 'aeiou' else 'a'} {name} that {line.comparison}",
        line.value if "known" not in line.comparison else "",
    )


def fact(line: PersonCondition, context: EvaluationContext, number: int, saying: Saying) -> str:
    if line.fact != "since":
        codes = context.snapshot.people.words_of(line.fact) if line.fact not in ("email", "phone") else None
        return "" if codes is None else context.snapshot.words.said[int(codes[number])] or "not known"
    return ""


CONDITION = ConditionType(PersonCondition, meets, say, fact=fact)
