"""What holds where the shop has set nothing else. Light, as settings are read everywhere."""

WINDOW_DAYS = 5
"""An order follows a message within so many days (rules of the job, section 7)."""
WORTH = 0.015
"""A difference of shares worth having: 15 people of 1,000 (a decision of ours)."""
