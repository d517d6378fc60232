"""Messages of one kind, as a line of a table."""

from dataclasses import dataclass

FEWEST = 20
"""Below so many messages a share says nothing (a decision of ours)."""


@dataclass(frozen=True)
class Part:
    """Messages of one kind: how many were delivered, clicked, and led to orders."""

    name: str
    delivered: int
    clicked: int
    orders: int

    @property
    def clicked_share(self) -> float | None:
        return self.clicked / self.delivered if self.delivered >= FEWEST else None
