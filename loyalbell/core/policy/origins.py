"""What a delivery comes from."""

CAMPAIGN, SEQUENCE = "campaign", "sequence"
ANSWER, PROOF, CONFIRMATION = "answer", "proof", "confirmation"
TO_ONE = (ANSWER, PROOF, CONFIRMATION)
"""Written to one address for its own sake: consent to marketing is not asked, suppression is."""

Origin = tuple[str, int]
"""What sends messages: ``campaign`` or ``sequence``, and its number."""
