"""Days that come round every year."""

from datetime import date

FEBRUARY_28, MARCH_FIRST = "28 February", "1 March"


def kept_on(day: date, leap_day: str = FEBRUARY_28) -> list[tuple[int, int]]:
    """(month, day) of the yearly dates kept on a day: in common years 29 February falls on 28 February or 1
    March, as the shop has set it (rules of the job, section 1).
    """
    found = [(day.month, day.day)]
    is_leap = day.year % 4 == 0 and (day.year % 100 != 0 or day.year % 400 == 0)
    stand_in = (3, 1) if leap_day == MARCH_FIRST else (2, 28)
    if not is_leap and found[0] == stand_in:
        found.append((2, 29))
    return found
