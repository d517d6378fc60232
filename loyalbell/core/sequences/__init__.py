"""Sequences: their plan, what starts and stops them, one step at a time, and their rehearsal."""
