"""A fortnight on the demo while its mail server misbehaves."""
