"""Backups of the book: made by hand and by the clock, looked at, and restored."""
