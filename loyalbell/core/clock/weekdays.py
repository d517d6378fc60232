"""Weekdays as they are typed: ``mon-fri``, ``tue,thu``."""

WEEKDAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")


def read_weekdays(text: str) -> tuple[int, ...]:
    """Numbers from 0, Monday; a range may go over the week's end. Raises ``ValueError``."""
    found: set[int] = set()
    for part in text.lower().replace(" ", "").split(","):
        first, _, last = part.partition("-")
        if first not in WEEKDAYS or (last and last not in WEEKDAYS):
            raise ValueError(f"“{part}” is no weekday; write them like mon-fri or tue,thu")
        low, high = WEEKDAYS.index(first), WEEKDAYS.index(last or first)
        found |= {at % 7 for at in range(low, (high if high >= low else high + 7) + 1)}
    return tuple(sorted(found))
