"""The catalogue: what is sold."""
