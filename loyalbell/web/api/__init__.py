"""The interface for other programs, under /api/v1."""
